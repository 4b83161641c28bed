"""One job with what each of its stops knows. It lives as long as it is in front, or as anything of it runs."""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal

from neogenesis.app.decide.model import DecideModel
from neogenesis.app.desk.bench import Bench
from neogenesis.app.desk.session import Session
from neogenesis.app.first_boot.model import FirstBootModel
from neogenesis.app.first_boot.run_in_model import RunInModel
from neogenesis.app.fit.model import FitModel
from neogenesis.app.handover.model import HandoverModel
from neogenesis.app.intake.model import IntakeModel
from neogenesis.app.keep.model import KeepModel
from neogenesis.app.plan.model import PlanModel
from neogenesis.app.quote.model import QuoteModel
from neogenesis.app.survey.looks import LooksModel
from neogenesis.app.survey.model import SurveyModel
from neogenesis.app.survey.others import OthersModel
from neogenesis.app.swap.model import SwapModel
from neogenesis.app.transfer.model import TransferModel

#: The models of an open job, as they are told by `OpenJob.changed`.
PARTS = (
    "intake",
    "survey",
    "looks",
    "others",
    "plan",
    "decide",
    "fit",
    "quote",
    "swap",
    "run_in",
    "first_boot",
    "transfer",
    "handover",
    "keep",
)


class OpenJob(Session):
    """Holds the models of the stops, each given those that it builds upon.

    `changed` tells which of them is another one: a name of `PARTS`, or `job` for the record of the job itself. `ended`
    tells how work came to its end.
    """

    changed = pyqtSignal(str)
    ended = pyqtSignal(str)

    def __init__(self, bench: Bench, ticket: str) -> None:
        super().__init__(bench, ticket)
        self.survey = SurveyModel(self)
        self.intake = IntakeModel(self, self.survey)
        self.looks = LooksModel(self, self.survey, self.intake)
        self.others = OthersModel(self, self.survey)
        self.plan = PlanModel(self, self.survey, self.intake)
        self.decide = DecideModel(self, self.survey, self.intake, self.plan, self.looks)
        self.quote = QuoteModel(self, self.survey, self.intake, self.decide)
        self.fit = FitModel(self, self.survey, self.intake, self.decide)
        self.swap = SwapModel(self, self.intake, self.decide, self.fit)
        self.run_in = RunInModel(self, self.looks, self.fit)
        self.first_boot = FirstBootModel(self, self.intake, self.decide, self.plan, self.run_in)
        self.transfer = TransferModel(self, self.plan)
        self.handover = HandoverModel(self, self.plan, self.intake)
        self.keep = KeepModel(self)
        self.decide.docked = self.fit.judge_docked
        self.transfer.busy_elsewhere = lambda: self.keep.is_active
        self.keep.busy_elsewhere = lambda: self.transfer.is_active
        self.plan.filed.connect(self.transfer.plan_written)
        if self.survey.record is not None:
            self.learn("old", self.survey.record.drive)
        if self.plan.written is not None and self.plan.written.target.drive is not None:
            self.learn("new", self.plan.written.target.drive)
        for what in PARTS:
            getattr(self, what).changed.connect(lambda what=what: self.changed.emit(what))
        self.transfer.ended.connect(self.ended)
        self.keep.ended.connect(self.ended)
        bench.jobs_changed.connect(self._job_changed)

    @property
    def is_busy(self) -> bool:
        """Whether anything is under way that must be heard to its end."""
        looking = self.looks.is_busy or bool(self.others.reading) or self.first_boot.is_busy or self.run_in.is_busy
        return looking or self.survey.reading or self.plan.reading or self.transfer.is_active or self.keep.is_active

    def hear_others(self) -> None:
        """Another window or a command wrote: plan, transfer and other works are looked at anew."""
        self.plan.reload()
        self.transfer.look_again()
        self.keep.look_again()
        self.first_boot.look_again()

    def _job_changed(self) -> None:
        self.changed.emit("job")

    def close(self) -> None:
        """Let go of what is being watched; a transfer that runs goes on."""
        self.bench.jobs_changed.disconnect(self._job_changed)
        self.intake.close()
        self.transfer.close()
        self.swap.close()
        self.run_in.close()
        self.first_boot.close()
        self.keep.close()

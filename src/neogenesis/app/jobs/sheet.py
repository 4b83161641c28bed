"""The sheet on which a job is taken in or changed."""

from __future__ import annotations

from collections.abc import Callable

import msgspec
from PyQt6.QtWidgets import QDialog, QWidget

from neogenesis.app.language import tr
from neogenesis.app.parts.controls import button, row, stack
from neogenesis.app.parts.form import Form, MomentField, TextField
from neogenesis.core.errors import NeogenesisError
from neogenesis.core.job import Job

_NAMES = ("ticket", "customer", "contact", "machine", "wish", "promise")


class JobSheet(QDialog):
    """Takes in a machine, or changes what is known of one. Where `take` refuses, its sentence is shown."""

    def __init__(self, parent: QWidget, take: Callable[[Job], None], job: Job | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle(tr("New job") if job is None else tr("Change {0}").format(job.ticket))
        self._take = take
        self._place = {"stop": "intake"} if job is None else {"stop": job.stop}
        ticket = TextField("ticket", tr("Ticket"), tr("the number on the tag"))
        self.form = Form(
            (
                ticket,
                TextField("customer", tr("Customer")),
                TextField("contact", tr("Reached by"), tr("telephone or mail")),
                TextField("machine", tr("Machine"), tr("maker and model from the plate")),
                TextField("wish", tr("What the customer wants")),
                MomentField("promise", tr("Promised for"), tr("Day and time of the promise")),
            )
        )
        if job is not None:
            self.form.show_values({name: getattr(job, name) for name in _NAMES})
            ticket.lock()
        done = button(tr("Take in") if job is None else tr("Change"), self._done, "main")
        done.setDefault(True)
        self.setLayout(stack(self.form, row(None, button(tr("Cancel"), self.reject), done), gap=14, margin=20))

    @property
    def ticket(self) -> str:
        return self.form.fields["ticket"].raw().strip()

    def _done(self) -> None:
        values = self.form.values()
        if values is None:
            return
        try:
            self._take(msgspec.convert(values | self._place, Job))
        except NeogenesisError as error:
            self.form.say_fault(error.sentence())
        else:
            self.accept()

"""The Survey stop, as the window knows it."""

from __future__ import annotations

from typing import TYPE_CHECKING

from neogenesis.app.language import mark
from neogenesis.app.parts.stop import Marks, StopSpec, serious

if TYPE_CHECKING:
    from neogenesis.app.desk.open_job import OpenJob
    from neogenesis.app.survey.view import SurveyView

_HELP = (
    mark(
        "The old drive is opened so that it cannot be written to, and read once: table, volumes, how full they are, "
        "systems, health."
    ),
    mark(
        "The column shows the drive from its first byte at the top to its last at the bottom. The level inside a "
        "stratum shows how full it is; two strokes at its edge say that it is drawn taller than its share, and the "
        "thin line beside the column shows everything to scale."
    ),
    mark("Up and Down choose a partition. Every figure can be selected and copied."),
    mark("A finding with an octagon stands in the way of a copy; a triangle asks for care."),
)


def _marks(desk: OpenJob) -> Marks | None:
    survey = desk.survey.record
    return serious(finding.severity for finding in survey.findings) if survey is not None else None


def _view() -> type[SurveyView]:
    from neogenesis.app.survey.view import SurveyView

    return SurveyView


SPEC = StopSpec(
    "survey",
    _view,
    next_step="Seal and survey the old drive",
    help=_HELP,
    marks=_marks,
)

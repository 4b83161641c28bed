"""The Handover stop, as the window knows it."""

from __future__ import annotations

from typing import TYPE_CHECKING

from neogenesis.app.language import mark
from neogenesis.app.parts.stop import StopAction, StopSpec

if TYPE_CHECKING:
    from neogenesis.app.handover.view import HandoverView

_HELP = (
    mark(
        "The report is made from the job's records alone. “Write report” makes a PDF in the job's folder, with the "
        "picture of the plan and the checksum of the manifest."
    ),
    mark("Write down how long a start took before and takes now, as the median of a few runs."),
)


def _view() -> type[HandoverView]:
    from neogenesis.app.handover.view import HandoverView

    return HandoverView


SPEC = StopSpec(
    "handover",
    _view,
    next_step="Hand over",
    help=_HELP,
    actions=(
        StopAction(
            "report", "Write report", "Ctrl+R", lambda view: view.write_report(), lambda view: view.can_report()
        ),
    ),
)

"""The Decide stop, as the window knows it."""

from __future__ import annotations

from typing import TYPE_CHECKING

from neogenesis.app.language import mark
from neogenesis.app.parts.stop import Marks, StopAction, StopSpec

if TYPE_CHECKING:
    from neogenesis.app.decide.view import DecideView
    from neogenesis.app.desk.open_job import OpenJob

_HELP = (
    mark("Each lane is a way. Solid is time with hands on it, pale runs alone, a ring is an opening of the machine."),
    mark("The line below a lane shows how long it takes 8 times of 10. Money is for one seat, parts and labour."),
    mark("Up and Down choose a way. One that is not recommended needs a reason, which the logbook keeps."),
    mark("Beside the lanes stands what would change the choice; labour and prices move everything at once."),
)


def _marks(desk: OpenJob) -> Marks | None:
    return ("caution", 1) if desk.decide.is_out_of_date and not desk.job.closed else None


def _view() -> type[DecideView]:
    from neogenesis.app.decide.view import DecideView

    return DecideView


SPEC = StopSpec(
    "decide",
    _view,
    next_step="Decide which way to go",
    help=_HELP,
    marks=_marks,
    actions=(
        StopAction("figures", "Where the figures come from", "Ctrl+Shift+F", lambda view: view.show_figures()),
        StopAction("quote", "Quote for the customer", "Ctrl+Shift+Q", lambda view: view.show_quote()),
        StopAction("fleet", "The same for many machines", "Ctrl+Shift+M", lambda view: view.show_fleet()),
        StopAction("past", "What this shop's own jobs say", "Ctrl+Shift+H", lambda view: view.show_past()),
    ),
)

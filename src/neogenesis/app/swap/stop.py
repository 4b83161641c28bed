"""The Swap stop, as the window knows it."""

from __future__ import annotations

from typing import TYPE_CHECKING

from neogenesis.app.language import mark
from neogenesis.app.parts.stop import Marks, StopAction, StopSpec

if TYPE_CHECKING:
    from neogenesis.app.desk.open_job import OpenJob
    from neogenesis.app.swap.view import SwapView

_HELP = (
    mark("One key leads through all of it: Space, or a key or foot pedal that was learned. Backspace goes back."),
    mark("Each press counts one fastener; Return counts all of this step. The tray is drawn as the machine lies."),
    mark(
        "M: one is missing. W: something is wrong. P: a photograph, shown again at closing. L: leave the rest for now."
    ),
    mark("The shape tells the length, the sign the driver's head; a ring around it says that it is odd."),
    mark("Nothing is finished while something is left in the tray, unless it is named with a reason."),
    mark("It may be closed at any time: everything is where it was."),
)


def _marks(desk: OpenJob) -> Marks | None:
    """A machine that lies open is seen from every stop."""
    guide = desk.swap.guide
    if guide is not None and guide.where.stopped:
        return ("stop", 1)
    left = len(guide.left_over) if guide is not None and guide.is_through and not guide.where.finished else 0
    return ("caution", left) if left else None


def _view() -> type[SwapView]:
    from neogenesis.app.swap.view import SwapView

    return SwapView


SPEC = StopSpec(
    "swap",
    _view,
    next_step="Exchange the drives",
    help=_HELP,
    actions=(
        StopAction("wrong", "Something is wrong", "Ctrl+Shift+W", lambda view: view.wrong.click()),
        StopAction("missing", "A fastener is missing", "Ctrl+Shift+X", lambda view: view.missing.click()),
        StopAction("steps", "Steps and fasteners of the machine", "Ctrl+Shift+Y", lambda view: view.edit_profile()),
        StopAction("second", "The guide on a second screen", "Ctrl+Shift+U", lambda view: view.show_second()),
        StopAction("mat", "Print the tray as a paper mat", "Ctrl+Shift+T", lambda view: view.start.save_paper("mat")),
        StopAction("sheet", "Print the steps", "Ctrl+Shift+S", lambda view: view.start.save_paper("steps")),
        StopAction("label", "Print the old drive's label", "Ctrl+Shift+J", lambda view: view.start.save_paper("label")),
    ),
    marks=_marks,
)

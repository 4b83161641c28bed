"""The Fit stop, as the window knows it."""

from __future__ import annotations

from typing import TYPE_CHECKING

from neogenesis.app.language import mark
from neogenesis.app.parts.stop import StopAction, StopSpec

if TYPE_CHECKING:
    from neogenesis.app.fit.view import FitView

    pass

_HELP = (
    mark(
        "A ring fits, a ring with a dot fits with something beside it, a filled one is in the set, a dash does not fit."
    ),
    mark("Arrow keys go through the table; Space or Return puts a part into a bay or takes it out again."),
    mark("The drawing is to scale, heights larger where it says so. Plus and minus zoom, R lays a ruler on it."),
    mark(
        "Each mark of the plot is a set that no other beats; its shape tells how long a start takes. "
        "Left and Right go along."
    ),
    mark("Compare with the machine's own manual before parts are ordered: a profile may be wrong."),
)


def _view() -> type[FitView]:
    from neogenesis.app.fit.view import FitView

    return FitView


SPEC = StopSpec(
    "fit",
    _view,
    next_step="Choose the parts that fit",
    help=_HELP,
    actions=(
        StopAction("lists", "Lists of what must be at hand", "Ctrl+Shift+L", lambda view: view.show_lists()),
        StopAction("profile", "Change a profile", "Ctrl+Shift+E", lambda view: view.edit_profile()),
        StopAction("bring", "Bring profiles from a file", "Ctrl+Shift+O", lambda view: view.bring()),
    ),
)

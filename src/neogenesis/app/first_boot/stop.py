"""The First boot stop, as the window knows it."""

from __future__ import annotations

from typing import TYPE_CHECKING

from neogenesis.app.language import mark
from neogenesis.app.parts.stop import Marks, StopAction, StopSpec, serious

if TYPE_CHECKING:
    from neogenesis.app.desk.open_job import OpenJob
    from neogenesis.app.first_boot.view import FirstBootView

_HELP = (
    mark("The chain is worked out from the bytes on the drives: nothing is started, nothing is written."),
    mark("A remedy says what it changes before it is done. What stood there is kept, and can be put back."),
    mark("A trial starts the drives in an emulated machine, on overlays that are thrown away."),
    mark("A run-in measures what the new drive gives, on a scratch file on one of its volumes that goes away again."),
    mark("The machine's own list of boot entries is pasted, dropped or put together by hand; the forecast follows it."),
)


def _marks(desk: OpenJob) -> Marks | None:
    look = desk.first_boot.look
    if look is None:
        return None
    return ("stop", 1) if look.forecast.starts is False else serious(f.severity for f in look.forecast.findings)


def _view() -> type[FirstBootView]:
    from neogenesis.app.first_boot.view import FirstBootView

    return FirstBootView


SPEC = StopSpec(
    "first-boot",
    _view,
    next_step="Start the machine",
    help=_HELP,
    actions=(
        StopAction("look-again", "Look again at what would start", "Ctrl+Shift+A", lambda view: view.again.click()),
        StopAction(
            "afterwards",
            "What follows a clean system",
            "Ctrl+Shift+N",
            lambda view: view.after.click(),
            lambda view: view.after.isVisible(),
        ),
        StopAction(
            "stopwatch", "Stopwatch: how long a start takes now", "Ctrl+Shift+G", lambda view: view.show_stopwatch()
        ),
        StopAction("run-in", "What the new drive gives", "Ctrl+Shift+R", lambda view: view.show_run_in()),
        StopAction("entries", "The machine's own boot entries", "Ctrl+Shift+B", lambda view: view.entries.click()),
        StopAction("trial", "Try it in an emulated machine", "Ctrl+Shift+D", lambda view: view.trial.click()),
    ),
    marks=_marks,
)

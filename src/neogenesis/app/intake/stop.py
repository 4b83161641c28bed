"""The Intake stop, as the window knows it."""

from __future__ import annotations

from typing import TYPE_CHECKING

from neogenesis.app.language import mark
from neogenesis.app.parts.stop import Marks, StopAction, StopSpec, serious

if TYPE_CHECKING:
    from neogenesis.app.desk.open_job import OpenJob
    from neogenesis.app.intake.view import IntakeView

_HELP = (
    mark("Type along with the call, in any order. Each key that is pressed is kept; nothing must be finished."),
    mark(
        "What must survive lies on three shores: only on this machine, said to be elsewhere, seen elsewhere by you. "
        "Left and Right move a thing. What was only said closes a gate where something is cleared or left behind."
    ),
    mark("What is still to ask stands beside the page; Ctrl+J goes to the next of it."),
    mark("F5 is the stopwatch: with the power button, at the log-in screen, and when the machine can be used."),
    mark("Never write down a key or a password. The lines refuse what looks like one."),
)


def _marks(desk: OpenJob) -> Marks | None:
    if desk.job.closed:
        return None
    return serious(a.severity for a in (*desk.intake.cautions, *desk.intake.asks))


def _view() -> type[IntakeView]:
    from neogenesis.app.intake.view import IntakeView

    return IntakeView


SPEC = StopSpec(
    "intake",
    _view,
    next_step="Ask, measure, and have the slip signed",
    help=_HELP,
    actions=(
        StopAction("stopwatch", "Stopwatch: start, log-in screen, usable", "F5", lambda view: view.press_stopwatch()),
        StopAction("triage", "It does not start: next test", "F6", lambda view: view.show_triage()),
        StopAction("next", "Next question", "Ctrl+J", lambda view: view.next_question()),
        StopAction("slip", "Print the slip", "F7", lambda view: view.print_slip()),
        StopAction("paste", "Paste a photograph", "Ctrl+Shift+V", lambda view: view.paste_photograph()),
    ),
    marks=_marks,
)

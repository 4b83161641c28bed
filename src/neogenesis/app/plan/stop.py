"""The Plan stop, as the window knows it."""

from __future__ import annotations

from typing import TYPE_CHECKING

from neogenesis.app.language import mark
from neogenesis.app.parts.stop import Marks, StopAction, StopSpec, serious

if TYPE_CHECKING:
    from neogenesis.app.desk.open_job import OpenJob
    from neogenesis.app.plan.view import PlanView

_HELP = (
    mark("Left the old drive, right the new one; ribbons show where everything lands. What stays behind is faded."),
    mark(
        "Up and Down choose a partition. Left and Right change its size by 1 GiB, with Shift by 10 GiB, with Ctrl by "
        "1 MiB. Return goes to the size field, where 300 GiB, 200GB or plain bytes can be typed. Space leaves a "
        "partition behind or carries it over."
    ),
    mark(
        "The mouse can drag the grips between two volumes. Everything can be undone. For a device that accepts only "
        "certain drives, choose its class: the plan follows it, and says what the device would not take."
    ),
    mark(
        "Fresh: a recipe, a system or empty volumes, answers for its first start, drivers, and the files that go back "
        "to people: by kind, with what fits and what does not return."
    ),
    mark("“Write plan” puts the plan on file. Still nothing has been written to a drive."),
)


def _marks(desk: OpenJob) -> Marks | None:
    from neogenesis.app.plan.view import checks_of

    return serious(check.severity for check in checks_of(desk.plan))


def _view() -> type[PlanView]:
    from neogenesis.app.plan.view import PlanView

    return PlanView


SPEC = StopSpec(
    "plan",
    _view,
    next_step="Plan the new drive",
    help=_HELP,
    marks=_marks,
    actions=(
        StopAction("undo", "Undo", "Ctrl+Z", lambda view: view.take_back(), lambda view: view.can_take_back()),
        StopAction("redo", "Redo", "Ctrl+Shift+Z", lambda view: view.do_again(), lambda view: view.can_do_again()),
        StopAction(
            "drivers",
            "Drivers for a clean start",
            "Ctrl+Shift+K",
            lambda view: view.show_drivers(),
            lambda view: view.is_fresh(),
        ),
        StopAction(
            "people",
            "Files that go back to people",
            "Ctrl+Shift+C",
            lambda view: view.show_people(),
            lambda view: view.gives_back(),
        ),
        StopAction("write", "Write plan", "Ctrl+S", lambda view: view.write_plan(), lambda view: view.can_write()),
    ),
)

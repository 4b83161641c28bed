"""What all stops have in common: a title, one main thing, and actions at the lower right."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QVBoxLayout, QWidget

from neogenesis.app.parts.controls import Elided, label, row
from neogenesis.app.theme.look import look

if TYPE_CHECKING:
    from neogenesis.app.desk.open_job import OpenJob


#: The worst severity that waits at a stop, and how often something serious does.
Marks = tuple[str, int]


@dataclass(frozen=True, slots=True)
class Check:
    """A line of the checks beside a stop; severity is good, note, caution or stop."""

    severity: str
    text: str
    remedy: str = ""


@dataclass(frozen=True, slots=True)
class StopAction:
    """Something that can be done at one stop only; `do` and `possible` are given its view."""

    key: str
    title: str
    shortcut: str
    do: Callable[[Any], object]
    possible: Callable[[Any], bool] = lambda view: True


@dataclass(frozen=True, slots=True)
class StopSpec:
    """A stop as its folder declares it. The window knows the route, and of each stop only this.

    `view` loads the class of its view, which is built with an open job and its place; nothing needs it before.
    `next_step` is what a job that stands here needs next; `help` is what F1 says; `marks` is what the route shows.
    """

    key: str
    view: Callable[[], Callable[[OpenJob, QWidget], StopView]]
    next_step: str
    help: tuple[str, ...] = ()
    actions: tuple[StopAction, ...] = ()
    marks: Callable[[OpenJob], Marks | None] = lambda desk: None


class StopView(QWidget):
    """A stop in the centre of the window. The window calls `refresh` when its job changed, `enter` when it is shown.

    `needs_room` folds the logbook beside it, as long as nobody asked for it. `keep_asked` asks for the sheet of
    images, rescues and restores, `stop_asked` for another stop.
    """

    needs_room = False
    keep_asked = pyqtSignal()
    stop_asked = pyqtSignal(str)

    def __init__(self, title: str, parent: QWidget | None = None) -> None:
        """What is made where it belongs is styled once; each later move would style all of it anew."""
        super().__init__(parent)
        self.title = label(title, "title")
        self.subtitle = Elided("", "muted")
        self.body = QVBoxLayout()
        self.body.setSpacing(look().px(12))
        outer = QVBoxLayout(self)
        outer.setContentsMargins(look().px(28), look().px(18), look().px(28), look().px(18))
        outer.setSpacing(look().px(12))
        head = row(self.title, gap=look().px(18))
        head.addWidget(self.subtitle, 1)
        outer.addLayout(head)
        outer.addLayout(self.body, 1)

    def enter(self) -> None:
        """The stop has come into view."""

    def main_widget(self) -> QWidget | None:
        """Who gets the keyboard when the stop comes into view."""
        return None

    def main_action(self) -> None:
        """What Ctrl+Return does here."""

    def refresh(self) -> None:
        """Show what the models say now."""

    def checks(self) -> list[Check]:
        """What stands beside the stop."""
        return []


class StopViews:
    """The stops of the job in front, each built when it is first asked for."""

    def __init__(self, build: Callable[[str], StopView]) -> None:
        self._build = build
        self._views: dict[str, StopView] = {}

    def __getitem__(self, key: str) -> StopView:
        if key not in self._views:
            self._views[key] = self._build(key)
        return self._views[key]

    def front(self, key: str) -> StopView | None:
        """That view, if it was built."""
        return self._views.get(key)

    def built(self) -> list[StopView]:
        return list(self._views.values())

    def clear(self) -> None:
        self._views = {}


def serious(severities: Iterable[str]) -> Marks | None:
    """The worst of them and how many there are, of those that ask for care."""
    found = [s for s in severities if s in ("stop", "caution")]
    return ("stop" if "stop" in found else "caution", len(found)) if found else None

"""What commands and sheets may ask of the window: its parts, and where it can go. The window itself is in `window`."""

from __future__ import annotations

from typing import TYPE_CHECKING, Protocol

from PyQt6.QtWidgets import QMainWindow

from neogenesis.app.command.actions import Actions
from neogenesis.app.desk.bench import Bench, Dock
from neogenesis.app.parts.stop import StopViews
from neogenesis.app.preferences.appearance import Appearance
from neogenesis.app.shell.news import News

if TYPE_CHECKING:
    from neogenesis.app.desk.open_job import OpenJob


class SheetOrders(Protocol):
    """The sheets that a command opens."""

    def show_command(self) -> None: ...

    def new_job(self) -> None: ...

    def edit_job(self, ticket: str = "") -> None: ...

    def show_keep(self) -> None: ...

    def show_drive(self, dock: Dock) -> None: ...

    def show_library(self) -> None: ...

    def show_preferences(self) -> None: ...

    def show_doctor(self) -> None: ...

    def show_help(self) -> None: ...


class CommandedWindow(QMainWindow):
    """Parts are there before the first command can be given."""

    bench: Bench
    appearance: Appearance
    sheets: SheetOrders
    views: StopViews
    actions_: Actions
    news: News
    job: OpenJob | None
    stop: str

    def show_jobs(self) -> None:
        raise NotImplementedError

    def open_job(self, ticket: str) -> None:
        raise NotImplementedError

    def show_stop(self, key: str) -> None:
        raise NotImplementedError

    def chosen_ticket(self) -> str:
        """The job in front, or the one chosen on the list; empty for none."""
        raise NotImplementedError

    def main_action(self) -> None:
        raise NotImplementedError

    def focus_note(self) -> None:
        raise NotImplementedError

    def switch_logbook(self) -> None:
        raise NotImplementedError

"""What all stops have in common: a title, one main thing, and actions at the lower right."""

from __future__ import annotations

from dataclasses import dataclass

from PyQt6.QtWidgets import QVBoxLayout, QWidget

from neogenesis.app.parts.controls import Elided, label, row
from neogenesis.app.theme.look import look


@dataclass(frozen=True, slots=True)
class Check:
    """A line of the checks beside a stop; severity is good, note, caution or stop."""

    severity: str
    text: str
    remedy: str = ""


class StopView(QWidget):
    """A stop in the centre of the window. The window calls `refresh` when its job changed, `enter` when it is shown."""

    def __init__(self, title: str) -> None:
        super().__init__()
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

    def refresh(self) -> None:
        """Show what the models say now."""

    def checks(self) -> list[Check]:
        """What stands beside the stop."""
        return []

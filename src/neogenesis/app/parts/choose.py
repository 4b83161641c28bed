"""Asking which of the connected drives is meant. Each answer is a card with tag, name, serial and size."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PyQt6.QtWidgets import QGridLayout, QHBoxLayout, QPushButton, QWidget

from neogenesis.app.desk.bench import Dock
from neogenesis.app.language import tr
from neogenesis.app.parts.controls import clear, label, plain_tip, stack
from neogenesis.app.parts.tag import TagMark
from neogenesis.app.theme.look import SMALL, look
from neogenesis.app.words import both, bus_name, tail


class DriveChoice(QWidget):
    """Present drives to choose from; `answer` gets the chosen drive's name."""

    def __init__(self, question: str, answer: Callable[[str], object]) -> None:
        super().__init__()
        self._answer = answer
        self._why_not: Callable[[Dock], str] = lambda dock: ""
        self._grid = QGridLayout()
        self._grid.setSpacing(look().px(10))
        self._empty = label(tr("No drive is connected. Put one into a dock; it shows up here."), "muted", wrap=True)
        self._question = label(question, "head", wrap=True)
        self.setLayout(stack(self._question, self._empty, self._grid, None, gap=14))
        self.buttons: dict[str, QPushButton] = {}

    def refuse_by(self, why_not: Callable[[Dock], str]) -> None:
        """Ask of every drive why it may not be chosen; it says so on its card."""
        self._why_not = why_not

    def ask(self, question: str, docks: list[Dock], taken: Sequence[Dock | None]) -> None:
        """As `show_docks`, with another question."""
        self._question.setText(question)
        self.show_docks(docks, *taken)

    def show_docks(self, docks: list[Dock], *taken: Dock | None) -> None:
        """All present drives but those that are `taken` for something else."""
        clear(self._grid)
        self.buttons = {}
        taken_tags = {d.tag for d in taken if d is not None and d.docked}
        present = [d for d in docks if d.present and d.docked and d.tag not in taken_tags]
        present.sort(
            key=lambda d: bool((d.docked and d.docked.trouble) or self._why_not(d))
        )  # what may be chosen first
        self._empty.setVisible(not present)
        for index, dock in enumerate(present):
            docked = dock.docked
            if docked is None:
                continue
            drive = docked.drive
            choice = QPushButton()
            choice.setAutoDefault(False)
            choice.setMinimumWidth(look().px(300))
            mark = TagMark()
            mark.setFixedSize(mark.sizeHint())
            mark.show_tag(dock.tag)
            inner = QHBoxLayout(choice)
            inner.addWidget(mark)
            name = label(f"{drive.model or docked.name.rsplit('/', 1)[-1]}  {tail(drive.serial)}", "head")
            bus, why = bus_name(drive.bus), docked.trouble or self._why_not(dock)
            lines = [name, label(f"{both(drive.size_bytes)}  {bus}", "small")]
            tall = look().px(56)
            if why:
                lines.append(label(why, "small", wrap=True))
                tall += 2 * look().metrics(SMALL).lineSpacing() + look().px(4)
            choice.setStyleSheet(f"QPushButton {{ min-height: {tall}px; }}")  # a call would lose
            inner.addLayout(stack(*lines, gap=2), 1)
            choice.setAccessibleName(f"{name.text()}. {why}" if why else name.text())
            choice.setEnabled(not why)
            choice.setToolTip(plain_tip(why))
            choice.clicked.connect(lambda _, n=docked.name: self._answer(n))
            self._grid.addWidget(choice, index // 2, index % 2)
            self.buttons[docked.name] = choice

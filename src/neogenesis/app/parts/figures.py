"""The large figures above anything that takes long: how much, how fast, until when, how warm."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QHBoxLayout, QPlainTextEdit, QWidget

from neogenesis.app.language import tr
from neogenesis.app.parts.controls import label, stack
from neogenesis.app.theme.look import look
from neogenesis.app.words import clock, exact, later, rate, time_range


class ProgressFigures(QWidget):
    """Legible at arm's length; each figure is a label of its own, so that it can be read by a screen reader."""

    def __init__(self) -> None:
        super().__init__()
        self.done, self.of = label("0", "figure"), label("", "muted")
        self.rate, self.rate_unit = label("0", "figure"), label("", "muted")
        self.ends_title, self.ends, self.left = label("", "small"), label("", "head"), label("", "small")
        self.warm_title, self.warm = label(tr("old drive"), "small"), label("", "head")
        line = QHBoxLayout(self)
        line.setContentsMargins(0, 0, 0, 0)
        line.setSpacing(look().px(8))
        for pair in ((self.done, self.of), (self.rate, self.rate_unit)):
            for widget in pair:
                line.addWidget(widget, 0, Qt.AlignmentFlag.AlignBottom)
            line.addSpacing(look().px(16))
        line.addLayout(stack(None, self.ends_title, self.ends, self.left, gap=1))
        self._warmth = QWidget()
        self._warmth.setLayout(stack(None, self.warm_title, self.warm, label("", "small"), gap=1))
        self._warmth.hide()
        line.addSpacing(look().px(8))
        line.addWidget(self._warmth)
        line.addStretch(1)

    def show_done(self, done_bytes: int, of: str) -> None:
        """`of` takes the unit at {0}."""
        number, unit = exact(done_bytes).split(" ")
        self.done.setText(number)
        self.of.setText(of.format(unit))

    def show_rate(self, bytes_per_s: float | None) -> None:
        """None while nothing moves for good."""
        number, unit = rate(bytes_per_s) if bytes_per_s is not None else ("", "")
        self.rate.setText(number)
        self.rate_unit.setText(unit)

    def show_end(self, started_wall: str, time_s: float, left_s: tuple[float, float] | None, instead: str = "") -> None:
        """The range of the end time, from what is left at `time_s` after the start; `instead` where there is none."""
        moments = [later(started_wall, time_s + s) for s in left_s] if left_s else []
        ends = [clock(m) for m in moments if m]
        known = len(ends) == 2
        self.ends_title.setText(tr("ends between") if known or instead else "")
        self.ends.setText(tr("{0} and {1}").format(*ends) if known else instead)
        self.left.setText(tr("{0} left").format(time_range(*left_s)) if left_s else "")

    def show_warmth(self, celsius: float | None) -> None:
        self.warm.setText(tr("{0} °C").format(round(celsius)) if celsius is not None else "")
        self._warmth.setVisible(celsius is not None)


class LostFiles(QPlainTextEdit):
    """Files that lost something, a line each; they can be copied."""

    def __init__(self) -> None:
        super().__init__()
        self.setReadOnly(True)
        self.setAccessibleName(tr("Files that lost something"))

    def show_files(self, files: Sequence[tuple[int, str, int, int]]) -> None:
        """Each as partition number, path, lost and whole bytes."""
        line = tr("{0} of {1}  {2}")
        text = "\n".join(line.format(exact(lost), exact(size), path) for _, path, lost, size in files)
        if text != self.toPlainText():
            self.setPlainText(text)

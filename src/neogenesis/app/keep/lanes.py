"""One lane for each drive that an image is put onto; a drive that drops out says so in its own lane."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QVBoxLayout, QWidget

from neogenesis.app.desk.bench import Dock
from neogenesis.app.keep.heard import Lane
from neogenesis.app.language import said, tr
from neogenesis.app.parts.controls import Elided, label, row, stack
from neogenesis.app.parts.progress import ProgressLine
from neogenesis.app.parts.tag import TagMark
from neogenesis.app.theme.look import look
from neogenesis.app.words import clock, exact, later, rate, tail


class LaneRow(QWidget):
    """Tag and name, the line, and its figures."""

    def __init__(self) -> None:
        super().__init__()
        self._mark, self._name = TagMark(), label("", "head")
        self._mark.setFixedSize(self._mark.sizeHint())
        self._figures = label("", "muted")
        widest = tr("{0} of {1} checked").format("99.9 GiB", "99.9 GiB") + "  99.9 MB/s "
        self._figures.setMinimumWidth(look().metrics().horizontalAdvance(widest))
        self._figures.setAlignment(Qt.AlignmentFlag.AlignRight)
        self._line, self._more = ProgressLine(), Elided("", "small")
        head = row(self._name, None, self._figures, gap=10)
        line = row(self._mark, gap=12)
        line.addLayout(stack(head, self._line, self._more, gap=4), 1)
        self.setLayout(line)

    def show_lane(self, lane: Lane, dock: Dock | None, started_wall: str, time_s: float) -> None:
        drive = dock.docked.drive if dock and dock.docked else None
        self._mark.show_tag(dock.tag if dock else None)
        name = f"{drive.model}  {tail(drive.serial)}" if drive and drive.model else lane.target.rsplit("/", 1)[-1]
        self._name.setText(name)
        checking = lane.phase == "verify"
        copied, checked = (1.0, lane.share) if checking else (lane.share, 0.0)
        if lane.outcome == "good":
            copied = checked = 1.0
        self._line.show_share(copied, checked, "stop" if lane.outcome == "stop" else "accent")
        if lane.outcome:
            self._figures.setText(tr("done") if lane.outcome == "good" else tr("dropped out"))
            self._more.say(f"{said(lane.text)} {said(lane.remedy)}")
            return
        verb = tr("{0} of {1} checked") if checking else tr("{0} of {1}")
        text = verb.format(exact(lane.copied_bytes), exact(lane.total_bytes))
        self._figures.setText(f"{text}  {' '.join(rate(lane.rate_bytes_per_s))}")
        ends = ""
        if lane.left_s is not None:
            first, last = (later(started_wall, time_s + s) for s in lane.left_s)
            if first and last:
                ends = tr("ends between {0} and {1}").format(clock(first), clock(last))
        self._more.say("  ·  ".join(filter(None, (said(lane.now), ends))))


class Lanes(QWidget):
    """All lanes, in the order in which their targets were named."""

    def __init__(self) -> None:
        super().__init__()
        self._layout = QVBoxLayout(self)
        self._layout.setContentsMargins(0, 0, 0, 0)
        self._layout.setSpacing(look().px(16))
        self.rows: dict[str, LaneRow] = {}

    def row_of(self, target: str) -> LaneRow:
        if target not in self.rows:
            self.rows[target] = LaneRow()
            self._layout.addWidget(self.rows[target])
        return self.rows[target]

    def only(self, targets: list[str]) -> None:
        """Let go of lanes of an earlier restore."""
        for target in [t for t in self.rows if t not in targets]:
            gone = self.rows.pop(target)
            gone.hide()
            gone.deleteLater()

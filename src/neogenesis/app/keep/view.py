"""The sheet for keeping what is on the old drive."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPaintEvent, QResizeEvent
from PyQt6.QtWidgets import QButtonGroup, QDialog, QFileDialog, QLineEdit, QRadioButton, QSizePolicy, QWidget

from neogenesis.app.keep.model import Kind
from neogenesis.app.open_job import OpenJob
from neogenesis.app.parts.controls import button, label, row, stack
from neogenesis.app.theme.look import look
from neogenesis.app.words import both, rate, time_range, tr

_CHOICES: tuple[tuple[Kind, str, str], ...] = (
    ("image", "Image", "For a sound drive: everything in use, compressed into one file that general tools open."),
    (
        "rescue",
        "Rescue",
        "For a failing drive: what can be read first, the hard places later, onto a drive or into an image file. "
        "Nothing is hammered; what is lost is listed by place and by file.",
    ),
    ("salvage", "Copy files out", "Only the files, people's own first, with dates and checksums, into a folder."),
)
_PASSES = {
    "first": "what matters most: table, volumes, people's folders",
    "forward": "large reads forward, skipping ahead at trouble",
    "backward": "from the other side, up to the trouble",
    "sweep": "what is still untried",
    "trim": "narrowing the bad places",
    "scrape": "what is left, sector by sector",
    "retry": "the lost sectors once more",
}


class ProgressLine(QWidget):
    """How far it is, as a line, and what could not be read as a mark at its end."""

    def __init__(self) -> None:
        super().__init__()
        self._share, self._lost = 0.0, 0.0
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName(tr("Progress"))

    def sizeHint(self) -> QSize:
        return QSize(look().px(300), look().px(10))

    def show_share(self, share: float, lost: float) -> None:
        self._share, self._lost = min(1.0, share), min(1.0, lost)
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(Qt.PenStyle.NoPen)
        area = QRectF(self.rect())
        painter.setBrush(look().colour("line"))
        painter.drawRoundedRect(area, 4, 4)
        painter.setBrush(look().colour("accent"))
        painter.drawRoundedRect(QRectF(area.left(), area.top(), area.width() * self._share, area.height()), 4, 4)
        if self._lost:
            wide = max(3.0, area.width() * self._lost)
            painter.setBrush(look().colour("stop"))
            painter.drawRect(QRectF(area.width() * self._share - wide, area.top(), wide, area.height()))


class KeepSheet(QDialog):
    """Choose what to do, say where to, watch it. Closing the sheet does not end the work."""

    def __init__(self, parent: QWidget, desk: OpenJob) -> None:
        super().__init__(parent)
        self.setWindowTitle(tr("Keep what is on the old drive"))
        self._desk, self._model = desk, desk.keep
        self._group = QButtonGroup(self)
        self.choices: dict[Kind, QRadioButton] = {}
        rows = []
        for kind, title, text in _CHOICES:
            choice = QRadioButton(tr(title))
            choice.toggled.connect(lambda on: on and self.refresh())
            self._group.addButton(choice)
            self.choices[kind] = choice
            rows.append(stack(choice, label(tr(text), "small", wrap=True), gap=2))
        self.place = QLineEdit()
        self.place.textChanged.connect(lambda _: self.refresh())
        self._choose = button(tr("Choose…"), self._browse)
        self._place_title = label("", "muted")
        self.tail = QLineEdit()
        self.tail.setFixedWidth(look().px(88))
        self.tail.setMaxLength(8)
        self.tail.textChanged.connect(lambda _: self.refresh())
        ask = tr("To write, type the last four characters of the drive's serial, or of the file's name")
        self._tail_title = label(ask, "muted", wrap=True)
        self.line = ProgressLine()
        self._figures = label("", "head")
        self._more = label("", "muted", wrap=True)
        self.start = button("", self._start, "main")
        self.stop = button(tr("Stop safely"), self._model.stop)
        where = row(gap=8)
        where.addWidget(self.place, 1)
        where.addWidget(self._choose)
        confirm = row(gap=8)
        confirm.addWidget(self._tail_title, 1)
        confirm.addWidget(self.tail)
        self.setLayout(
            stack(
                *rows,
                self._place_title,
                where,
                confirm,
                self.line,
                self._figures,
                self._more,
                row(button(tr("Close"), self.accept), None, self.stop, self.start, gap=10),
                gap=12,
                margin=22,
            )
        )
        self.setMinimumWidth(look().px(600))
        failing = desk.survey.record is not None and desk.survey.record.health.verdict == "failing"
        self.choices["rescue" if failing else "image"].setChecked(True)
        self._model.changed.connect(self.refresh)
        self._model.moved.connect(self._show_progress)
        self.refresh()

    def _fit(self) -> None:
        """Wrapped lines need their height said; the sheet never cuts them."""
        layout = self.layout()
        if layout is not None:
            self.setMinimumHeight(layout.heightForWidth(max(self.width(), self.minimumWidth())))

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        self._fit()

    @property
    def kind(self) -> Kind:
        return next(kind for kind, choice in self.choices.items() if choice.isChecked())

    def _browse(self) -> None:
        if self.kind == "salvage":
            name = QFileDialog.getExistingDirectory(self, tr("Folder for the files"))
        else:
            name, _ = QFileDialog.getSaveFileName(self, tr("File for it"), "", "")
        if name:
            self.place.setText(name)

    def _start(self) -> None:
        place = self.place.text().strip()
        if self.kind == "image" and not place.endswith(".qcow2"):
            place += ".qcow2"
        self._model.start(self.kind, str(Path(place).expanduser()), self.tail.text().strip())

    def refresh(self) -> None:
        model = self._model
        if not any(choice.isChecked() for choice in self.choices.values()):
            return
        titles = {
            "image": (tr("Image file"), tr("Image the drive")),
            "rescue": (tr("New drive, or image file that is made"), tr("Rescue the drive")),
            "salvage": (tr("Folder"), tr("Copy the files out")),
        }
        title, do = titles[self.kind]
        self._place_title.setText(title)
        self.start.setText(do)
        rescue = self.kind == "rescue"
        for widget in (self.tail, self._tail_title):
            widget.setVisible(rescue)
        dock = self._desk.old_dock()
        ready = bool(self.place.text().strip()) and bool(dock and dock.present) and not model.is_active
        self.start.setEnabled(ready and (not rescue or len(self.tail.text().strip()) >= 1))
        self.stop.setVisible(model.is_active)
        self.stop.setEnabled(model.state == "running")
        for choice in (*self.choices.values(), self.place, self._choose, self.tail):
            choice.setEnabled(not model.is_active)
        self._show_progress()
        self._fit()

    def _show_progress(self) -> None:
        model, latest = self._model, self._model.latest
        self.line.setVisible(model.state != "ready")
        if latest is not None:
            total = max(1, latest.total_bytes)
            self.line.show_share(latest.copied_bytes / total, latest.lost_bytes / total)
            speed = " ".join(rate(latest.rate_bytes_per_s))
            self._figures.setText(tr("{0} of {1}, {2}").format(both(latest.copied_bytes), both(total), speed))
        if model.state == "ended":
            outcome = model.outcome
            self._more.setText(model.failure.sentence() if model.failure else (outcome.text if outcome else ""))
        elif latest is not None:
            words = tr(_PASSES.get(latest.text, ""))
            left = tr("{0} left").format(time_range(*latest.left_s)) if latest.left_s else ""
            lost = tr("{0} not readable so far").format(both(latest.lost_bytes)) if latest.lost_bytes else ""
            self._more.setText("  ·  ".join(filter(None, (words, left, lost))))
        elif model.is_active:
            self._more.setText(tr("Reading the drive's table and volumes first…"))
        else:
            self._figures.setText("")
            self._more.setText("")

"""What the shop's own finished jobs say of its estimates: each job's range with what it took."""

from __future__ import annotations

import math
from collections.abc import Sequence
from pathlib import Path

import msgspec
from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QCheckBox, QDialog, QFileDialog, QSizePolicy, QVBoxLayout, QWidget

from neogenesis.app.desk.bench import Bench
from neogenesis.app.language import mark, said, tr, trn
from neogenesis.app.parts.controls import button, clear, label, read_through, row, stack
from neogenesis.app.theme.look import SMALL, look
from neogenesis.bench.register import allow_output
from neogenesis.core.errors import NeogenesisError
from neogenesis.core.job.past import Learned, Outcome, as_csv, learned
from neogenesis.core.record import save_bytes

_KINDS = {"copy": mark("Copying"), "hands": mark("Hands on it")}
#: How far the drawing reaches to both sides of the plan: a quarter and four times.
_FAR = 4.0


class PastCanvas(QWidget):
    """One line for each job: its range around the plan, and a mark for what it took, hollow where it missed."""

    def __init__(self, outcomes: Sequence[Outcome]) -> None:
        super().__init__()
        self.outcomes = sorted(outcomes, key=lambda o: (o.kind, o.at))
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName(tr("Planned against actual"))
        words = (tr("{0}: within") if o.within else tr("{0}: outside") for o in self.outcomes)
        self.setAccessibleDescription(", ".join(w.format(o.ticket) for w, o in zip(words, self.outcomes, strict=True)))

    def sizeHint(self) -> QSize:
        return QSize(look().px(420), look().px(26) * max(1, len(self.outcomes)) + look().px(26))

    def minimumSizeHint(self) -> QSize:
        return QSize(260, self.sizeHint().height())

    def across(self, ratio: float) -> float:
        """Where so many times the plan is, on a scale of ratios."""
        left, right = look().px(128), self.width() - look().px(14)
        share = (math.log(min(max(ratio, 1 / _FAR), _FAR)) / math.log(_FAR) + 1) / 2
        return left + (right - left) * share

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(look().font(SMALL))
        each, head = look().px(26), look().px(22)
        for ratio, text in ((0.25, "¼"), (0.5, "½"), (1.0, tr("as planned")), (2.0, "2 ×"), (4.0, "4 ×")):
            at = self.across(ratio)
            painter.setPen(QPen(look().colour("accent" if ratio == 1 else "line"), 1.4 if ratio == 1 else 1))
            painter.drawLine(QPointF(at, head - 4), QPointF(at, self.height()))
            painter.setPen(look().colour("muted"))
            place = QRectF(at - look().px(45), 0, look().px(90), look().px(16))
            painter.drawText(place, Qt.AlignmentFlag.AlignCenter, text)
        for n, one in enumerate(self.outcomes):
            y = head + each * (n + 0.5)
            painter.setPen(look().colour("ink"))
            name = f"{one.ticket}  {tr(_KINDS[one.kind])}"
            words = look().metrics(SMALL).elidedText(name, Qt.TextElideMode.ElideRight, look().px(118))
            painter.drawText(QRectF(0, y - 9, look().px(118), 18), Qt.AlignmentFlag.AlignVCenter, words)
            low, middle, high = one.planned
            painter.setPen(QPen(look().role("system", 0.5), look().px(7), cap=Qt.PenCapStyle.FlatCap))
            painter.drawLine(QPointF(self.across(low / middle), y), QPointF(self.across(high / middle), y))
            painter.setPen(QPen(look().colour("good" if one.within else "stop"), 2))
            painter.setBrush(look().colour("good") if one.within else look().colour("ground"))
            painter.drawEllipse(QPointF(self.across(one.actual_s / middle), y), look().px(5), look().px(5))


class PastSheet(QDialog):
    """Can be switched off, and taken away as CSV."""

    def __init__(self, parent: QWidget, bench: Bench) -> None:
        super().__init__(parent)
        self._bench = bench
        self.setWindowTitle(tr("What this shop's own jobs say"))
        self.resize(look().px(620), look().px(480))
        self._words = QVBoxLayout()
        outcomes = bench.past
        self.canvas = PastCanvas(outcomes)
        self.used = QCheckBox(tr("Let it change the estimates"))
        self.used.setChecked(bench.shop.learns)
        self.used.toggled.connect(self._switch)
        self._said = label("", "muted", wrap=True, copyable=True)
        self.csv = button(tr("Save as CSV…"), self._ask_csv)
        self.csv.setEnabled(bool(outcomes))
        foot = row(self.csv, None, button(tr("Close"), self.accept, "main"))
        inner = QWidget()
        inner.setLayout(stack(self.canvas, None))
        body = stack(
            self._words,
            read_through(inner, tr("Planned against actual")),
            self.used,
            self._said,
            foot,
            gap=look().px(10),
            margin=look().px(18),
        )
        self.setLayout(body)
        self._tell(learned(outcomes))

    def _tell(self, found: Sequence[Learned]) -> None:
        clear(self._words)
        if not found:
            text = tr("No job was handed over yet whose times were planned and measured. Until then judgement counts.")
            self._words.addWidget(label(text, wrap=True))
        for one in found:
            ended = trn("{0} of {1} job ended within the range", "{0} of {1} jobs ended within the range", one.jobs)
            text = f"{tr(_KINDS[one.kind])}: {ended.format(one.within, one.jobs)}"
            self._words.addWidget(label(text, "head", copyable=True))
            why = tr("times {0}; the shipped judgement still counts as eight jobs").format(f"{one.factor:.2f}")
            self._words.addWidget(label(why, "small", copyable=True))

    def _switch(self, on: bool) -> None:
        try:
            self._bench.keep_shop(msgspec.structs.replace(self._bench.shop, learns=on))
        except NeogenesisError as error:
            self._said.setText(said(error.sentence()))

    def _ask_csv(self) -> None:
        name, _ = QFileDialog.getSaveFileName(self, tr("Save as CSV"), "past.csv", "CSV (*.csv)")
        if name:
            self.save_csv(Path(name))

    def save_csv(self, path: Path) -> None:
        try:
            save_bytes(allow_output(path, "table", force=True), as_csv(self._bench.past).encode())
        except NeogenesisError as error:
            self._said.setText(said(error.sentence()))
        else:
            self._said.setText(tr("Written: {0}").format(path))

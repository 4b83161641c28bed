"""A machine that does not start: one test after the other, the cheapest first, down to what to do."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QGridLayout, QHBoxLayout, QSizePolicy, QVBoxLayout, QWidget

from neogenesis.app.intake.model import IntakeModel
from neogenesis.app.language import said, tr
from neogenesis.app.parts.controls import button, clear, label, notice, row, scrolled, stack
from neogenesis.app.parts.flow import FlowRow
from neogenesis.app.parts.mirror import follow_direction
from neogenesis.app.theme.look import look
from neogenesis.core.intake.triage import Choice, Course, End, Test, follows, guide


class _Station(QWidget):
    """The line at the side: behind us, here, or the end."""

    def __init__(self, state: str, first: bool, last: bool) -> None:
        super().__init__()
        self._state, self._first, self._last = state, first, last
        self.setSizePolicy(QSizePolicy.Policy.Fixed, QSizePolicy.Policy.Expanding)

    def sizeHint(self) -> QSize:
        return QSize(look().px(26), look().px(30))

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        follow_direction(painter, self.rect())
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        x, y, r = look().px(10), look().px(11), look().px(6)
        painter.setPen(QPen(look().colour("line"), 2))
        if not self._first:
            painter.drawLine(QPointF(x, 0), QPointF(x, y))
        if not self._last:
            painter.drawLine(QPointF(x, y), QPointF(x, self.height()))
        painter.setPen(QPen(look().colour("accent"), 2))
        painter.setBrush(look().colour("ground" if self._state == "here" else "accent"))
        dot = QRectF(x - r, y - r, 2 * r, 2 * r)
        if self._state == "end":
            painter.drawRect(dot)
        else:
            painter.drawEllipse(dot)


class TriagePage(QWidget):
    """`back_asked` wants the intake's page again, `stop_asked` the stop that goes on from an end."""

    back_asked = pyqtSignal()
    stop_asked = pyqtSignal(str)

    def __init__(self, model: IntakeModel) -> None:
        super().__init__()
        self._model = model
        self._course: Course | None = None
        self._rows = QVBoxLayout()
        self._rows.setSpacing(0)
        inner = QWidget()
        inner.setLayout(stack(self._rows, None))
        self.answers: list[QWidget] = []
        self.again = button(tr("Take back the last answer"), model.take_back_answer, "", tr("Backspace"))
        self.back = button(tr("Back to the intake"), self.back_asked.emit, "", tr("Escape"))
        caution = label(
            tr("Maker's manual, local rules and licensed practice come first. A power supply is never opened."),
            "small",
            wrap=True,
        )
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(look().px(12))
        layout.addWidget(scrolled(inner), 1)
        layout.addWidget(caution)
        layout.addLayout(row(None, self.again, self.back, gap=10))

    def refresh(self) -> None:
        course = self._model.course
        self.again.setEnabled(bool(self._model.intake.triage))
        if course == self._course:
            return
        self._course = course
        clear(self._rows)
        self.answers = []
        for number, (test, choice) in enumerate(course.done):
            self._add("done", self._done(test, choice), number == 0, False)
        if course.test is not None:
            self._add("here", self._here(course.test), not course.done, True)
        if course.end is not None:
            self._add("end", self._end(course, course.end), not course.done, True)

    def _add(self, state: str, body: QWidget, first: bool, last: bool) -> None:
        holder = QWidget()
        across = QHBoxLayout(holder)
        across.setContentsMargins(0, 0, 0, 0)
        across.setSpacing(look().px(8))
        across.addWidget(_Station(state, first, last))
        across.addWidget(body, 1)
        self._rows.addWidget(holder)

    def _done(self, test: Test, choice: Choice) -> QWidget:
        box = QWidget()
        text = label(said(test.text), "muted", wrap=True, copyable=True)
        box.setLayout(stack(text, label(said(choice.text), "head", copyable=True), gap=2))
        box.setContentsMargins(0, 0, 0, look().px(12))
        return box

    def _here(self, test: Test) -> QWidget:
        box = QWidget()
        inner = stack(label(said(test.text), "head", wrap=True, copyable=True), gap=8)
        inner.addWidget(label(tr("about {0} min").format(test.minutes), "small"))
        if test.caution:
            inner.addWidget(notice("caution", test.caution))
        line = FlowRow(look().px(10))
        for number, choice in enumerate(test.answers, 1):
            made = button(
                f"{number}  {said(choice.text)}", lambda c=choice: self._model.answer(test.id, c.code), "", str(number)
            )
            line.addWidget(made)
            self.answers.append(made)
        inner.addLayout(line)
        inner.addSpacing(look().px(14))
        inner.addWidget(label(tr("What follows"), "small"))
        grid = QGridLayout()
        grid.setHorizontalSpacing(look().px(16))
        grid.setVerticalSpacing(look().px(8))
        grid.setColumnStretch(1, 1)
        for number, (choice, words) in enumerate(follows(guide(), test)):
            grid.addWidget(label(said(choice.text), "muted"), number, 0, Qt.AlignmentFlag.AlignTop)
            grid.addWidget(label(said(words), "muted", wrap=True), number, 1)
        inner.addLayout(grid)
        box.setLayout(inner)
        return box

    def _end(self, course: Course, end: End) -> QWidget:
        box = QWidget()
        inner = stack(label(said(end.text), "head", wrap=True, copyable=True), gap=10)
        if course.minutes:
            inner.addWidget(label(tr("found in about {0} min").format(course.minutes), "small"))
        if end.goes_to:
            go = button(tr("Go to Survey"), lambda: self.stop_asked.emit(end.goes_to), "main")
            inner.addLayout(row(go, None))
            self.answers.append(go)
        box.setLayout(inner)
        return box

    def take_keyboard(self) -> None:
        (self.answers[0] if self.answers else self.back).setFocus()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is None:
            return
        number = event.key() - Qt.Key.Key_1
        test = self._course.test if self._course is not None else None
        if test is not None and 0 <= number < len(test.answers):
            self._model.answer(test.id, test.answers[number].code)
            self.take_keyboard()
        elif event.key() == Qt.Key.Key_Backspace and self._model.intake.triage:
            self._model.take_back_answer()
            self.take_keyboard()
        else:
            super().keyPressEvent(event)

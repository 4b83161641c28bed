"""The machine as it lies with the fasteners of the step lit, the tray in its outline, and how far the work is."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QSizePolicy, QWidget

from neogenesis.app.language import said, tr
from neogenesis.app.swap.pieces import paint_piece
from neogenesis.app.theme.look import SMALL, look
from neogenesis.core.machine import Machine
from neogenesis.core.swap.guide import Guide
from neogenesis.core.swap.tray import Piece, pieces

_USUAL_SHAPE = (330.0, 230.0)


def outline_in(machine: Machine, room: QRectF) -> QRectF:
    """The machine's outline, as large as it goes into `room`, in the middle of it."""
    outline = machine.outline
    wide, tall = (outline.width_mm, outline.height_mm) if outline is not None else _USUAL_SHAPE
    scale = min(room.width() / wide, room.height() / tall)
    size = QRectF(0, 0, wide * scale, tall * scale)
    size.moveCenter(room.center())
    return size


def place_in(outline: QRectF, x: float, y: float) -> QPointF:
    return QPointF(outline.left() + x * outline.width(), outline.top() + y * outline.height())


def paint_outline(painter: QPainter, machine: Machine, outline: QRectF, names: bool) -> None:
    """The rim, and what is seen on it or lies below it."""
    painter.setBrush(look().colour("raised"))
    painter.setPen(QPen(look().colour("muted"), 2 if names else 1.2))
    painter.drawRoundedRect(outline, look().px(14), look().px(14))
    if not names or machine.outline is None:
        return
    font, metrics = look().font(SMALL), look().metrics(SMALL)
    painter.setFont(font)
    for mark in machine.outline.marks:
        one, other = place_in(outline, mark.x0, mark.y0), place_in(outline, mark.x1, mark.y1)
        box = QRectF(one, other)
        style = Qt.PenStyle.DashLine if mark.under else Qt.PenStyle.SolidLine
        painter.setPen(QPen(look().colour("muted", 0.6), 1.2, style))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRoundedRect(box, 5, 5)
        text = metrics.elidedText(said(mark.name), Qt.TextElideMode.ElideRight, int(box.width()) - 6)
        if box.height() > metrics.height() and len(text) > 2:
            painter.setPen(look().colour("muted"))
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, text)


class MachineCanvas(QWidget):
    """Reads at arm's length: the fastener that is next has a halo, those of this step are drawn firmly."""

    def __init__(self) -> None:
        super().__init__()
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setAccessibleName(tr("The machine as it lies"))
        self._guide: Guide | None = None
        self.scene: list[Piece] = []

    def minimumSizeHint(self) -> QSize:
        return QSize(280, 200)

    def show_guide(self, guide: Guide | None) -> None:
        self._guide = guide
        self.scene = pieces(guide) if guide is not None else []
        if guide is not None and guide.row is not None:
            lit = sum(p.state in ("here", "next") for p in self.scene)
            self.setAccessibleDescription(f"{said(guide.row.text)}: {lit}")
        self.update()

    def radius(self) -> float:
        return max(look().px(7.0), min(look().px(12.0), self.width() / 60))

    def paintEvent(self, event: QPaintEvent | None) -> None:
        if self._guide is None:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        machine, margin = self._guide.record.machine, look().px(6)
        outline = outline_in(machine, QRectF(self.rect()).adjusted(margin, margin, -margin, -margin))
        paint_outline(painter, machine, outline, names=True)
        here = self._loosened()
        for piece in self.scene:
            state = "here" if piece.state == "captive" and piece.kind.id in here else piece.state
            centre = place_in(outline, piece.x, piece.y)
            if state == "next":
                painter.setPen(Qt.PenStyle.NoPen)
                painter.setBrush(look().colour("accent_soft"))
                painter.drawEllipse(centre, self.radius() * 2.3, self.radius() * 2.3)
            paint_piece(painter, piece.kind, centre, self.radius(), state, tray=False)
        self._paint_words(painter, outline)

    def _loosened(self) -> set[str]:
        row = self._guide.row if self._guide is not None else None
        return {id_ for id_, _ in row.loosened} if row is not None else set()

    def _paint_words(self, painter: QPainter, outline: QRectF) -> None:
        """Which one is next, and what hides those that cannot be seen."""
        told: set[str] = set()
        for piece in self.scene:
            centre = place_in(outline, piece.x, piece.y)
            if piece.state == "next":
                self._words(painter, outline, centre, tr("this one"), "accent", bold=True)
            elif piece.state == "here" and piece.kind.hidden_under and piece.kind.id not in told:
                told.add(piece.kind.id)
                text = tr("under the {0}").format(said(piece.kind.hidden_under))
                self._words(painter, outline, centre, text, "caution")

    def _words(
        self, painter: QPainter, outline: QRectF, at: QPointF, text: str, token: str, bold: bool = False
    ) -> None:
        font = look().font(bold=bold)
        metrics = look().metrics(bold=bold)
        wide, away = metrics.horizontalAdvance(text), self.radius() * 2.6
        left = at.x() + away if at.x() + away + wide < outline.right() else at.x() - away - wide
        left = min(max(left, 4.0), max(4.0, self.width() - wide - 4.0))
        box = QRectF(left - 3, at.y() - metrics.height() / 2, wide + 6, metrics.height())
        painter.fillRect(box, look().colour("raised", 0.85))
        painter.setFont(font)
        painter.setPen(look().colour(token))
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, text)


class TrayCanvas(QWidget):
    """Where each fastener lies: each where it came from."""

    def __init__(self) -> None:
        super().__init__()
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Preferred)
        self.setAccessibleName(tr("Tray: lay each where it came from"))
        self._guide: Guide | None = None
        self.scene: list[Piece] = []

    def sizeHint(self) -> QSize:
        return QSize(look().px(300), look().px(180))

    def minimumSizeHint(self) -> QSize:
        return QSize(150, 90)

    def show_guide(self, guide: Guide | None) -> None:
        self._guide = guide
        closing = guide is not None and guide.row is not None and guide.row.phase == "closing"
        self.scene = [_in_tray(p, closing) for p in pieces(guide)] if guide is not None else []
        lying = sum(p.state == "in-tray" for p in self.scene)
        self.setAccessibleDescription(tr("{0} in the tray").format(lying))
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        if self._guide is None:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        outline = outline_in(self._guide.record.machine, QRectF(self.rect()).adjusted(2, 2, -2, -2))
        paint_outline(painter, self._guide.record.machine, outline, names=False)
        for piece in self.scene:
            if piece.state != "captive":
                centre = place_in(outline, piece.x, piece.y)
                paint_piece(painter, piece.kind, centre, look().px(6.5), piece.state, tray=True)


def _in_tray(piece: Piece, closing: bool) -> Piece:
    """In the tray a piece lies or does not: what goes in next still lies there, what comes out next does not yet."""
    if piece.state not in ("here", "next"):
        return piece
    return Piece(piece.kind, piece.number, piece.x, piece.y, "in-tray" if closing else "in-machine")


class Course(QWidget):
    """One station for each step; opening, work and closing are named below."""

    def __init__(self) -> None:
        super().__init__()
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName(tr("How far the work is"))
        self._guide: Guide | None = None

    def sizeHint(self) -> QSize:
        return QSize(look().px(300), look().px(46))

    def show_guide(self, guide: Guide | None, spoken: str) -> None:
        self._guide = guide
        self.setAccessibleDescription(spoken)
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        guide = self._guide
        if guide is None or not guide.rows:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        count, radius, y = len(guide.rows), look().px(5.5), look().px(12)
        wide = (self.width() - 4 * radius) / max(1, count - 1)
        at = [2 * radius + n * wide for n in range(count)]
        here = guide.where.row if guide.preparing is None else -1
        painter.setPen(QPen(look().colour("line"), 2.4))
        painter.drawLine(QPointF(at[0], y), QPointF(at[-1], y))
        if here > 0:
            painter.setPen(QPen(look().colour("accent"), 3))
            painter.drawLine(QPointF(at[0], y), QPointF(at[min(here, count - 1)], y))
        crowded = wide < 2.4 * radius
        for n in range(count):
            if crowded and n != here:
                continue
            painter.setPen(QPen(look().colour("accent" if n <= here else "line"), 2))
            painter.setBrush(look().colour("accent" if n < here else "ground"))
            painter.drawEllipse(QPointF(at[n], y), radius + (3 if n == here else 0), radius + (3 if n == here else 0))
        self._paint_phases(painter, guide, at, y)

    def _paint_phases(self, painter: QPainter, guide: Guide, at: list[float], y: float) -> None:
        painter.setFont(look().font(SMALL))
        words = {"opening": tr("opening"), "work": tr("work"), "closing": tr("closing")}
        last = ""
        for n, row in enumerate(guide.rows):
            if row.phase != last:
                last = row.phase
                lit = guide.row is not None and guide.row.phase == last
                painter.setPen(look().colour("ink" if lit else "muted"))
                box = QRectF(at[n] - look().px(5), y + look().px(10), look().px(120), look().px(18))
                painter.drawText(box, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, words[last])

"""Drawings that run with the reading direction: painted as from left to right, and mirrored as a whole.

Only what must stay readable is turned back in its place: words, icons, tags. Charts and columns are not mirrored; place
and time run the same way everywhere.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from unicodedata import bidirectional

from PyQt6.QtCore import QRect, QRectF, Qt
from PyQt6.QtGui import QGuiApplication, QPainter

#: From left to right, whatever is around it (Unicode UAX 9).
_ISOLATE, _END = "\u2066", "\u2069"


def follow_direction(painter: QPainter, area: QRect | QRectF) -> None:
    """From now on `painter` mirrors what is drawn into `area`, where the window runs from right to left."""
    if QGuiApplication.layoutDirection() == Qt.LayoutDirection.RightToLeft:
        whole = QRectF(area)
        painter.translate(whole.left() + whole.right(), 0)
        painter.scale(-1, 1)


@contextmanager
def readable(painter: QPainter, rect: QRectF) -> Iterator[None]:
    """What is drawn into `rect` stands upright there, mirrored or not."""
    if painter.worldTransform().m11() >= 0:
        yield
        return
    painter.save()
    painter.translate(2 * rect.center().x(), 0)
    painter.scale(-1, 1)
    yield
    painter.restore()


def draw_text(painter: QPainter, rect: QRectF, flags: Qt.AlignmentFlag | int, text: str) -> None:
    """As `QPainter.drawText`; left means where reading begins. Figures and Latin words keep their order."""
    foreign = painter.worldTransform().m11() < 0 and not any(bidirectional(c) in ("R", "AL") for c in text)
    with readable(painter, rect):
        painter.drawText(rect, flags, f"{_ISOLATE}{text}{_END}" if foreign else text)

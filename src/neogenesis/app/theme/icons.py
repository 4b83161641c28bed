"""Lucide icons in one weight, coloured by a token."""

from __future__ import annotations

from functools import lru_cache
from importlib.resources import files

from PyQt6.QtCore import QByteArray, QRectF, Qt
from PyQt6.QtGui import QIcon, QPainter, QPixmap
from PyQt6.QtSvg import QSvgRenderer

from neogenesis.app.parts.mirror import readable
from neogenesis.app.theme.look import look


@lru_cache(maxsize=256)
def _coloured(name: str, colour: str) -> QSvgRenderer:
    text = files("neogenesis").joinpath(f"data/icons/{name}.svg").read_text("utf-8")
    return QSvgRenderer(QByteArray(text.replace("currentColor", colour).encode()))


def _drawing(name: str, token: str) -> QSvgRenderer:
    return _coloured(name, getattr(look().tokens, token))


def paint_icon(painter: QPainter, name: str, rect: QRectF, token: str = "ink", points: bool = False) -> None:
    """Draw an icon into `rect`. One that `points` along the reading direction is mirrored with the drawing."""
    if points:
        _drawing(name, token).render(painter, rect)
        return
    with readable(painter, rect):
        _drawing(name, token).render(painter, rect)


def icon_pixmap(name: str, size: int, token: str = "ink", ratio: float = 2.0) -> QPixmap:
    """An icon of `size` logical pixels, sharp on high-density screens."""
    pixmap = QPixmap(round(size * ratio), round(size * ratio))
    pixmap.fill(Qt.GlobalColor.transparent)
    painter = QPainter(pixmap)
    _drawing(name, token).render(painter)
    painter.end()
    pixmap.setDevicePixelRatio(ratio)
    return pixmap


def icon(name: str, token: str = "ink") -> QIcon:
    return QIcon(icon_pixmap(name, 20, token))

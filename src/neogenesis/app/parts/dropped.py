"""Files that are dragged onto a widget."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PyQt6.QtCore import QEvent, QMimeData, QObject
from PyQt6.QtGui import QDragEnterEvent, QDropEvent
from PyQt6.QtWidgets import QWidget


def local_files(data: QMimeData) -> list[Path]:
    return [Path(url.toLocalFile()) for url in data.urls() if url.isLocalFile()]


class DroppedFiles(QObject):
    """Lets a widget take files that are dropped on it."""

    def __init__(self, widget: QWidget, take: Callable[[list[Path]], object]) -> None:
        super().__init__(widget)
        self._take = take
        widget.setAcceptDrops(True)
        widget.installEventFilter(self)

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        if not isinstance(event, QDragEnterEvent | QDropEvent):
            return False
        data = event.mimeData()
        if data is None or not data.hasUrls():
            return False
        if event.type() == QEvent.Type.Drop:
            self._take(local_files(data))
        event.acceptProposedAction()
        return True

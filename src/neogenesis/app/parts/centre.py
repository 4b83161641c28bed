"""The place in which a stop stands."""

from __future__ import annotations

from PyQt6.QtCore import QSize
from PyQt6.QtGui import QResizeEvent
from PyQt6.QtWidgets import QStackedWidget, QWidget


class CentreFrame(QWidget):
    """Gives the stop in view all of its place, and asks for more height only where it cannot do with less."""

    def __init__(self, centre: QStackedWidget) -> None:
        super().__init__()
        self._centre = centre
        centre.setParent(self)
        centre.currentChanged.connect(self._fit)

    def minimumSizeHint(self) -> QSize:
        return QSize(self._centre.minimumSizeHint().width(), self._least_height())

    def _least_height(self) -> int:
        current = self._centre.currentWidget()
        layout = current.layout() if current is not None else None
        if layout is None:
            return 0
        flowing = layout.hasHeightForWidth()
        return layout.minimumHeightForWidth(self.width()) if flowing else layout.minimumSize().height()

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        self._fit()

    def _fit(self) -> None:
        self.setMinimumHeight(self._least_height())
        self._centre.setGeometry(self.rect())

"""A list of rows that are shown by a delegate: each is given whole, and says itself in one line."""

from __future__ import annotations

from typing import Generic, Protocol, TypeVar

from PyQt6.QtCore import QAbstractListModel, QModelIndex, QObject, Qt


class Row(Protocol):
    @property
    def spoken(self) -> str:
        """All of it in one line, for who cannot see it."""
        ...


R = TypeVar("R", bound=Row)


class RowsModel(QAbstractListModel, Generic[R]):
    """`Qt.ItemDataRole.UserRole` gives the row itself."""

    def __init__(self, parent: QObject) -> None:
        super().__init__(parent)
        self.rows: list[R] = []

    def rowCount(self, parent: QModelIndex | None = None) -> int:
        return 0 if parent is not None and parent.isValid() else len(self.rows)

    def data(self, index: QModelIndex, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        row = self.rows[index.row()]
        if role == Qt.ItemDataRole.UserRole:
            return row
        return row.spoken if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.AccessibleTextRole) else None

    def show(self, rows: list[R]) -> None:
        self.beginResetModel()
        self.rows = rows
        self.endResetModel()

"""A list of rows that are shown by a delegate: each is given whole, and says itself in one line."""

from __future__ import annotations

from collections.abc import Hashable
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

    def key(self, row: R) -> Hashable:
        """What a row stands for: of one that stands for the same as before only what is different is told."""
        return row.spoken

    def show(self, rows: list[R]) -> None:
        if [self.key(row) for row in rows] != [self.key(row) for row in self.rows]:
            self.beginResetModel()
            self.rows = rows
            self.endResetModel()
            return
        changed = [n for n, (one, other) in enumerate(zip(self.rows, rows, strict=True)) if one != other]
        self.rows = rows
        for number in changed:
            self.dataChanged.emit(self.index(number), self.index(number))

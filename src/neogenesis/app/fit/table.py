"""Parts against bays as a table: a ring fits, one with a dot fits with something, a filled one is chosen, a dash does
not fit."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import QAbstractTableModel, QModelIndex, QObject, QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QPainter, QPen, QResizeEvent
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QFrame,
    QHeaderView,
    QStyle,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QTableView,
)

from neogenesis.app.language import mark, said, tr
from neogenesis.app.theme.icons import paint_icon
from neogenesis.app.theme.look import BODY, SMALL, look
from neogenesis.app.words import nominal
from neogenesis.core.fit.lists import name_of
from neogenesis.core.fit.match import Verdict
from neogenesis.core.fit.matrix import VERDICTS, Matrix
from neogenesis.core.fit.part import Part
from neogenesis.core.machine.model import Bay

VERDICT_WORDS: dict[Verdict, str] = {
    "fits": mark("fits"),
    "fits-with": mark("fits with something"),
    "does-not-fit": mark("does not fit"),
}
_ELIDE = Qt.TextElideMode.ElideRight
_VERDICT, _CHOSEN = Qt.ItemDataRole.UserRole, Qt.ItemDataRole.UserRole + 1
_BELOW = Qt.ItemDataRole.UserRole + 2


def about_bay(bay: Bay) -> str:
    """`NVMe 4x4`, `7, 9.5 mm`: what tells it from others."""
    if bay.kind == "m2":
        bus = "NVMe" if "nvme" in bay.interfaces else "SATA"
        lanes = f" {bay.pcie_generation}x{bay.pcie_lanes}" if bay.pcie_generation and bay.pcie_lanes else ""
        return bus + lanes
    if bay.thickness_mm:
        return f"{', '.join(f'{n:g}' for n in bay.thickness_mm)} mm"
    return f"{bay.caddy_mm:g} mm" if bay.caddy_mm else said(bay.kind)


def about_part(part: Part) -> str:
    """`1 TB, M.2 2280, one-sided`: what tells it from others."""
    parts = [nominal(round(part.capacity_gb * 1e9)) if part.capacity_gb else ""]
    if part.form == "m2":
        parts.append(f"M.2 22{part.length_mm:g}" if part.length_mm else "M.2")
        parts.append({1: tr("one-sided"), 2: tr("two-sided")}.get(part.sides or 0, ""))
    elif part.thickness_mm:
        parts.append(f"{part.thickness_mm:g} mm")
    return ", ".join(p for p in parts if p)


class PartsTable(QAbstractTableModel):
    """One row for each part in the order given, one column for each bay between its name and its price."""

    def __init__(self, parent: QObject) -> None:
        super().__init__(parent)
        self.matrix: Matrix | None = None
        self._order: Sequence[int] = ()
        self._chosen: frozenset[tuple[str, str]] = frozenset()
        self.bay_width = 100

    def show(self, matrix: Matrix | None, order: Sequence[int], chosen: frozenset[tuple[str, str]]) -> None:
        self.beginResetModel()
        self.matrix, self._order, self._chosen = matrix, order, chosen
        self.endResetModel()

    def show_chosen(self, chosen: frozenset[tuple[str, str]]) -> None:
        """Only the marks are others; the rows stay where they are."""
        self._chosen = chosen
        last = self.index(self.rowCount() - 1, self.columnCount() - 1)
        self.dataChanged.emit(self.index(0, 0), last)

    def rowCount(self, parent: QModelIndex | None = None) -> int:
        return len(self._order)

    def columnCount(self, parent: QModelIndex | None = None) -> int:
        return len(self.matrix.bays) + 2 if self.matrix is not None else 0

    def part(self, row: int) -> Part | None:
        if self.matrix is None or not 0 <= row < len(self._order):
            return None
        return self.matrix.parts[self._order[row]]

    def bay(self, column: int) -> Bay | None:
        if self.matrix is None or not 1 <= column <= len(self.matrix.bays):
            return None
        return self.matrix.bays[column - 1]

    def place(self, part: str, bay: str) -> QModelIndex:
        """Where the two meet; not valid for what is not shown."""
        if self.matrix is None:
            return QModelIndex()
        columns = [b.name for b in self.matrix.bays]
        rows = [self.matrix.parts[n].id for n in self._order]
        return (
            self.index(rows.index(part), columns.index(bay) + 1) if part in rows and bay in columns else QModelIndex()
        )

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        bay = self.bay(section)
        if bay is not None and role == Qt.ItemDataRole.ToolTipRole:
            return f"{bay.name}, {about_bay(bay)}"
        if role == Qt.ItemDataRole.TextAlignmentRole and not section:
            return Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter
        if orientation != Qt.Orientation.Horizontal or role != Qt.ItemDataRole.DisplayRole or self.matrix is None:
            return None
        if bay is not None:
            metrics = look().metrics(SMALL)
            return f"{metrics.elidedText(bay.name, _ELIDE, self.bay_width)}\n{about_bay(bay)}"
        return tr("price") if section else tr("part")

    def data(self, index: QModelIndex, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        part, bay = self.part(index.row()), self.bay(index.column())
        if part is None or self.matrix is None:
            return None
        if bay is not None:
            verdict = VERDICTS[int(self.matrix.verdicts[self._order[index.row()], index.column() - 1])]
            chosen = (part.id, bay.name) in self._chosen
            if role == _VERDICT:
                return verdict
            if role == _CHOSEN:
                return chosen
            if role in (Qt.ItemDataRole.ToolTipRole, Qt.ItemDataRole.AccessibleTextRole):
                words = tr("chosen") if chosen else tr(VERDICT_WORDS[verdict])
                return f"{name_of(part)}, {bay.name}: {words}"
            return None
        if role == Qt.ItemDataRole.DisplayRole:
            return (part.price or "–") if index.column() else " ".join(filter(None, (part.make, part.model))) or part.id
        if role == _BELOW and not index.column():
            return about_part(part)
        if role == Qt.ItemDataRole.ToolTipRole:
            return self._price_tip(part) if index.column() else f"{name_of(part)}, {about_part(part)}"
        return None

    def _price_tip(self, part: Part) -> str:
        if part.cost is None or not part.capacity_gb:
            return tr("no price on record")
        each = tr("{0} for each usable GB").format(f"{float(part.cost) / part.capacity_gb:.3f}")
        stock = tr("{0} in stock").format(part.stock) if part.stock else tr("to be ordered")
        warranty = tr("{0} years of warranty").format(f"{part.warranty_years:g}") if part.warranty_years else ""
        return "  ·  ".join(filter(None, (each, stock, warranty)))


class _Cells(QStyledItemDelegate):
    def sizeHint(self, option: QStyleOptionViewItem, index: QModelIndex) -> QSize:
        return QSize(look().px(60), look().px(40))

    def paint(self, painter: QPainter | None, option: QStyleOptionViewItem, index: QModelIndex) -> None:
        if painter is None:
            return
        painter.save()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        area = QRectF(option.rect)
        if option.state & QStyle.StateFlag.State_Selected:
            focused = bool(option.state & QStyle.StateFlag.State_HasFocus)
            painter.setPen(QPen(look().colour("accent" if focused else "line"), 2 if focused else 1))
            painter.setBrush(look().colour("raised"))
            painter.drawRoundedRect(area.adjusted(2, 2, -2, -2), 5, 5)
        verdict = index.data(_VERDICT)
        if verdict is None:
            self._paint_words(painter, area, index)
        else:
            self._paint_mark(painter, area.center() + QPointF(0.5, 0.5), str(verdict), bool(index.data(_CHOSEN)))
        painter.restore()

    def _paint_words(self, painter: QPainter, area: QRectF, index: QModelIndex) -> None:
        text, below = str(index.data() or ""), index.data(_BELOW)
        inner = area.adjusted(look().px(8), 0, -look().px(8), 0)
        painter.setPen(look().colour("ink"))
        if below is None:
            painter.setFont(look().font(BODY))
            painter.drawText(inner, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, text)
            return
        top = QRectF(inner.left(), inner.top() + look().px(3), inner.width(), inner.height() / 2)
        painter.setFont(look().font(BODY, bold=True))
        bold, small = look().metrics(BODY, bold=True), look().metrics(SMALL)
        painter.drawText(top, Qt.AlignmentFlag.AlignVCenter, bold.elidedText(text, _ELIDE, int(inner.width())))
        painter.setFont(look().font(SMALL))
        painter.setPen(look().colour("muted"))
        top.translate(0, look().px(17))
        words = small.elidedText(str(below), _ELIDE, int(inner.width()))
        painter.drawText(top, Qt.AlignmentFlag.AlignVCenter, words)

    def _paint_mark(self, painter: QPainter, middle: QPointF, verdict: str, chosen: bool) -> None:
        r = look().px(8)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        if verdict == "does-not-fit":
            painter.setPen(QPen(look().colour("muted"), 1.6))
            painter.drawLine(middle - QPointF(r * 0.6, 0), middle + QPointF(r * 0.6, 0))
            return
        painter.setPen(QPen(look().colour("accent"), 1.8))
        if chosen:
            painter.setBrush(look().colour("accent"))
        painter.drawEllipse(middle, r, r)
        if chosen:
            side = r * 1.4
            paint_icon(painter, "check", QRectF(middle.x() - side / 2, middle.y() - side / 2, side, side), "accent_ink")
        elif verdict == "fits-with":
            painter.setBrush(look().colour("accent"))
            painter.drawEllipse(middle, r * 0.3, r * 0.3)


class PartsView(QTableView):
    """Arrow keys go from cell to cell; Space, Return or a double click puts the part into the bay or takes it out."""

    placed = pyqtSignal(str, str)
    pair_changed = pyqtSignal(str, str)

    def __init__(self) -> None:
        super().__init__()
        self.table = PartsTable(self)
        self.setModel(self.table)
        self.setItemDelegate(_Cells(self))
        self.setAccessibleName(tr("Parts against bays"))
        self.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.setShowGrid(False)
        self.setVerticalScrollMode(QAbstractItemView.ScrollMode.ScrollPerItem)
        self.setHorizontalScrollMode(QAbstractItemView.ScrollMode.ScrollPerPixel)
        self.setTabKeyNavigation(False)
        self.setFrameShape(QFrame.Shape.NoFrame)
        self.setObjectName("plain")
        down, across = self.verticalHeader(), self.horizontalHeader()
        assert down is not None and across is not None
        down.hide()
        down.setDefaultSectionSize(look().px(40))
        across.setSectionResizeMode(QHeaderView.ResizeMode.Fixed)
        across.setHighlightSections(False)
        across.setDefaultAlignment(Qt.AlignmentFlag.AlignCenter)
        self.setStyleSheet(
            "QTableView { background: transparent; border: 0; selection-background-color: transparent; }"
            f"QHeaderView, QHeaderView::section {{ background: transparent; border: 0; color: {look().tokens.muted};"
            f" font-size: {look().px(SMALL)}px; padding: {look().px(2)}px; }}"
        )
        selection = self.selectionModel()
        assert selection is not None
        selection.currentChanged.connect(lambda now, _: self._tell(now))
        self.doubleClicked.connect(lambda index: self._place(index))

    def show_matrix(self, matrix: Matrix | None, order: Sequence[int], chosen: frozenset[tuple[str, str]]) -> None:
        """Another table; the cell that was looked at stays so, as far as it is there."""
        before = self.pair
        self.table.show(matrix, order, chosen)
        self._size_columns()
        place = self.table.place(*before) if before else QModelIndex()
        if not place.isValid() and chosen:
            place = self.table.place(*sorted(chosen)[0])
        if not place.isValid() and self.table.rowCount():
            place = self.table.index(0, 1)
        self.setCurrentIndex(place)

    def _size_columns(self) -> None:
        count = self.table.columnCount()
        if not count:
            return
        bays = count - 2
        price = look().px(72)
        room = self.viewport_width - price
        name = max(look().px(150), min(look().px(210), room - bays * look().px(74)))
        each = max(look().px(64), (room - name) // max(1, bays))
        self.table.bay_width = int(each) - look().px(8)
        for column in range(count):
            self.setColumnWidth(column, name if not column else price if column == count - 1 else int(each))

    @property
    def viewport_width(self) -> int:
        port = self.viewport()
        return port.width() if port is not None else self.width()

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        self._size_columns()

    def whole_rows(self, tall: int) -> int:
        """The height up to `tall` at which no row is cut."""
        across = self.horizontalHeader()
        head = across.sizeHint().height() if across is not None else 0
        each = look().px(40)
        return head + max(2, min(self.table.rowCount(), (tall - head) // each)) * each

    @property
    def pair(self) -> tuple[str, str] | None:
        """Part and bay of the cell that is looked at."""
        index = self.currentIndex()
        part, bay = self.table.part(index.row()), self.table.bay(index.column())
        return (part.id, bay.name) if part is not None and bay is not None else None

    def look_at(self, part: str, bay: str) -> None:
        place = self.table.place(part, bay)
        if place.isValid():
            self.setCurrentIndex(place)

    def _tell(self, now: QModelIndex) -> None:
        part = self.table.part(now.row())
        bay = self.table.bay(now.column()) or self.table.bay(1)
        if part is not None and bay is not None:
            self.pair_changed.emit(part.id, bay.name)

    def _place(self, index: QModelIndex) -> None:
        part, bay = self.table.part(index.row()), self.table.bay(index.column())
        if part is not None and bay is not None:
            self.placed.emit(part.id, bay.name)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        keys = (Qt.Key.Key_Space, Qt.Key.Key_Return, Qt.Key.Key_Enter)
        if event is not None and event.key() in keys and not event.modifiers():
            self._place(self.currentIndex())
            return
        super().keyPressEvent(event)

"""The same work for many machines: what it costs against replacing them, drawn over the number of seats, and its
batches on the docks there are."""

from __future__ import annotations

from decimal import Decimal, InvalidOperation
from pathlib import Path

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPaintEvent, QPen, QPolygonF
from PyQt6.QtWidgets import QComboBox, QDialog, QFileDialog, QGridLayout, QLineEdit, QSizePolicy, QWidget

from neogenesis.app.decide.lanes import WAY_NAMES
from neogenesis.app.desk.open_job import OpenJob
from neogenesis.app.language import said, tr, trn
from neogenesis.app.parts.controls import Choice, button, clear, label, row, stack
from neogenesis.app.theme.look import SMALL, look
from neogenesis.app.words import time_range
from neogenesis.bench.register import allow_output
from neogenesis.core.decide.fleet import Fleet, Seats, as_csv, fleet
from neogenesis.core.decide.way import Way
from neogenesis.core.errors import BadArgument, NeogenesisError
from neogenesis.core.fit.part import money
from neogenesis.core.record import save_bytes

_ROWS = 4
_DAY_S = 8 * 3600


class FleetCanvas(QWidget):
    """Money over seats: a band for the way, a line for other machines, the budget across; below, batches in time."""

    def __init__(self) -> None:
        super().__init__()
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setAccessibleName(tr("Cost by seats, and batches"))
        self.fleet: Fleet | None = None
        self.budget: Decimal | None = None
        self.title = ""

    def minimumSizeHint(self) -> QSize:
        return QSize(260, look().px(220))

    def show_fleet(self, fleet: Fleet | None, budget: Decimal | None, title: str, spoken: str) -> None:
        self.fleet, self.budget, self.title = fleet, budget, title
        self.setAccessibleDescription(spoken)
        self.update()

    @property
    def _plot(self) -> QRectF:
        right = look().px(120)
        return QRectF(
            look().px(64), look().px(14), self.width() - look().px(64) - right, self.height() - look().px(126)
        )

    def _most(self, fleet: Fleet) -> float:
        found = [float(fleet.total[2]), float(fleet.replacement or 0)]
        budget = float(self.budget or 0)
        return max(*found, budget if budget < 3 * max(found) else 0, 1.0) * 1.06

    def paintEvent(self, event: QPaintEvent | None) -> None:
        if self.fleet is None:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(look().font(SMALL))
        self._paint_money(painter, self.fleet)
        self._paint_batches(painter, self.fleet)

    def _paint_money(self, painter: QPainter, fleet: Fleet) -> None:
        area, most = self._plot, self._most(fleet)
        painter.setPen(QPen(look().colour("line"), 1))
        painter.drawLine(area.bottomLeft(), area.bottomRight())
        painter.drawLine(area.topLeft(), area.bottomLeft())

        def y(amount: Decimal | float) -> float:
            return area.bottom() - area.height() * float(amount) / most

        ends = [QPointF(area.right(), y(amount)) for amount in fleet.total]
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(look().role("system", 0.3))
        painter.drawPolygon(QPolygonF([area.bottomLeft(), ends[0], ends[2]]))
        painter.setPen(QPen(look().role("system"), 2.2))
        painter.drawLine(area.bottomLeft(), ends[1])
        self._name_end(painter, ends[1].y(), self.title, "accent")
        if fleet.replacement is not None:
            end = QPointF(area.right(), y(fleet.replacement))
            painter.setPen(QPen(look().role("data"), 2.2))
            painter.drawLine(area.bottomLeft(), end)
            near = abs(end.y() - ends[1].y()) < look().px(18)
            self._name_end(painter, end.y() - (look().px(18) if near else 0), tr("other machines"), "ink")
        if self.budget is not None and float(self.budget) <= most:
            at = y(self.budget)
            painter.setPen(QPen(look().colour("caution"), 1.4, Qt.PenStyle.DashLine))
            painter.drawLine(QPointF(area.left(), at), QPointF(area.right(), at))
            painter.setPen(look().colour("caution"))
            painter.drawText(QRectF(area.left() + 6, at - look().px(18), 200, look().px(17)), 0, tr("budget"))
            self._drop(painter, fleet, area, at)
        painter.setPen(look().colour("muted"))
        right = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        top = QRectF(0, area.top() - look().px(9), area.left() - 6, look().px(18))
        painter.drawText(top, right, f"{most:,.0f}".replace(",", " "))
        foot = QRectF(area.left(), area.bottom() + 3, area.width(), look().px(18))
        painter.drawText(
            foot, Qt.AlignmentFlag.AlignRight, trn("{0} seat", "{0} seats", fleet.seats).format(fleet.seats)
        )

    def _drop(self, painter: QPainter, fleet: Fleet, area: QRectF, at: float) -> None:
        """From where a line meets the budget down to the seats that it covers."""
        for covered, role in ((fleet.covered, "system"), (fleet.covered_replaced, "data")):
            if covered is None or not 0 < covered < fleet.seats:
                continue
            x = area.left() + area.width() * covered / fleet.seats
            painter.setPen(QPen(look().role(role), 1.2, Qt.PenStyle.DotLine))
            painter.drawLine(QPointF(x, at), QPointF(x, area.bottom()))
            painter.setPen(look().colour("ink"))
            place = QRectF(x - 30, area.bottom() + 3, 60, look().px(18))
            painter.drawText(place, Qt.AlignmentFlag.AlignHCenter, str(covered))

    def _name_end(self, painter: QPainter, y: float, text: str, token: str) -> None:
        painter.setPen(look().colour(token))
        place = QRectF(self._plot.right() + look().px(6), y - look().px(9), look().px(112), look().px(18))
        words = look().metrics(SMALL).elidedText(text, Qt.TextElideMode.ElideRight, int(place.width()))
        painter.drawText(place, Qt.AlignmentFlag.AlignVCenter, words)

    def _paint_batches(self, painter: QPainter, fleet: Fleet) -> None:
        """Blocks in time with how many machines are in each, and a line where a working day ends."""
        left, top = look().px(64), self.height() - look().px(76)
        wide, tall = self.width() - left - look().px(20), look().px(30)
        last = fleet.batches[-1].end_s if fleet.batches else 1.0
        painter.setPen(look().colour("muted"))
        painter.drawText(QRectF(0, top, left - 8, tall), int(Qt.AlignmentFlag.AlignVCenter), tr("batches"))
        for n, batch in enumerate(fleet.batches):
            x0, x1 = left + wide * batch.start_s / last, left + wide * batch.end_s / last
            painter.setPen(QPen(look().colour("ground"), 1))
            painter.setBrush(look().role("system", 0.75 if n % 2 else 0.5))
            box = QRectF(x0, top, max(1.5, x1 - x0), tall)
            painter.drawRect(box)
            count = sum(c for _, c in batch.machines)
            if box.width() > look().px(20):
                painter.setPen(look().colour("ink"))
                painter.drawText(box, Qt.AlignmentFlag.AlignCenter, str(count))
        painter.setPen(QPen(look().colour("muted"), 1))
        days = int(last // _DAY_S)
        for day in range(1, min(days, 60) + 1):
            x = left + wide * day * _DAY_S / last
            painter.drawLine(QPointF(x, top - 4), QPointF(x, top + tall + 4))
            if days <= 12:
                place = QRectF(x - 40, top + tall + 4, 80, look().px(17))
                painter.drawText(place, Qt.AlignmentFlag.AlignHCenter, tr("day {0}").format(day))


class FleetSheet(QDialog):
    """Up to four kinds of machines; everything moves as it is typed."""

    def __init__(self, parent: QWidget, desk: OpenJob, way: Way) -> None:
        super().__init__(parent)
        self._desk, self._way = desk, way
        self.fleet: Fleet | None = None
        self.setWindowTitle(tr("{0} for many machines").format(tr(WAY_NAMES[way])))
        around = parent.window()
        self.resize(look().px(860), min(look().px(680), around.height() - 20 if around is not None else 680))
        facts = desk.decide.facts
        self.rows: list[tuple[QComboBox, QLineEdit, QLineEdit]] = []
        grid = QGridLayout()
        grid.setHorizontalSpacing(look().px(10))
        for column, text in enumerate((tr("Machine"), tr("Seats"), tr("Parts for one"))):
            grid.addWidget(label(text, "muted"), 0, column)
        mine = desk.intake.match.machine
        for n in range(_ROWS):
            self._row(grid, n, mine.title if mine is not None and not n else "", "12" if not n else "", facts.new_cost)
        grid.setColumnStretch(3, 1)
        docks = sum(1 for d in desk.bench.docks()) or 1
        self.docks = self._line(tr("Docks"), str(min(docks, 8)))
        self.other = self._line(tr("Another machine"), desk.decide.choice.replacement_price)
        self.budget = self._line(tr("Budget"), "")
        inputs = row(gap=look().px(8))
        for name, field in (
            (tr("Docks"), self.docks),
            (tr("Another machine"), self.other),
            (tr("Budget"), self.budget),
        ):
            inputs.addWidget(label(name, "muted"))
            inputs.addWidget(field)
        inputs.addStretch(1)
        self._figures = QGridLayout()
        self._figures.setHorizontalSpacing(look().px(18))
        self._figures.setColumnStretch(1, 1)
        self.canvas = FleetCanvas()
        self._fault = label("", "stop", wrap=True)
        self.csv = button(tr("Save as CSV…"), self._ask_csv)
        foot = row(self.csv, None, button(tr("Close"), self.accept, "main"))
        body = stack(
            grid, inputs, self._figures, self.canvas, self._fault, foot, gap=look().px(10), margin=look().px(18)
        )
        body.setStretch(3, 1)
        self.setLayout(body)
        self._show()

    def _row(self, grid: QGridLayout, n: int, title: str, count: str, parts: Decimal) -> None:
        box: QComboBox = Choice()
        box.addItem(tr("another kind") if n else tr("like this one"), "")
        for machine in self._desk.intake.machines:
            box.addItem(machine.title, machine.title)
        box.setCurrentIndex(max(0, box.findData(title)))
        box.setAccessibleName(tr("Machine {0}").format(n + 1))
        box.currentIndexChanged.connect(lambda _: self._show())
        seats = self._line(tr("Seats of machine {0}").format(n + 1), count)
        cost = self._line(tr("Parts for machine {0}").format(n + 1), f"{parts:.2f}" if parts and not n else "")
        for column, widget in enumerate((box, seats, cost)):
            grid.addWidget(widget, n + 1, column)
        self.rows.append((box, seats, cost))

    def _line(self, name: str, text: str) -> QLineEdit:
        made = QLineEdit(text)
        made.setFixedWidth(look().px(92))
        made.setAccessibleName(name)
        made.textEdited.connect(lambda _: self._show())
        return made

    # What is typed

    def _read(self) -> tuple[list[Seats], int, Decimal | None, Decimal | None]:
        kinds = {m.title: m.kind for m in self._desk.intake.machines}
        seats = []
        for box, count, parts in self.rows:
            number = _count(count.text())
            if number:
                title = str(box.currentData() or "") or tr("machine")
                cost = _amount(parts.text()) or Decimal(0)
                seats.append(Seats(title, kinds.get(title, self._desk.decide.facts.machine_kind), number, cost))
        return seats, _count(self.docks.text()), _amount(self.other.text()), _amount(self.budget.text())

    def _show(self) -> None:
        try:
            seats, docks, other, budget = self._read()
            self.fleet = fleet(self._desk.decide.facts, self._way, seats, docks, other, budget)
        except NeogenesisError as error:
            self._fault.setText(said(error.sentence()))
            return
        self._fault.setText("")
        self._show_figures(self.fleet)
        spoken = ", ".join(f"{name}: {value}" for name, value in self._lines(self.fleet))
        self.canvas.show_fleet(self.fleet, budget, tr(WAY_NAMES[self._way]), spoken)

    def _cash(self, amount: Decimal) -> str:
        return f"{amount:.2f} {self._desk.decide.facts.currency}".strip()

    def _lines(self, found: Fleet) -> list[tuple[str, str]]:
        low, _, high = found.total
        lines = [
            (tr("All seats"), tr("{0} to {1}").format(self._cash(low), self._cash(high))),
            (tr("Spares beside it"), self._cash(found.spares)),
            (tr("Takes"), time_range(found.span_s[0], found.span_s[2])),
            (tr("Hands on it"), time_range(found.hands_s[0], found.hands_s[2])),
        ]
        if found.replacement is not None:
            lines.insert(2, (tr("Other machines"), self._cash(found.replacement)))
        if found.covered is not None:
            text = trn("{0} seat", "{0} seats", found.covered).format(found.covered)
            if found.covered_replaced is not None:
                text = tr("{0}; {1} replaced").format(text, found.covered_replaced)
            lines.append((tr("The budget covers"), text))
        lines.append((tr("Both cost the same when another machine costs"), self._cash(found.break_even)))
        return lines

    def _show_figures(self, found: Fleet) -> None:
        clear(self._figures)
        lines = self._lines(found)
        half = (len(lines) + 1) // 2
        for n, (name, value) in enumerate(lines):
            column = 0 if n < half else 2
            self._figures.addWidget(label(name, "muted"), n % half, column)
            self._figures.addWidget(label(value, "head", copyable=True), n % half, column + 1)

    def _ask_csv(self) -> None:
        usual = str(self._desk.dossier / "fleet.csv")
        name, _ = QFileDialog.getSaveFileName(self, tr("Save as CSV"), usual, "CSV (*.csv)")
        if name:
            self.save_csv(Path(name))

    def save_csv(self, path: Path) -> None:
        """Rows, totals and batches."""
        if self.fleet is None:
            return
        try:
            save_bytes(allow_output(path, "table", force=True), as_csv(self.fleet).encode())
        except NeogenesisError as error:
            self._fault.setText(said(error.sentence()))


def _count(text: str) -> int:
    if not text.strip():
        return 0
    if not text.strip().isdecimal() or len(text.strip()) > 7:
        raise BadArgument(f"“{text}” is no number of machines.", "Type one such as 12.")
    return int(text)


def _amount(text: str) -> Decimal | None:
    if not text.strip():
        return None
    try:
        found = money(text.replace(",", "."))
    except InvalidOperation:
        found = Decimal(-1)
    if found < 0:
        raise BadArgument(f"“{text}” is no amount of money.", "Type one such as 79.90.")
    return found

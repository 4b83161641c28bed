"""Where the figures of a way come from: each kind of work with its minutes, which can be argued with; money; risk."""

from __future__ import annotations

from decimal import Decimal

from PyQt6.QtWidgets import QDialog, QGridLayout, QLineEdit, QWidget

from neogenesis.app.decide.lanes import WAY_NAMES
from neogenesis.app.decide.model import DecideModel
from neogenesis.app.language import mark, said, tr
from neogenesis.app.parts.controls import button, clear, label, read_through, row, stack
from neogenesis.app.theme.look import look
from neogenesis.core.decide.decision import WayRow
from neogenesis.core.decide.way import Way
from neogenesis.core.decide.ways import Considered, Piece
from neogenesis.core.errors import BadArgument, NeogenesisError

WORK_NAMES = {
    "opening": mark("Opening and closing the machine"),
    "connect": mark("Connecting and surveying"),
    "plan": mark("Plan and confirmation"),
    "check": mark("First start and checks"),
    "handover": mark("Handing over"),
    "install": mark("Answering the installer"),
    "drivers": mark("Drivers"),
    "settings": mark("Accounts and settings"),
    "program": mark("Each program brought back"),
    "files": mark("Choosing and placing files"),
    "clean": mark("Clearing with consent"),
    "advise": mark("Choosing another machine"),
    "installation": mark("Installing, alone"),
    "updates": mark("Updates, alone"),
    "copy": mark("Copying and reading back, alone"),
    "copy back": mark("Copying files back, alone"),
}

LINK_NAMES = {
    "enclosure": mark("New drive in an enclosure"),
    "second-dock": mark("Two docks"),
    "internal-slot": mark("Free slot in the machine"),
    "third-drive": mark("Image on a third drive"),
    "stick": mark("System from a stick, on the machine itself"),
}


class FiguresSheet(QDialog):
    """Minutes typed here hold for this job only; an empty field is what is usual."""

    def __init__(self, parent: QWidget, model: DecideModel, way: Way) -> None:
        super().__init__(parent)
        self._model, self._way = model, way
        self.setWindowTitle(tr("Where the figures of {0} come from").format(tr(WAY_NAMES[way])))
        self.resize(look().px(700), look().px(580))
        self._inner = QWidget()
        self._grid = QGridLayout(self._inner)
        self._grid.setHorizontalSpacing(look().px(14))
        self._grid.setColumnStretch(0, 3)
        self._grid.setColumnStretch(3, 2)
        self._fault = label("", "stop", wrap=True)
        self._fault.hide()
        self.minutes: dict[str, QLineEdit] = {}
        close = button(tr("Close"), self.accept, "main")
        usual = button(tr("All as usual"), self._all_usual)
        page = read_through(self._inner, tr("Figures"))
        self.setLayout(stack(page, self._fault, row(None, usual, close), gap=look().px(10), margin=look().px(18)))
        self._build()

    def _build(self) -> None:
        clear(self._grid)
        self.minutes = {}
        one, facts = self._model.considered()[self._way], self._model.facts
        row_ = next(w for w in self._model.decision.ways if w.way == self._way)
        at = self._heads(0, tr("Work"), tr("8 times of 10, min"), tr("here, min"), "")
        for piece, count in _counted(one):
            at = self._work(at, piece, count)
        at = self._heads(at, tr("Money"), "", "", "")
        hours = Decimal(row_.hands_on_seconds_p50) / 3600
        at = self._line(at, tr("Parts"), f"{one.parts_cost:.2f}")
        text = tr("{0} h with hands on it at {1}").format(f"{hours:.2f}", facts.labour)
        at = self._line(at, text, f"{hours * facts.labour:.2f}")
        at = self._line(at, tr("Price of this way"), row_.cost_p50)
        at = self._heads(at, tr("Risk"), "", "", "")
        why = " ".join(said(r) for r in row_.risk_reasons) or tr("what always may happen")
        at = self._line(at, tr("That it has to be left: {0}").format(why), f"{row_.risk_percent:g} %")
        if row_.life_percent:
            text = f"{row_.life_percent:.2g} %"
            at = self._line(at, tr("Of the reading that the old drive still has in it"), text)
        at = self._connections(at, row_)
        at = self._schools(at)
        for name, factor in facts.factors:
            known = {"hands": tr("hands on it"), "copy": tr("copying")}.get(name, name)
            at = self._line(at, tr("From this shop's own jobs: {0}").format(known), f"× {factor:.2f}")
        self._grid.setRowStretch(at, 1)

    def _connections(self, at: int, of: WayRow) -> int:
        """How the drives can be connected, and what that takes."""
        if of.connections:
            at = self._heads(at, tr("Connecting"), tr("opened"), tr("minutes"), "")
        for link in of.connections:
            name = tr(LINK_NAMES[link.connection])
            own = f"{name}  ✓" if link.connection == of.connection else name
            needs = said(link.reason) if link.reason else ", ".join(said(a) for a in link.adapters)
            self._grid.addWidget(label(own, "" if link.possible else "muted"), at, 0)
            self._grid.addWidget(label(str(link.openings) if link.possible else "–", "muted"), at, 1)
            self._grid.addWidget(label(_short(link.seconds_p50 / 60) if link.possible else "–", "muted"), at, 2)
            self._grid.addWidget(label(needs, "small", wrap=True), at, 3)
            at += 1
        return at

    def _schools(self, at: int) -> int:
        """What each of the two would say."""
        decision = self._model.decision
        for title, texts in (
            (tr("Who copies would say"), decision.for_copying),
            (tr("Who starts clean would say"), decision.for_starting_clean),
        ):
            at = self._heads(at, title, "", "", "")
            self._grid.addWidget(label(" ".join(said(t) for t in texts), wrap=True, copyable=True), at, 0, 1, 4)
            at += 1
        return at

    def _heads(self, at: int, *texts: str) -> int:
        for column, text in enumerate(texts):
            self._grid.addWidget(label(text, "head" if not column else "muted"), at, column)
        return at + 1

    def _line(self, at: int, name: str, value: str) -> int:
        self._grid.addWidget(label(name, wrap=True), at, 0)
        self._grid.addWidget(label(value, copyable=True), at, 1)
        return at + 1

    def _work(self, at: int, piece: Piece, count: int) -> int:
        name = tr(WORK_NAMES.get(piece.name, piece.name))
        times = f" × {count}" if count > 1 else ""
        self._grid.addWidget(label(f"{name}{times}", wrap=True), at, 0)
        low, middle, high = (n / 60 for n in piece.spread)
        text = tr("{0} – {1} – {2}").format(_short(low), _short(middle), _short(high))
        self._grid.addWidget(label(text, copyable=True), at, 1)
        field = QLineEdit(_short(self._model.choice.minutes.get(piece.name)))
        field.setFixedWidth(look().px(72))
        field.setPlaceholderText(tr("usual"))
        field.setAccessibleName(tr("{0}, minutes here").format(name))
        field.editingFinished.connect(lambda: self._typed(piece.name))
        self.minutes[piece.name] = field
        self._grid.addWidget(field, at, 2)
        alone = "" if piece.hands else tr("runs alone")
        self._grid.addWidget(label(alone, "small"), at, 3)
        return at + 1

    def _typed(self, name: str) -> None:
        text = self.minutes[name].text().strip().replace(",", ".")
        if text == _short(self._model.choice.minutes.get(name)):
            return
        try:
            try:
                value = float(text) if text else None
            except ValueError:
                raise BadArgument(f"“{text}” is no number of minutes.", "Type one such as 12.") from None
            self._model.argue(name, value)
        except NeogenesisError as error:
            self._fault.setText(said(error.sentence()))
            self._fault.show()
            return
        self._fault.hide()
        self._build()

    def _all_usual(self) -> None:
        self._model.put(minutes={})
        self._build()

    @property
    def fault(self) -> str:
        return self._fault.text()


def _counted(one: Considered) -> list[tuple[Piece, int]]:
    """Pieces of one name once, with how many there are."""
    found: dict[str, tuple[Piece, int]] = {}
    for piece in one.pieces:
        found[piece.name] = (piece, found.get(piece.name, (piece, 0))[1] + 1)
    return list(found.values())


def _short(minutes: float | None) -> str:
    if minutes is None:
        return ""
    return f"{minutes:.0f}" if minutes >= 10 else f"{minutes:.2g}"

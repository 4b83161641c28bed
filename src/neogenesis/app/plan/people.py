"""People's files for a clean start: what returns, by kind and size, whether it fits, and what does not, and why."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPaintEvent
from PyQt6.QtWidgets import QCheckBox, QDialog, QGridLayout, QLabel, QSizePolicy, QVBoxLayout, QWidget

from neogenesis.app.desk.open_job import OpenJob
from neogenesis.app.language import mark, said, tr, trn
from neogenesis.app.parts.column import GAUGE_WIDTH, paint_column, paint_gauge
from neogenesis.app.parts.controls import Choice, button, clear, label, notice, row, scrolled, stack
from neogenesis.app.parts.mirror import follow_direction
from neogenesis.app.parts.strata import FREE, Stratum, place_strata
from neogenesis.app.theme.look import look
from neogenesis.app.words import both, exact
from neogenesis.bench.works.installing import volume_for_people
from neogenesis.core.file_kinds import KINDS, Kind
from neogenesis.core.reinstall.giving import NOT_HERE_REASONS
from neogenesis.core.reinstall.persons import Person
from neogenesis.core.reinstall.returned import KindCount, LeftOut, Returnable, Same
from neogenesis.core.system import not_here_lines

_TITLES: dict[Kind, str] = {
    "documents": mark("documents"),
    "pictures": mark("pictures"),
    "films": mark("films"),
    "music": mark("music"),
    "mail": mark("mail, calendars, addresses"),
    "archives": mark("archives"),
    "other": mark("everything else"),
    "programs": mark("what can be run"),
}
_SAME: dict[Same, str] = {
    "beside": mark("keep both"),
    "newer": mark("only the newer"),
    "keep": mark("keep what is there"),
}
_MOST_EXAMPLES = 3


class PeopleSheet(QDialog):
    """Choices are taken at once; the plan beside it follows."""

    def __init__(self, parent: QWidget, desk: OpenJob) -> None:
        super().__init__(parent)
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        self._desk, self._model = desk, desk.plan.fresh
        self.setWindowTitle(tr("People's files"))
        self.resize(look().px(860), look().px(620))
        self.column = _Volume()
        self._volume, self._size = label("", "head"), label("", "small")
        self._sum = label("", "head", wrap=True, copyable=True)
        self._room = label("", "muted", wrap=True, copyable=True)
        self.boxes: dict[Kind, QCheckBox] = {}
        self._bars: dict[Kind, _Share] = {}
        self._figures = {kind: label("", "muted", copyable=True) for kind in KINDS}
        self._grid = QGridLayout()
        self._grid.setHorizontalSpacing(look().px(14))
        self._grid.setVerticalSpacing(look().px(7))
        self._grid.setColumnStretch(1, 1)
        self._persons = QGridLayout()
        self._persons.setHorizontalSpacing(look().px(12))
        self._persons.setVerticalSpacing(look().px(7))
        self._persons.setColumnStretch(2, 1)
        self.owners: dict[str, Choice] = {}
        self._reasons = QVBoxLayout()
        self._reasons.setSpacing(look().px(8))
        self._build()
        self._model.changed.connect(self.refresh)
        self._model.meet_people()
        self.refresh()

    def _build(self) -> None:
        for n, kind in enumerate(KINDS):
            box, share = QCheckBox(tr(_TITLES[kind])), _Share("caution" if kind == "programs" else "data")
            box.clicked.connect(lambda _, k=kind: self._chosen(k))
            self.boxes[kind], self._bars[kind] = box, share
            self._grid.addWidget(box, n, 0)
            self._grid.addWidget(share, n, 1)
            self._grid.addWidget(self._figures[kind], n, 2, Qt.AlignmentFlag.AlignRight)
        self.same = Choice()
        self.same.setAccessibleName(tr("Of two files for one place"))
        for one, words in _SAME.items():
            self.same.addItem(tr(words), one)
        self.same.activated.connect(lambda _: self._model.change(same=self.same.currentData()))
        self._same = row(label(tr("Of two files for one place"), "muted"), self.same, None, gap=look().px(12))
        self.boxes["programs"].setToolTip(tr("After malware nothing that can be run should return"))
        inner = QWidget()
        inner.setLayout(stack(self._grid, self._persons, self._same, self._reasons, None, gap=look().px(18)))
        right = stack(self._sum, self._room, scrolled(inner), gap=look().px(8))
        right.setStretch(2, 1)
        across = row(gap=look().px(26))
        left = stack(self._volume, self._size, self.column, gap=look().px(3))
        left.setStretch(2, 1)
        across.addLayout(left)
        across.addLayout(right, 1)
        body = stack(across, row(None, button(tr("Close"), self.accept)), gap=look().px(12), margin=look().px(18))
        body.setStretch(0, 1)
        self.setLayout(body)

    def _chosen(self, kind: Kind) -> None:
        """All that there are mean the same as none named; the last one stays, for nothing returns another way."""
        if kind == "programs":
            self._model.change(programs=self.boxes[kind].isChecked())
            return
        there = [k for k in KINDS if k != "programs" and self.boxes[k].isEnabled()]
        on = tuple(k for k in there if self.boxes[k].isChecked())
        if on:
            self._model.change(kinds=() if len(on) == len(there) else on)
        self.refresh()

    def refresh(self) -> None:
        model, found = self._model, self._model.people
        is_open = self._desk.plan.state == "ready"
        clear(self._reasons)
        if found is None:
            fault = said(model.failure.sentence()) if model.failure is not None else ""
            looking = tr("Looking through the files…")
            self._sum.setText(looking if model.wish.data and model.asking else fault or tr("No files go back."))
            self._room.setText("")
        wish = model.wish
        largest = max((n.size_bytes for n in found.kinds.values()), default=1) if found is not None else 1
        for kind in KINDS:
            count = found.kinds.get(kind, KindCount()) if found is not None else KindCount()
            on = wish.programs if kind == "programs" else not wish.kinds or kind in wish.kinds
            box = self.boxes[kind]
            box.setChecked(on and bool(count.files))
            box.setEnabled(is_open and bool(count.files))
            self._bars[kind].show_share(count.size_bytes / max(1, largest), on)
            self._figures[kind].setEnabled(bool(count.files))
            self._figures[kind].setText(
                f"{_files(count.files)}, {both(count.size_bytes)}" if count.files else tr("none")
            )
        for n in range(self._same.count()):
            if (widget := self._same.itemAt(n).widget()) is not None:  # type: ignore[union-attr]
                widget.setVisible(found is not None and (found.doubles > 0 or wish.same != "beside"))
        self.same.setCurrentIndex(self.same.findData(wish.same))
        self.same.setEnabled(is_open)
        self._show_persons(found.persons if found is not None else (), is_open)
        if found is not None:
            self._show(found)
        strata = self._strata(found)
        self.column.show_strata(strata)
        self._volume.setText(self._place())
        self._size.setText(exact(sum(s.size_bytes for s in strata)) if strata else "")

    def _show(self, found: Returnable) -> None:
        model = self._model
        chosen = found.chosen(model.wish.kinds, model.wish.programs)
        words = trn("{0} file returns, {1}.", "{0} files return, {1}.", chosen.files)
        self._sum.setText(words.format(chosen.files, both(chosen.size_bytes)))
        over = chosen.room_bytes - model.room_bytes if model.room_bytes else 0
        if not model.room_bytes:  # a plan that is on file, whose system was not looked into again
            words = ""
        elif over > 0:
            words = tr("They do not fit: {0} too much. Leave a kind out, or take a larger drive.").format(both(over))
        else:
            beside = tr("They fit: beside the system there are {0}, and {1} stay free.")
            alone = tr("They fit: there are {0}, and {1} stay free.")
            words = (beside if model.beside_bytes else alone).format(both(model.room_bytes), both(-over))
        self._room.setText(words)
        self._room.setProperty("kind", "stop" if over > 0 else "muted")
        self._room.style().polish(self._room)  # type: ignore[union-attr]
        if model.wish.programs and "programs" in found.kinds:
            self._say("caution", tr("What can be run returns as well. After malware that can bring it back."))
        count = len(found.archives)
        words = trn("{0} archive returns; nobody looked inside.", "{0} archives return; nobody looked inside.", count)
        if count:
            self._say("caution", words.format(count), _examples(found.archives))
        count = len(found.damaged)
        words = trn(
            "{0} file is damaged where it could not be read.",
            "{0} files are damaged where they could not be read.",
            count,
        )
        if count:
            self._say("caution", words.format(count), _examples(found.damaged))
        if found.not_here:
            size = exact(sum(one.bytes for one in found.not_here))
            words = trn("{0} file is not here, {1}.", "{0} files are not here, {1}.", len(found.not_here))
            lines = not_here_lines(found.not_here, "")
            self._say("caution", words.format(len(found.not_here), size), _examples(lines))
        if found.there_already:
            words = trn("{0} file is there already.", "{0} files are there already.", found.there_already)
            self._say("note", words.format(found.there_already))
        for lost in found.not_kept:
            self._say("note", f"{_files(lost.files)}: {said(lost.what)}.", _examples(lost.places))
        if found.doubles and model.wish.same == "beside":
            words = trn(
                "{0} name is there twice; both are kept.", "{0} names are there twice; both are kept.", found.doubles
            )
            self._say("note", words.format(found.doubles))
        words = trn("{0} file gets another name or place.", "{0} files get another name or place.", found.renamed)
        if found.renamed:
            self._say("note", words.format(found.renamed))
        elsewhere = {said(why) for why in NOT_HERE_REASONS.values()}
        for why, some in found.left_out.items():
            if said(why) in elsewhere:
                continue
            self._say("note", _left(why, some), _examples([one.path for one in some]))

    def _say(self, severity: str, words: str, more: str = "") -> None:
        self._reasons.addWidget(notice(severity, words, more))

    def _show_persons(self, persons: Sequence[Person], is_open: bool) -> None:
        """Whose each old home becomes: people of the new system, a home of its own, or nobody's."""
        model = self._model
        if sorted(self.owners) != sorted(one.old for one in persons):
            clear(self._persons)
            self.owners = {}
            if persons:
                self._persons.addWidget(label(tr("Whose each home becomes"), "muted"), 0, 0, 1, 3)
            for n, one in enumerate(persons, 1):
                choice = self.owners[one.old] = Choice()
                choice.setAccessibleName(tr("Whose {0}'s files become").format(one.old))
                choice.activated.connect(lambda _, old=one.old: self._person_chosen(old))
                self._persons.addWidget(label(one.old, "head"), n, 0)
                self._persons.addWidget(choice, n, 1)
                self._persons.addWidget(label("", "muted", copyable=True), n, 2)
        accounts = [one.name for one in model.system.accounts] if model.system is not None else []
        for n, one in enumerate(persons, 1):
            choice = self.owners[one.old]
            choice.clear()
            for name in dict.fromkeys([*accounts, one.old, *([one.new] if one.new else [])]):
                known = name in accounts
                choice.addItem(
                    tr("to {0}").format(name) if known else tr("to a home of its own, {0}").format(name), name
                )
            choice.addItem(tr("stays out"), "")
            choice.setCurrentIndex(choice.findData(one.new))
            choice.setEnabled(is_open)
            item = self._persons.itemAtPosition(n, 2)
            if item is not None and isinstance(figures := item.widget(), QLabel):
                figures.setText(f"{_files(one.files)}, {both(one.size_bytes)}" if one.new else "")

    def _person_chosen(self, old: str) -> None:
        wished = dict(self._model.wish.persons) | {old: self.owners[old].currentData()}
        self._model.change(persons=tuple(sorted(wished.items())))

    def _place(self) -> str:
        """The volume onto which people's files go, by its name."""
        plan, system = self._model.plan, self._model.system
        if plan is None or system is None:
            return ""
        return said(volume_for_people(plan, system.description.family).title)

    def _strata(self, found: Returnable | None) -> list[Stratum]:
        """The volume of people's folders: the system if it is there, each kind that returns, and what stays free."""
        model, wish = self._model, self._model.wish
        system = model.system
        if system is None:
            return []
        sizes = [("system", tr("System"), model.beside_bytes)] if model.beside_bytes else []
        if found is not None:
            for kind in KINDS:
                on = wish.programs if kind == "programs" else not wish.kinds or kind in wish.kinds
                if on and kind in found.kinds:
                    sizes.append(("data", tr(_TITLES[kind]), found.kinds[kind].room_bytes))
        left = model.room_bytes - sum(size for role, _, size in sizes if role == "data")
        strata, at = list[Stratum](), 0
        for n, (role, title, size) in enumerate(sizes):
            strata.append(Stratum(n, role, title, at, size, 1.0))
            at += size
        return [*strata, Stratum(None, FREE, tr("free"), at, left)] if left > 0 else strata


def _files(count: int) -> str:
    return trn("{0} file", "{0} files", count).format(count)


def _left(why: str, some: tuple[LeftOut, ...]) -> str:
    files = sum(one.files for one in some)
    return f"{_files(files)}, {exact(sum(one.size_bytes for one in some))}: {said(why)}" if files else said(why)


def _examples(names: Sequence[str]) -> str:
    more = len(names) - _MOST_EXAMPLES
    shown = "\n".join(names[:_MOST_EXAMPLES])
    return f"{shown}\n{tr('and {0} more').format(more)}" if more > 0 else shown


class _Volume(QWidget):
    """The volume of people's folders as a column, with a gauge at true scale."""

    def __init__(self) -> None:
        super().__init__()
        self.setSizePolicy(QSizePolicy.Policy.Fixed, QSizePolicy.Policy.Expanding)
        self.setAccessibleName(tr("The volume of people's folders"))
        self.strata: list[Stratum] = []

    def sizeHint(self) -> QSize:
        return QSize(GAUGE_WIDTH + 8 + look().px(96), look().px(300))

    def show_strata(self, strata: list[Stratum]) -> None:
        self.strata = strata
        self.setAccessibleDescription(". ".join(f"{s.title}, {exact(s.size_bytes)}" for s in strata))
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        if not self.strata:
            return
        painter = QPainter(self)
        follow_direction(painter, self.rect())
        rect = QRectF(GAUGE_WIDTH + 8, 2, look().px(96) - 4, self.height() - 4)
        paint_column(painter, place_strata(self.strata, rect, look().px(8), 3))
        paint_gauge(painter, self.strata, QRectF(0, 2, GAUGE_WIDTH, self.height() - 4))


class _Share(QWidget):
    """How large a kind is beside the largest."""

    def __init__(self, role: str) -> None:
        super().__init__()
        self._role, self._share, self._on = role, 0.0, True
        self.setMinimumHeight(look().px(14))

    def show_share(self, share: float, on: bool) -> None:
        self._share, self._on = share, on
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        if self._share <= 0:
            return
        painter = QPainter(self)
        follow_direction(painter, self.rect())
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(Qt.PenStyle.NoPen)
        strength = 1.0 if self._on else 0.3
        colour = look().colour("caution", strength) if self._role == "caution" else look().role(self._role, strength)
        painter.setBrush(colour)
        tall = look().px(12)
        wide = max(3.0, self.width() * self._share)
        painter.drawRoundedRect(QRectF(0, (self.height() - tall) / 2, wide, tall), 3, 3)

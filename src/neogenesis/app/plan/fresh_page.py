"""The Plan stop for a clean start: a recipe, a system, answers and drivers, beside the drive that they give."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path

import msgspec
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QComboBox,
    QFileDialog,
    QGridLayout,
    QLayout,
    QLineEdit,
    QSpinBox,
    QWidget,
)

from neogenesis.app.desk.open_job import OpenJob
from neogenesis.app.language import mark, said, tr, trn
from neogenesis.app.parts.controls import Choice, button, label, row, scrolled, stack
from neogenesis.app.parts.drafts import keep_draft
from neogenesis.app.parts.dropped import DroppedFiles
from neogenesis.app.parts.heading import Heading
from neogenesis.app.parts.strata import strata_of_layout
from neogenesis.app.plan.drivers import DriversSheet
from neogenesis.app.plan.fresh_canvas import FreshCanvas, Told
from neogenesis.app.plan.people import PeopleSheet
from neogenesis.app.theme.look import look
from neogenesis.app.words import both, exact, tail
from neogenesis.bench.records.shipped import appliance_names, load_appliance
from neogenesis.core.errors import NeogenesisError
from neogenesis.core.plan import Plan
from neogenesis.core.plan.recipe import Recipe, recipes
from neogenesis.core.plan.steps import MakeVolume
from neogenesis.core.units import parse_size

_MOST_SPARE = 50
_OTHER, _IMAGE = "other", "image"
_FIRMWARE = {"uefi": mark("UEFI"), "legacy": mark("legacy firmware")}


class FreshPage(QWidget):
    """Left the drive as it will be, right what is wanted. `fault` is told where something typed is none."""

    def __init__(self, desk: OpenJob, say_fault: Callable[[str], None]) -> None:
        super().__init__()
        self._desk, self._model, self._say_fault = desk, desk.plan.fresh, say_fault
        self._filling = False
        self.canvas = FreshCanvas()
        self.recipe = _choice(tr("Recipe"))
        for one in recipes():
            self.recipe.addItem(said(one.title), one.name)
        for name in appliance_names():
            self.recipe.addItem(tr("Device class: {0}").format(said(load_appliance(name).title)), f"appliance:{name}")
        self.recipe.activated.connect(lambda _: self._recipe_chosen())
        self._why = label("", "muted", wrap=True)
        self.system = _choice(tr("System"))
        self.system.activated.connect(lambda _: self._system_chosen())
        DroppedFiles(self, self._dropped)
        self._about = label("", "muted", wrap=True)
        self.edition = _choice(tr("Edition"))
        self.edition.activated.connect(lambda _: self._change(edition=self.edition.currentData()))
        self.name = self._field(tr("Name of the machine"), "machine_name", 110)
        self.language = self._field(tr("Language"), "language", 70)
        self.keyboard = self._field(tr("Keyboard"), "keyboard", 60)
        self.spare = QSpinBox()
        self.spare.setButtonSymbols(QSpinBox.ButtonSymbols.NoButtons)
        self.spare.setRange(0, _MOST_SPARE)
        self.spare.setSuffix(" %")
        self.spare.setKeyboardTracking(False)
        self.spare.setAccessibleName(tr("Spare area"))
        self.spare.valueChanged.connect(lambda value: self._filling or self._wish(spare_percent=value))
        self.volume = self._size_field(tr("Second volume"), "data_volume_bytes")
        self.swap = self._size_field(tr("Swap"), "swap_bytes")
        self.drivers = button(tr("Drivers…"), self.show_drivers, "", tr("Which the machine needs  Ctrl+Shift+K"))
        self._drivers_more = label("", "muted", wrap=True)
        self.data = _choice(tr("Files that go back to people"))
        self.data.activated.connect(lambda _: self._data_chosen())
        self.people = button(tr("Which…"), self.show_people, "", tr("What returns and what does not  Ctrl+Shift+C"))
        self._people_more = label("", "muted", wrap=True)
        self._with_system: list[QWidget] = []
        self._build()

    def _build(self) -> None:
        grid = QGridLayout()
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setHorizontalSpacing(look().px(12))
        grid.setVerticalSpacing(look().px(9))
        self._swap_title = label(tr("Swap"), "muted")
        keyboard = label(tr("Keyboard"), "muted")
        language = row(self.language, keyboard, self.keyboard, None)
        volume = row(self.volume, self._swap_title, self.swap, None)
        drivers = row(self.drivers, self._drivers_more, gap=look().px(12))
        drivers.setStretch(1, 1)
        people = row(self.data, self.people, gap=look().px(12))
        people.setStretch(0, 1)
        answers = [(tr("Name"), row(self.name, None)), (tr("Language"), language)]
        rows: list[tuple[str, QWidget | QLayout]] = [
            (tr("Recipe"), self.recipe),
            ("", self._why),
            (tr("System"), self.system),
            ("", self._about),
            (tr("Edition"), self.edition),
            *answers,
            (tr("Spare"), row(self.spare, None)),
            (tr("More volumes"), volume),
            (tr("Drivers"), drivers),
            (tr("People's files"), people),
            ("", self._people_more),
        ]
        for n, (title, held) in enumerate(rows):
            heading = label(title, "muted")
            grid.addWidget(
                heading, n, 0, Qt.AlignmentFlag.AlignTop if held is self._why else Qt.AlignmentFlag.AlignVCenter
            )
            if isinstance(held, QWidget):
                grid.addWidget(held, n, 1)
            else:
                grid.addLayout(held, n, 1)
            if title in (tr("Name"), tr("Language"), tr("People's files")):
                self._with_system.append(heading)
            if held is self.edition:
                self._edition_title = heading
        self._with_system += [
            self.name,
            self.language,
            keyboard,
            self.keyboard,
            self.data,
            self.people,
            self._people_more,
        ]
        grid.setColumnStretch(1, 1)
        inner = QWidget()
        inner.setLayout(stack(grid, None))
        across = row(gap=look().px(28))
        across.addWidget(self.canvas, 5)
        area = scrolled(inner)
        area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        across.addWidget(area, 6)
        self.setLayout(across)

    def _field(self, name: str, key: str, width: int) -> QLineEdit:
        made = QLineEdit()
        made.setFixedWidth(look().px(width))
        made.setAccessibleName(name)
        made.setPlaceholderText(tr("as it is"))
        keep_draft(self._desk.drafts, f"fresh {key}", made)
        made.editingFinished.connect(lambda: self._answer(key, made))
        return made

    def _size_field(self, name: str, key: str) -> QLineEdit:
        made = QLineEdit()
        made.setFixedWidth(look().px(90))
        made.setAccessibleName(name)
        made.setPlaceholderText(tr("none"))
        made.editingFinished.connect(lambda: self._sized(key, made))
        return made

    # Orders

    @property
    def _is_open(self) -> bool:
        return self._desk.plan.state == "ready" and not self._filling

    def _change(self, **fields: object) -> None:
        if self._is_open:
            self._model.change(**fields)

    def _wish(self, **fields: object) -> None:
        self._change(wishes=msgspec.structs.replace(self._model.wish.wishes, **fields))

    def _sized(self, key: str, field: QLineEdit) -> None:
        text = field.text().strip().replace(",", ".")
        try:
            size = parse_size(text) if text not in ("", "0") else 0
        except NeogenesisError as error:
            self._say_fault(said(error.sentence()))
            return
        if size != getattr(self._model.wish.wishes, key) and text != exact(getattr(self._model.wish.wishes, key)):
            self._wish(**{key: size})

    def _answer(self, key: str, field: QLineEdit) -> None:
        fault = self._model.answer(key, field.text().strip()) if self._is_open else ""
        if fault:
            self._say_fault(said(fault))

    def _recipe_chosen(self) -> None:
        """Swap is only wished of a recipe that knows it."""
        name = self.recipe.currentData()
        wishes = self._model.wish.wishes
        if not any(r.swap for r in recipes() if r.name == name):
            wishes = msgspec.structs.replace(wishes, swap_bytes=0)
        self._change(recipe=name, wishes=wishes)

    def _system_chosen(self) -> None:
        place = self.system.currentData()
        if place == _OTHER:
            place, _ = QFileDialog.getOpenFileName(self, tr("System image"), str(self._model.library))
            if not place:
                self.refresh()
                return
        self._change(system=place, edition=0)

    def _data_chosen(self) -> None:
        place = self.data.currentData()
        if place == _OTHER:
            place = QFileDialog.getExistingDirectory(self, tr("Folder of files"))
        elif place == _IMAGE:
            place, _ = QFileDialog.getOpenFileName(self, tr("Image of a drive"))
        if place in (_OTHER, _IMAGE) or (not place and self.data.currentData()):
            self.refresh()
            return
        self._change(data=place, kinds=(), programs=False, same="beside", persons=(), without=())

    def _dropped(self, files: list[Path]) -> None:
        self._change(system=str(files[0]), edition=0)

    def show_drivers(self) -> None:
        sheet = DriversSheet(self, self._desk)
        sheet.open()

    def show_people(self) -> None:
        sheet = PeopleSheet(self, self._desk)
        sheet.open()

    # Showing

    def refresh(self) -> None:
        model, state = self._model, self._desk.plan.state
        wish = model.wish
        self._filling = True
        open_ = state == "ready"
        self.recipe.setCurrentIndex(max(0, self.recipe.findData(wish.recipe)))
        chosen = next((r for r in recipes() if r.name == wish.recipe), None)
        self._why.setText(said(chosen.why) if chosen is not None else tr("As the device class asks."))
        self._show_systems(wish.system)
        for widget in self._with_system:
            widget.setVisible(bool(wish.system))
        for field, key in ((self.name, "machine_name"), (self.language, "language"), (self.keyboard, "keyboard")):
            if not field.hasFocus():
                field.setText(str(getattr(wish.answers, key)))
        self.spare.setValue(wish.wishes.spare_percent)
        for field, size in ((self.volume, wish.wishes.data_volume_bytes), (self.swap, wish.wishes.swap_bytes)):
            if not field.hasFocus():
                field.setText(exact(size) if size else "")
        for widget in (self._swap_title, self.swap):
            widget.setVisible(chosen is not None and chosen.swap)
        for widget in (self.recipe, self.system, self.name, self.language, self.keyboard, self.spare, self.volume):
            widget.setEnabled(open_)
        self._show_drivers_line()
        self._show_data(wish.data)
        self._show_drive(chosen)
        self._filling = False

    def _show_systems(self, wanted: str) -> None:
        self.system.clear()
        self.system.addItem(tr("empty volumes"), "")
        for path in self._model.systems():
            self.system.addItem(path.name.split(".")[0], str(path))
        self.system.addItem(tr("another file…"), _OTHER)
        self.system.setCurrentIndex(max(0, self.system.findData(wanted)))
        held = self._model.system
        self._show_editions(held.editions if held is not None else ())
        if wanted and held is None:
            self._about.setText(tr("Reading the image…") if self._model.asking else "")
        elif held is not None and len(held.editions) > 1 and not self._model.wish.edition:
            self._about.setText(tr("It holds {0}.").format(", ".join(held.editions)))
        elif held is not None:
            files, size = sum(held.files_by_key.values()), both(sum(held.bytes_by_key.values()))
            about = held.description
            words = tr("{0}: {1} files, {2}, started by {3}")
            self._about.setText(
                words.format(about.name, files, size, ", ".join(tr(_FIRMWARE[f]) for f in about.firmware))
            )
        else:
            self._about.setText(tr("Choose an image, or drop one here. Without one the volumes stay empty."))

    def _show_editions(self, names: Sequence[str]) -> None:
        """Of an image that holds several; none is taken before somebody has chosen."""
        for widget in (self.edition, self._edition_title):
            widget.setVisible(len(names) > 1)
        self.edition.clear()
        self.edition.addItem(tr("choose…"), 0)
        for number, name in enumerate(names, 1):
            self.edition.addItem(name, number)
        self.edition.setCurrentIndex(max(0, self.edition.findData(self._model.wish.edition)))
        self.edition.setEnabled(self._desk.plan.state == "ready")

    def _show_data(self, wanted: str) -> None:
        model = self._model
        self.data.clear()
        self.data.addItem(tr("none go back"), "")
        for path in model.salvages():
            self.data.addItem(path.name, str(path))
        if model.old_drive:
            self.data.addItem(tr("the old drive itself"), model.old_drive)
        if wanted and self.data.findData(wanted) < 0:
            self.data.addItem(Path(wanted).name, wanted)
        self.data.addItem(tr("another folder…"), _OTHER)
        self.data.addItem(tr("an image…"), _IMAGE)
        self.data.setCurrentIndex(max(0, self.data.findData(wanted)))
        self.people.setEnabled(bool(wanted))
        found = model.people if wanted else None
        if found is None:
            self._people_more.setText(tr("Looking through the files…") if wanted and model.asking else "")
            return
        chosen = found.chosen(model.wish.kinds, model.wish.programs)
        left = sum(one.files for some in found.left_out.values() for one in some)
        left += found.files - chosen.files
        words = trn("{0} file returns, {1}; {2} do not.", "{0} files return, {1}; {2} do not.", chosen.files)
        self._people_more.setText(words.format(chosen.files, both(chosen.size_bytes), left))

    def _show_drivers_line(self) -> None:
        found = self._model.coverage
        if found is None:
            laid = self._model.wish.drivers
            text = tr("{0} is laid onto the drive.").format(Path(laid).name) if laid else tr("Not looked at yet.")
        elif found.missing:
            text = tr("Missing: {0}").format(", ".join(found.missing))
        else:
            text = tr("All {0} devices are covered.").format(len(found.devices))
        self._drivers_more.setText(text)

    def _show_drive(self, recipe: Recipe | None) -> None:
        plan = self._desk.plan.plan
        if plan is None:
            self.canvas.show_layout([], {}, Heading())
            return
        new, dock = plan.target.drive, self._desk.new_dock()
        figures = f"{tail(new.serial if new else '')}  {both(plan.target.size_bytes)}"
        heading = Heading(dock.tag if dock else None, (new.model if new else "") or tr("New drive"), figures)
        self.canvas.show_layout(strata_of_layout(plan.layout), told_of(plan, recipe), heading)


def told_of(plan: Plan, recipe: Recipe | None) -> dict[int, Told]:
    """What stands beside each volume of a plan."""
    kinds = {s.partition: s for s in plan.operations if isinstance(s, MakeVolume)}
    whys = {p.label or p.name: p.why for p in recipe.parts} if recipe is not None else {}
    found = {}
    for place in plan.layout.partitions:
        step = kinds.get(place.number)
        figures = f"{exact(place.size_bytes)}, {step.volume_kind}" if step is not None else exact(place.size_bytes)
        if step is not None and step.tree:
            figures = tr("{0}, with files").format(figures)
        found[place.number] = Told(said(place.title), figures, said(whys.get(place.title, "")))
    return found


def _choice(name: str) -> QComboBox:
    made: QComboBox = Choice()
    made.setAccessibleName(name)
    made.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
    made.setMinimumContentsLength(10)
    return made

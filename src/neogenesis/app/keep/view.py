"""The sheet where keeping what is on the old drive, or putting an image onto new drives, is begun."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtGui import QResizeEvent
from PyQt6.QtWidgets import QButtonGroup, QCheckBox, QDialog, QFileDialog, QLineEdit, QRadioButton, QVBoxLayout, QWidget

from neogenesis.app.desk.open_job import OpenJob
from neogenesis.app.desk.work import Failure
from neogenesis.app.keep.model import ONTO, Kind
from neogenesis.app.language import mark, said, tr
from neogenesis.app.parts.controls import button, clear, label, plain_caption, row, scrolled, stack, tail_field
from neogenesis.app.parts.drafts import Subject, keep_draft
from neogenesis.app.parts.tag import TagMark
from neogenesis.app.theme.look import look
from neogenesis.app.words import both, tail
from neogenesis.bench.drives import confirm_tail
from neogenesis.bench.inside.discs import inspect_image
from neogenesis.core.media import Inspected

_CHOICES: tuple[tuple[Kind, str, str], ...] = (
    (
        "image",
        mark("Image"),
        mark("For a sound drive: everything in use, compressed into one file that general tools open."),
    ),
    (
        "rescue",
        mark("Rescue"),
        mark(
            "For a failing drive: what can be read first, the hard places later, onto a drive or into an image file. "
            "Nothing is hammered; what is lost is listed by place and by file."
        ),
    ),
    (
        "salvage",
        mark("Copy files out"),
        mark("Only the files, people's own first, with dates and checksums, into a folder."),
    ),
    (
        "restore",
        mark("Restore an image"),
        mark("An image onto one or several new drives at once; it is read only once."),
    ),
    (
        "stick",
        mark("Installer stick"),
        mark("An installer image onto sticks or cards, as it is or as files, read back afterwards."),
    ),
)


#: Buses of what an installer is usually put onto.
_STICKS = frozenset({"usb-sata", "card"})
_STARTS = {"uefi": mark("UEFI"), "legacy": mark("legacy firmware")}


class KeepSheet(QDialog):
    """Choose what to do and say where to. Once begun it is watched at the Transfer stop; `begun` tells that."""

    begun = pyqtSignal()

    def __init__(self, parent: QWidget, desk: OpenJob) -> None:
        super().__init__(parent)
        self.setWindowTitle(tr("Keep what is on the old drive"))
        self._desk, self._model = desk, desk.keep
        self._group = QButtonGroup(self)
        self.choices: dict[Kind, QRadioButton] = {}
        rows = []
        for kind, title, text in _CHOICES:
            choice = QRadioButton(tr(title))
            choice.toggled.connect(lambda on: on and self.refresh())
            self._group.addButton(choice)
            self.choices[kind] = choice
            rows.append(stack(choice, label(tr(text), "small", wrap=True), gap=2))
        self.place = QLineEdit()
        keep_draft(desk.drafts, "keep place", self.place)
        self.place.textChanged.connect(self._place_changed)
        self._choose = button(tr("Choose…"), self._browse)
        self._place_title = label("", "muted")
        self._targets_title = label(
            tr("New drives; type how each serial ends to confirm that it may be written to"), "muted"
        )
        self._targets = QVBoxLayout()
        self._targets.setSpacing(look().px(6))
        holder = QWidget()
        holder.setLayout(stack(self._targets, None))
        self._target_list = scrolled(holder)
        self._target_list.setFixedHeight(look().px(220))
        self.targets: dict[str, tuple[QCheckBox, QLineEdit]] = {}
        #: What was ticked, by the drive as it was put in.
        self._ticked: dict[str, bool] = {}
        self._shown: tuple[object, ...] = ()
        self.tail = self._tail_field("keep tail")
        ask = tr("To write, type the last four characters of the drive's serial, or of the file's name")
        self._tail_title = label(ask, "muted", wrap=True)
        self._why_not = label("", "muted", wrap=True)
        self.start = button("", self._start, "main")
        where = row(gap=8)
        where.addWidget(self.place, 1)
        where.addWidget(self._choose)
        self.about = label("", "muted", wrap=True, copyable=True)
        self._looked_at, self._needed_bytes = "", 0
        self.check_size = QCheckBox(tr("first test whether each is as large as it says"))
        self.check_size.setToolTip(tr("A sample of places is written and read back; what the stick holds is lost"))
        self.place.editingFinished.connect(self._look_into)
        confirm = row(gap=8)
        confirm.addWidget(self._tail_title, 1)
        confirm.addWidget(self.tail)
        foot = row(button(tr("Close"), self.reject), gap=10)
        foot.addWidget(self._why_not, 1)
        foot.addWidget(self.start)
        self.setLayout(
            stack(
                *rows,
                self._place_title,
                where,
                self.about,
                self.check_size,
                confirm,
                self._targets_title,
                self._target_list,
                None,
                foot,
                gap=12,
                margin=22,
            )
        )
        self.setMinimumWidth(look().px(620))
        failing = desk.survey.record is not None and desk.survey.record.health.is_failing
        self.choices["rescue" if failing else "image"].setChecked(True)
        self._model.changed.connect(self._show_ready)
        desk.bench.drives_changed.connect(self._drives_changed)
        desk.bench.others_wrote.connect(self._drives_changed)
        self.refresh()

    def _place_changed(self) -> None:
        """What was confirmed for one image is not confirmed for another."""
        for name, (_, typed) in self.targets.items():
            dock = self._desk.bench.dock_named(name)
            key = dock.docked.key if dock is not None and dock.docked is not None else name
            Subject(self._desk.drafts, f"keep tail {key}", typed).be(f"{self._subject} {dock.subject if dock else ''}")
        self._show_ready()

    def _tail_field(self, draft: str) -> QLineEdit:
        field = tail_field(tr("Last four characters of its serial, or of the file's name"))
        keep_draft(self._desk.drafts, draft, field)
        field.textChanged.connect(lambda _: self._show_ready())
        return field

    def _fit(self) -> None:
        """Wrapped lines need their height said; the sheet never cuts them."""
        layout = self.layout()
        if layout is not None:
            self.setMinimumHeight(layout.heightForWidth(max(self.width(), self.minimumWidth())))
            if self.height() > self.minimumHeight():
                self.resize(self.width(), self.minimumHeight())

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        layout = self.layout()
        if layout is not None:
            self.setMinimumHeight(layout.heightForWidth(self.width()))

    @property
    def kind(self) -> Kind:
        return next(kind for kind, choice in self.choices.items() if choice.isChecked())

    def _browse(self) -> None:
        if self.kind == "salvage":
            name = QFileDialog.getExistingDirectory(self, tr("Folder for the files"))
        elif self.kind == "stick":
            name, _ = QFileDialog.getOpenFileName(self, tr("Installer image"))
        elif self.kind == "restore":
            name, _ = QFileDialog.getOpenFileName(self, tr("Image"), "", tr("Images (*.qcow2 *.img);;All files (*)"))
        else:
            name, _ = QFileDialog.getSaveFileName(self, tr("File for it"), "", "")
        if name:
            self.place.setText(name)
            self._look_into()

    def _look_into(self) -> None:
        """Say what an installer image is, and what it will not do on this job's machine."""
        place = self.place.text().strip()
        if self.kind == "stick" and place and place != self._looked_at:
            self._looked_at = place
            self.about.setText(tr("Looking into it…"))
            machine = self._desk.intake.match.machine
            work = self._desk.bench.work
            work.in_process(self._looked_into, inspect_image, Path(place).expanduser(), machine)

    def _looked_into(self, got: Inspected | Failure) -> None:
        if isinstance(got, Failure):
            self.about.setText(said(got.sentence()))
        else:
            starts = ", ".join(tr(_STARTS[s]) for s in got.starts) or tr("nothing")
            name, size = got.label or Path(got.path).name, both(got.size_bytes)
            words = tr("{0}, {1}, started by {2}.").format(name, size, starts)
            self.about.setText(" ".join([words, *map(said, got.notes)]))
            self._needed_bytes = got.size_bytes
            self.refresh()
        self._fit()

    def _start(self) -> None:
        kind, place = self.kind, self.place.text().strip()
        if kind == "image" and not place.endswith(".qcow2"):
            place += ".qcow2"
        names, tails = [], []
        if kind in ONTO:
            chosen = [(name, typed.text().strip()) for name, (box, typed) in self.targets.items() if box.isChecked()]
            names, tails = [name for name, _ in chosen], [typed for _, typed in chosen]
        elif kind == "rescue":
            tails = [self.tail.text().strip()]
        whole = Path(place).expanduser()
        from_ = str(whole.absolute() if kind == "stick" else whole)
        self._model.start(kind, from_, tails, names, check_size=kind == "stick" and self.check_size.isChecked())
        if self._model.failure is not None and not self._model.is_active:
            self._why_not.setText(said(self._model.failure.sentence()))
        if self._model.is_active:
            for key in [key for key in self._desk.drafts if key.startswith("keep ")]:
                del self._desk.drafts[key]
            self.begun.emit()
            self.accept()

    def _fill_targets(self) -> None:
        """A line for every connected drive that could be written to; the one that is likely meant is ticked."""
        clear(self._targets)
        self.targets = {}
        old, meant = self._desk.old_dock(), self._meant()
        bench, ticket = self._desk.bench, self._desk.ticket
        for dock in sorted(bench.docks(), key=lambda d: bool(bench.held(d, ticket))):  # what may be written to first
            docked = dock.docked
            if not dock.present or docked is None or docked.trouble or (old and dock.tag == old.tag):
                continue
            drive, held = docked.drive, bench.held(dock, ticket)
            draft = f"keep tail {docked.key}"
            tag, box, typed = TagMark(), QCheckBox(), self._tail_field(draft)
            Subject(self._desk.drafts, draft, typed).be(f"{self._subject} {dock.subject}")
            tag.setFixedSize(tag.sizeHint())
            tag.show_tag(dock.tag)
            words = f"{drive.model or docked.name.rsplit('/', 1)[-1]}  {tail(drive.serial)}  {both(drive.size_bytes)}"
            box.setText(plain_caption(words))
            holder = QWidget()
            if held:
                line = row(tag, gap=10)
                line.addLayout(stack(label(words, "muted"), label(held, "small", wrap=True), gap=2), 1)
                holder.setLayout(line)
                self._targets.addWidget(holder)
                continue
            box.setChecked(self._ticked.get(dock.subject, docked.name == meant))
            typed.setProperty("expected", confirm_tail(drive))
            box.toggled.connect(lambda on, subject=dock.subject: self._tick(subject, on))
            known = bench.known_as(dock, ticket)
            line = row(tag, gap=10)
            line.addLayout(stack(box, label(said(known.text()), "small", wrap=True), gap=2) if known else row(box), 1)
            line.addWidget(typed)
            holder.setLayout(line)
            self._targets.addWidget(holder)
            self.targets[docked.name] = (box, typed)

    @property
    def _subject(self) -> str:
        """What is put onto the drives: another image wants another confirmation."""
        return f"{self.kind} {self.place.text().strip()}"

    def _meant(self) -> str:
        """The job's new drive; for an installer the smallest stick or card that is large enough for it."""
        new = self._desk.new_dock()
        if self.kind != "stick":
            return new.docked.name if new is not None and new.docked is not None else ""
        bench, ticket = self._desk.bench, self._desk.ticket
        free = [d for d in bench.docks() if d.present and d != new and not bench.held(d, ticket)]
        known = {d.tag: bench.known_as(d, ticket) for d in free}
        free = [d for d in free if (one := known[d.tag]) is None or not one.ticket]  # another job's is not meant
        found = [d.docked for d in free if d.docked is not None]
        sticks = [d for d in found if d.drive.bus in _STICKS and not (d.drive.rotational or d.trouble)]
        fit = [d for d in sticks if 0 < self._needed_bytes <= d.drive.size_bytes]
        return min(fit, key=lambda d: d.drive.size_bytes).name if fit else ""

    def _tick(self, subject: str, on: bool) -> None:
        self._ticked[subject] = on
        self._show_ready()

    def _drives_changed(self) -> None:
        """Rows are built anew only for other drives: a new reading must not take the keyboard from who is typing."""
        if self._offered() != self._shown:
            self.refresh()

    def _offered(self) -> tuple[object, ...]:
        bench, old = self._desk.bench, self._desk.old_dock()
        docks = [
            (d.subject, bool(d.docked and d.docked.trouble), bench.held(d, self._desk.ticket)) for d in bench.docks()
        ]
        return (*docks, old.subject if old is not None else "")

    def refresh(self) -> None:
        self._shown = self._offered()
        if not any(choice.isChecked() for choice in self.choices.values()):
            return
        titles = {
            "image": (tr("Image file"), tr("Image the drive")),
            "rescue": (tr("New drive, or image file that is made"), tr("Rescue the drive")),
            "salvage": (tr("Folder"), tr("Copy the files out")),
            "restore": (tr("Image file that is put onto the new drives"), tr("Write to the new drives")),
            "stick": (tr("Installer image"), tr("Write the stick")),
        }
        title, do = titles[self.kind]
        self._place_title.setText(title)
        self.place.setAccessibleName(title)
        self.start.setText(do)
        restore = self.kind in ONTO
        self.start.setProperty("kind", "write" if restore else "main")
        style = self.start.style()
        if style is not None:
            style.unpolish(self.start)
            style.polish(self.start)
        clear(self._targets)
        self.targets = {}
        if restore:
            self._fill_targets()
        self._targets_title.setVisible(restore)
        self._target_list.setVisible(restore)
        for widget in (self.tail, self._tail_title):
            widget.setVisible(self.kind == "rescue")
        self.about.setVisible(self.kind == "stick")
        self.check_size.setVisible(self.kind == "stick")
        self._look_into()
        self._show_ready()
        self._fit()

    def _show_ready(self) -> None:
        """Whether it can begin, and what is missing."""
        dock = self._desk.old_dock()
        why = ""
        if self._model.is_active or self._model.busy_elsewhere():
            why = tr("Something is under way already; the Transfer stop shows it.")
        elif self._desk.bench.cannot_write:
            why = self._desk.bench.cannot_write
        elif self.kind not in ONTO and not (dock and dock.present):
            why = tr("The old drive is not connected.")
        elif not self.place.text().strip():
            why = tr("Say where to.") if self.kind not in ONTO else tr("Say which image.")
        elif self.kind == "rescue" and not self.tail.text().strip():
            why = tr("Confirm the target.")
        elif self.kind in ONTO:
            chosen = [typed for box, typed in self.targets.values() if box.isChecked()]
            fits = all(t.text().strip().casefold() == str(t.property("expected")).casefold() for t in chosen)
            why = tr("Tick a drive.") if not chosen else ("" if fits else tr("Confirm every drive that is ticked."))
            for box, typed in self.targets.values():
                typed.setEnabled(box.isChecked())
        self._why_not.setText(why)
        self.start.setEnabled(not why)

"""The views of a survey beside its facts: health, speed, what fills it, what is inside, and why it is slow."""

from __future__ import annotations

from datetime import datetime
from locale import windows_locale
from pathlib import Path

from PyQt6.QtCore import QLocale, QRectF, Qt
from PyQt6.QtGui import QPainter, QPaintEvent
from PyQt6.QtWidgets import QFileDialog, QGridLayout, QHBoxLayout, QPlainTextEdit, QVBoxLayout, QWidget

from neogenesis.app.desk.open_job import OpenJob
from neogenesis.app.language import mark, said, tr, trn
from neogenesis.app.parts.chips import Chips
from neogenesis.app.parts.controls import button, clear, label, notice, read_through, row, rule, stack, tick
from neogenesis.app.parts.mirror import follow_direction
from neogenesis.app.survey.fill_canvas import FillCanvas
from neogenesis.app.survey.fill_scene import FillTree, Layer
from neogenesis.app.survey.health_plot import HealthPlot, health_scene
from neogenesis.app.survey.speed_plot import SpeedPlot, speed_scene
from neogenesis.app.theme.look import look
from neogenesis.app.words import HEALTH_SEVERITY, about, both, exact, health_word, when, whole_bytes
from neogenesis.bench.inside.looking import write_filling
from neogenesis.core.drive.history import HealthEntry, endurance_of, worsening
from neogenesis.core.errors import NeogenesisError
from neogenesis.core.survey.decrypt import decryption_guide
from neogenesis.core.survey.filling import Filling, kinds
from neogenesis.core.survey.speech import speed_sentences
from neogenesis.core.system.inside import Inside

_FIGURES = (
    ("reallocated_sectors", mark("Reallocated sectors")),
    ("pending_sectors", mark("Waiting to be reallocated")),
    ("uncorrectable_sectors", mark("Uncorrectable sectors")),
    ("reported_errors", mark("Reads not mended")),
    ("media_errors", mark("Media errors")),
    ("cable_errors", mark("Errors of the cable")),
)


def _grid(rows: list[tuple[str, str]]) -> QGridLayout:
    made = QGridLayout()
    made.setHorizontalSpacing(look().px(16))
    made.setVerticalSpacing(look().px(6))
    made.setColumnStretch(1, 1)
    for number, (name, value) in enumerate(rows):
        made.addWidget(label(name, "muted"), number, 0, Qt.AlignmentFlag.AlignTop)
        made.addWidget(label(value, wrap=True, copyable=True), number, 1)
    return made


class _Page(QWidget):
    """A view that is made anew when what it shows is another one."""

    def __init__(self, desk: OpenJob, name: str) -> None:
        super().__init__()
        self._desk = desk
        self.inner = QVBoxLayout()
        self.inner.setSpacing(look().px(10))
        holder = QWidget()
        box = QVBoxLayout(holder)
        box.setContentsMargins(0, 0, look().px(8), 0)
        box.addLayout(self.inner)
        box.addStretch(1)
        self.scroll_area = read_through(holder, name)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(look().px(10))
        layout.addWidget(self.scroll_area, 1)

    def refresh(self) -> None:
        raise NotImplementedError


class HealthPage(_Page):
    """The verdict, the readings over the job, and how long the drive will last."""

    def __init__(self, desk: OpenJob) -> None:
        super().__init__(desk, tr("Health"))
        self.plot = HealthPlot()
        layout = self.layout()
        assert isinstance(layout, QVBoxLayout)
        layout.insertWidget(0, self.plot)

    def refresh(self) -> None:
        record = self._desk.survey.record
        if record is None:
            return
        entries = self._desk.looks.history("old")
        scene = health_scene(entries)
        self.plot.show_scene(scene)
        self.plot.setVisible(bool(scene.lines))
        clear(self.inner)
        health = record.health
        severity = HEALTH_SEVERITY.get(health.verdict, "note")
        self.inner.addWidget(notice(severity, health_word(health.verdict), health.why))
        worse = worsening(entries)
        if worse:
            self.inner.addWidget(notice("stop", worse, mark("Do not keep testing it. Image it first, gently.")))
        self.inner.addLayout(_grid(self._readings(entries)))
        newer = self._desk.looks.history("new")
        if newer:
            self.inner.addWidget(rule())
            self.inner.addWidget(label(tr("The new drive, first and last reading"), "head"))
            self.inner.addLayout(_grid(self._readings(newer)))

    def _readings(self, entries: tuple[HealthEntry, ...]) -> list[tuple[str, str]]:
        if not entries:
            return [(tr("Readings"), tr("The drive gives no readings here."))]
        first, last = entries[0].reading, entries[-1].reading
        rows = []
        for name, title in _FIGURES:
            one, other = getattr(first, name), getattr(last, name)
            if one or other:
                rows.append((tr(title), f"{one}" if one == other else f"{one} → {other}"))
        if last.power_on_hours is not None:
            rows.append((tr("Powered on"), tr("{0} hours").format(whole_bytes(last.power_on_hours))))
        if last.written_bytes is not None:
            rows.append((tr("Written so far"), both(last.written_bytes)))
        if last.wear_percent is not None:
            rows.append((tr("Worn"), f"{last.wear_percent:.0f} %"))
        left = endurance_of(last)
        if left is not None and left.hours_left is not None and left.years_of_running is not None:
            words = tr("about {0} hours of running at the pace so far, {1} years without a pause")
            hours = whole_bytes(int(round(left.hours_left, -2 if left.hours_left >= 1000 else 0)))
            rows.append((tr("Rated writes last"), words.format(hours, f"{left.years_of_running:.1f}")))
        if last.temperature_c is not None:
            warmest = max(e.reading.temperature_c or 0 for e in entries)
            rows.append(
                (tr("Temperature"), tr("{0} °C now, {1} °C at most").format(*map(round, (last.temperature_c, warmest))))
            )
        count = trn("{0} reading", "{0} readings", len(entries)).format(len(entries))
        rows.append((tr("Since"), f"{when(entries[0].at, datetime.now())}  ({count})"))
        return rows


class SpeedPage(_Page):
    """The drive from first byte to last, how fast each place reads, and what that means."""

    def __init__(self, desk: OpenJob) -> None:
        super().__init__(desk, tr("Reading speed"))
        self.plot = SpeedPlot()
        self.start = button(tr("Measure"), self._start_or_stop, "", tr("Sampled gently, under a minute"))
        layout = self.layout()
        assert isinstance(layout, QVBoxLayout)
        layout.insertWidget(0, self.plot, 3)
        layout.addLayout(row(None, self.start))
        desk.looks.moved.connect(self._moved)

    def _start_or_stop(self) -> None:
        looks = self._desk.looks
        if looks.sounding:
            looks.give_up()
        else:
            looks.measure_speed()

    def _moved(self) -> None:
        record, looks = self._desk.survey.record, self._desk.looks
        if looks.sounding and record is not None:
            self.plot.show_scene(speed_scene(looks.soundings, record, None))

    def refresh(self) -> None:
        record, looks = self._desk.survey.record, self._desk.looks
        if record is None:
            return
        profile = looks.profile
        shown = looks.soundings if looks.sounding else list(profile.soundings) if profile is not None else []
        self.plot.show_scene(speed_scene(shown, record, None if looks.sounding else profile))
        clear(self.inner)
        refused = record.health.image_first
        if refused:
            text = tr("This drive is not to be stressed; its speed is not measured.")
            self.inner.addWidget(notice("stop", text, mark("Image it first, gently.")))
        elif looks.failure is not None:
            self.inner.addWidget(notice("caution", looks.failure.text, looks.failure.remedy))
        elif looks.sounding:
            self.inner.addWidget(label(tr("Reading a little at many places…"), "muted"))
        elif profile is not None:
            slow = {
                line for line in speed_sentences(profile, record) if line.startswith(("Slow ", "The drive stalled"))
            }
            for line in speed_sentences(profile, record):
                self.inner.addWidget(notice("caution" if line in slow else "note", line))
        else:
            words = tr(
                "Not measured yet. It tells whether the drive is mechanical, has a slow zone, or waits for its dock."
            )
            self.inner.addWidget(label(words, "muted", wrap=True))
        here = bool(self._desk.place("old"))
        self.start.setText(tr("Stop measuring") if looks.sounding else tr("Measure"))
        self.start.setEnabled(looks.sounding or (here and not refused and not looks.is_busy))


class FillPage(QWidget):
    """The columns, what they say in one sentence, and the facts of what is chosen."""

    def __init__(self, desk: OpenJob) -> None:
        super().__init__()
        self._desk = desk
        self._number: int | None = None
        self._tree: FillTree | None = None
        self.volumes = Chips(tr("Which volume"), (), one=True)
        self.volumes.switched.connect(self._switch)
        self._sentence, self._more = label("", "head", wrap=True, copyable=True), label("", "muted", wrap=True)
        self.canvas = FillCanvas()
        self.canvas.chosen_changed.connect(self._show_chosen)
        self._path, self._about = label("", copyable=True, wrap=True), label("", "small", wrap=True)
        self.count = button(tr("Count the files"), self._count_or_stop, "", tr("Every file, without opening any"))
        self.export = button(tr("Save as a table…"), self._export, "", tr("Kinds, people, folders and files as CSV"))
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(look().px(8))
        for widget in (self.volumes, self._sentence, self._more):
            layout.addWidget(widget)
        layout.addWidget(self.canvas, 1)
        layout.addWidget(self._path)
        layout.addWidget(self._about)
        layout.addLayout(row(None, self.export, self.count, gap=10))
        desk.looks.moved.connect(self._show_state)

    def _switch(self, code: str) -> None:
        self._number = int(code)
        self.refresh()

    def _count_or_stop(self) -> None:
        looks = self._desk.looks
        if looks.counting is not None:
            looks.give_up()
        elif self._number is not None:
            looks.count(self._number)

    def refresh(self) -> None:
        record, looks = self._desk.survey.record, self._desk.looks
        if record is None:
            return
        numbers = looks.fillable
        self.volumes.offer([(str(n), said(p.title)) for n in numbers if (p := record.partition(n)) is not None])
        self.volumes.setVisible(len(numbers) > 1)
        if self._number not in numbers:
            self._number = numbers[0] if numbers else None
        self.volumes.show_chosen((str(self._number),))
        filling = looks.fillings.get(self._number) if self._number is not None else None
        if (self._tree.filling if self._tree is not None else None) is not filling:
            self._tree = FillTree(filling) if filling is not None else None
        self.canvas.show_tree(self._tree)
        self.canvas.setVisible(filling is not None)
        self._show_state()

    def _show_state(self) -> None:
        looks = self._desk.looks
        filling = looks.fillings.get(self._number) if self._number is not None else None
        counting = looks.counting is not None
        if counting:
            done = looks.counted
            files, size = (whole_bytes(done.files), exact(done.bytes)) if done is not None else ("0", exact(0))
            self._sentence.setText(tr("Counting… {0} files, {1} so far").format(files, size))
            self._more.setText("")
        elif looks.failure is not None and filling is None:
            self._sentence.setText(said(looks.failure.text))
            self._more.setText(said(looks.failure.remedy))
        elif filling is not None:
            self._sentence.setText(filling_sentence(filling))
            self._more.setText(self._counted(filling))
        elif self._number is None:
            self._sentence.setText(tr("No volume on this drive has files that can be listed."))
            self._more.setText("")
        else:
            self._sentence.setText(tr("Not counted yet."))
            self._more.setText(tr("The sizes of all files, by kind, by person and by folder. Nothing is opened."))
        here = bool(self._desk.place("old"))
        self.count.setText(tr("Stop counting") if counting else tr("Count again") if filling else tr("Count the files"))
        self.count.setEnabled(counting or (here and self._number is not None and not looks.is_busy))
        self.export.setVisible(filling is not None)
        self._path.setVisible(filling is not None)
        self._about.setVisible(filling is not None and bool(self._about.text()))

    def _counted(self, filling: Filling) -> str:
        text = tr("{0} files, {1}, counted in {2}").format(
            whole_bytes(filling.files), both(filling.bytes), about(filling.seconds)
        )
        if not filling.complete:
            text = f"{text}. {tr('The count was cut off: there is more.')}"
        if filling.not_here:
            words = trn(
                "{0} file is in an account, not here, {1}: a copy keeps its placeholder, a clean start does not.",
                "{0} files are in an account, not here, {1}: a copy keeps their placeholders, a clean start does not.",
                filling.not_here_files,
            )
            text = f"{text}. {words.format(whole_bytes(filling.not_here_files), both(filling.not_here_bytes))}"
        return text

    def _show_chosen(self, layer: Layer | None) -> None:
        self._path.setText(f"{self.canvas.path}  {both(layer.bytes)}" if layer is not None else "")
        kind = next((k for k in kinds() if layer is not None and layer.what == "kind" and k.code == layer.key), None)
        lines = [said(kind.because), said(kind.clear)] if kind is not None else []
        self._about.setText(" ".join(filter(None, lines)))
        self._about.setVisible(bool(self._about.text()))

    def _export(self) -> None:
        filling = self._desk.looks.fillings.get(self._number) if self._number is not None else None
        if filling is None:
            return
        usual = str(self._desk.dossier / f"fills-{filling.partition}.csv")
        name, _ = QFileDialog.getSaveFileName(self, tr("Save as a table"), usual, "*.csv")
        if name:
            self.export_to(Path(name), filling)

    def export_to(self, path: Path, filling: Filling) -> None:
        try:
            write_filling(path, filling)
        except NeogenesisError as error:
            self._more.setText(said(error.sentence()))
        else:
            self._more.setText(tr("Written to {0}").format(str(path)))


def filling_sentence(filling: Filling) -> str:
    """What a customer understands at once: what most of it is."""
    if not filling.bytes:
        return tr("There are no files in it.")
    titles = {k.code: k.title for k in kinds()}
    first, *others = sorted(filling.kinds, key=lambda s: -s.bytes)
    text = tr("Most of it, {0} %, is {1}").format(round(100 * first.bytes / filling.bytes), said(titles[first.name]))
    if others and others[0].bytes:
        text += tr(", then {0} with {1} %").format(
            said(titles[others[0].name]), round(100 * others[0].bytes / filling.bytes)
        )
    clear_bytes = sum(s.bytes for s in filling.kinds if next(k for k in kinds() if k.code == s.name).clear)
    more = tr("{0} could be cleared.").format(exact(clear_bytes)) if clear_bytes > filling.bytes / 50 else ""
    return f"{text}. {more}".strip()


def language_name(code: str) -> str:
    """`0809` of the NT family or `de_DE.UTF-8` of a Linux system as a reader says it; what is not known stays."""
    try:
        name = windows_locale.get(int(code, 16), code) if len(code) == 4 else code
    except ValueError:
        name = code
    plain = name.partition(".")[0]
    locale = QLocale(plain)
    return code if locale.language() == QLocale.Language.C else f"{locale.nativeLanguageName()} ({plain})"


_MODES = {"uefi": "UEFI", "legacy": mark("legacy")}


class InsidePage(_Page):
    """What the systems on the drive say of themselves, and what to do about encryption."""

    def __init__(self, desk: OpenJob) -> None:
        super().__init__(desk, tr("Inside the system"))
        self._shown: object = None

    def refresh(self) -> None:
        record = self._desk.survey.record
        if record is None:
            return
        inside = self._desk.survey.inside
        stamp = (record.fingerprint, tuple(inside))
        if stamp == self._shown:
            return
        self._shown = stamp
        clear(self.inner)
        for partition in record.partitions:
            guide = decryption_guide(partition)
            if guide is not None:
                self.inner.addWidget(label(tr("Encryption of {0}").format(said(partition.title)), "head"))
                self.inner.addWidget(notice("caution", guide.state))
                done = self._done()
                for step in guide.steps:
                    self.inner.addLayout(self._tick(step, step in done))
            system = inside.get(partition.number)
            if system is not None:
                self._show_system(said(partition.title), system)
        if not self.inner.count():
            self.inner.addWidget(label(tr("No system that says anything of itself was found."), "muted", wrap=True))

    def _done(self) -> set[str]:
        """Steps that were ticked, as the logbook has it; one that was ticked off again does not count."""
        done: set[str] = set()
        for entry in self._desk.log():
            if entry.kind in ("step-done", "step-undone"):
                (done.add if entry.kind == "step-done" else done.discard)(str(entry.figures.get("step", "")))
        return done

    def _tick(self, step: str, done: bool) -> QHBoxLayout:
        box, line = tick(said(step))
        box.setChecked(done)
        box.setEnabled(not self._desk.job.closed)
        box.toggled.connect(lambda on: self._ticked(step, on))
        return line

    def _ticked(self, step: str, on: bool) -> None:
        if on:
            self._desk.record("step-done", f"Done: {step}", step=step)
        else:
            self._desk.record("step-undone", f"Not done after all: {step}", step=step)

    def _show_system(self, title: str, system: Inside) -> None:
        self.inner.addWidget(label(" ".join(filter(None, (system.name, system.release))) or title, "head"))
        for line in system.trouble:
            self.inner.addWidget(notice("caution", line, mark("The rest of the survey is not touched by that.")))
        yes_no = {True: tr("yes"), False: tr("no"), None: ""}
        people = ", ".join(p.name for p in system.people)
        mode = system.firmware_mode
        rows = [
            (tr("Build"), system.build),
            (tr("Set up"), when(system.installed, datetime.now())),
            (tr("Name of the machine"), system.computer),
            (tr("Language"), language_name(system.language)),
            (tr("People"), people),
            (tr("Last shut down"), when(system.last_shutdown, datetime.now())),
            (tr("Fast start"), yes_no[system.fast_start]),
            (tr("Set up for"), tr(_MODES[mode]) if mode else ""),
            (tr("A licence is recorded on the drive"), yes_no[system.licence_on_drive]),
            (tr("Programs"), str(len(system.programs)) if system.programs else ""),
        ]
        missing = [d.name for d in system.devices if not d.has_driver]
        if system.devices:
            rows.append(
                (tr("Devices"), trn("{0} recorded", "{0} recorded", len(system.devices)).format(len(system.devices)))
            )
        if missing:
            rows.append((tr("Without a driver"), ", ".join(missing[:12])))
        self.inner.addLayout(_grid([r for r in rows if r[1]]))
        if system.programs:
            shown = QPlainTextEdit()
            shown.setReadOnly(True)
            shown.setAccessibleName(tr("Programs"))
            shown.setPlainText("\n".join(f"{p.name}  {p.version}".strip() for p in system.programs))
            shown.setMinimumHeight(look().px(120))
            self.inner.addWidget(shown)


class WhyPage(_Page):
    """What explains it, the strongest first."""

    def __init__(self, desk: OpenJob) -> None:
        super().__init__(desk, tr("Why it is slow or full"))

    def refresh(self) -> None:
        clear(self.inner)
        found = self._desk.looks.explanations
        for one in found:
            severity = "stop" if one.weight >= 0.9 else "caution" if one.weight >= 0.5 else "note"
            holder = QWidget()
            evidence = label(said(one.evidence), "muted", wrap=True, copyable=True)
            takes = label(said(one.takes), "small", wrap=True, copyable=True)
            words = stack(evidence, WeightBar(one.weight), takes, gap=look().px(4))
            holder.setLayout(stack(notice(severity, one.text), row(_indent(), words), gap=look().px(3)))
            self.inner.addWidget(holder)
        if not found:
            self.inner.addWidget(notice("good", tr("Nothing found so far explains that it is slow or full.")))
        looks = self._desk.looks
        wanted = []
        if (
            looks.profile is None
            and self._desk.survey.record is not None
            and not self._desk.survey.record.health.image_first
        ):
            wanted.append(tr("its reading speed was not measured"))
        if looks.fillable and not looks.fillings:
            wanted.append(tr("its files were not counted"))
        if wanted:
            self.inner.addWidget(label(tr("Not known yet: {0}.").format(", ".join(wanted)), "small", wrap=True))


class WeightBar(QWidget):
    """How much of it that explains, as a judgement: a thin bar from nothing to all."""

    def __init__(self, weight: float) -> None:
        super().__init__()
        self._weight = weight
        self.setFixedHeight(look().px(5))
        self.setAccessibleName(tr("explains {0} of ten").format(round(10 * weight)))

    def paintEvent(self, event: QPaintEvent | None) -> None:
        painter = QPainter(self)
        follow_direction(painter, self.rect())
        painter.fillRect(self.rect(), look().colour("line"))
        painter.fillRect(QRectF(0, 0, self.width() * self._weight, self.height()), look().role("system"))


def _indent() -> QWidget:
    made = QWidget()
    made.setFixedWidth(look().px(18))
    return made

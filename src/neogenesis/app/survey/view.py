"""The Survey stop."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QGridLayout, QStackedWidget, QVBoxLayout, QWidget

from neogenesis.app.desk.open_job import OpenJob
from neogenesis.app.language import mark, said, tr
from neogenesis.app.parts.chips import Chips
from neogenesis.app.parts.choose import DriveChoice
from neogenesis.app.parts.controls import button, clear, label, mono, notice, read_through, row, rule, stack
from neogenesis.app.parts.flow import FlowRow
from neogenesis.app.parts.heading import HeadingView
from neogenesis.app.parts.stop import Check, StopView
from neogenesis.app.parts.strata import strata_of_survey
from neogenesis.app.survey.canvas import ColumnCanvas
from neogenesis.app.survey.pages import FillPage, HealthPage, InsidePage, SpeedPage, WhyPage
from neogenesis.app.theme.look import look
from neogenesis.app.words import HEALTH_SEVERITY, both, bus_name, exact, role_name, tail, whole_bytes
from neogenesis.core.survey import PartitionFacts, Survey

_VIEWS = (
    ("facts", mark("facts")),
    ("health", mark("health")),
    ("speed", mark("reading speed")),
    ("fills", mark("what fills it")),
    ("inside", mark("inside the system")),
    ("why", mark("why slow or full")),
)
_FAMILIES = {"nt": mark("NT-family system"), "linux": mark("Linux system"), "meridian": mark("Meridian Desktop")}
_KINDS = {
    "ntfs": "NTFS",
    "vfat": "FAT",
    "exfat": "exFAT",
    "luks": mark("encrypted volume"),
    "fve": mark("encrypted volume"),
    "lvm": mark("volume of a set"),
    "raid": mark("member of a RAID"),
    "hfsplus": "HFS+",
    "apfs": "APFS",
    "none": mark("no volume"),
}


def kind_text(partition: PartitionFacts) -> str:
    return tr(_KINDS.get(partition.volume.kind, partition.volume.kind))


class SurveyView(StopView):
    """One large column, the facts of what is chosen, and what was noticed."""

    def __init__(self, desk: OpenJob, parent: QWidget) -> None:
        super().__init__(tr("Survey"), parent)
        self._desk, self._model = desk, desk.survey
        self.choice = DriveChoice(tr("Which connected drive is the customer's old one?"), self._chosen)
        self._waiting = label("", "head", wrap=True)
        self._waiting_more = label("", "muted", wrap=True)
        waiting = QWidget()
        box = QVBoxLayout(waiting)
        box.addStretch(1)
        box.addWidget(self._waiting, 0, Qt.AlignmentFlag.AlignHCenter)
        box.addWidget(self._waiting_more, 0, Qt.AlignmentFlag.AlignHCenter)
        box.addStretch(2)
        self.canvas = ColumnCanvas()
        self.canvas.chosen_changed.connect(lambda _: self._show_facts())
        self._heading = HeadingView()
        self._facts = QGridLayout()
        self._facts.setHorizontalSpacing(look().px(14))
        self._facts.setVerticalSpacing(look().px(7))
        self._findings = QVBoxLayout()
        self._findings.setSpacing(look().px(10))
        right = QWidget()
        side = QVBoxLayout(right)
        side.setContentsMargins(0, 0, look().px(8), 0)
        side.setSpacing(look().px(12))
        side.addLayout(self._facts)
        side.addWidget(rule())
        side.addWidget(label(tr("Findings"), "head"))
        side.addLayout(self._findings)
        self._others = QVBoxLayout()
        self._others.setSpacing(look().px(8))
        side.addLayout(self._others)
        side.addStretch(1)
        scroll = read_through(right, tr("Facts and findings"))
        self.views = Chips(tr("What is shown of the survey"), [(code, tr(title)) for code, title in _VIEWS], one=True)
        self.views.switched.connect(self.show_view)
        self.health, self.speed, self.fill = HealthPage(desk), SpeedPage(desk), FillPage(desk)
        self.inside, self.why = InsidePage(desk), WhyPage(desk)
        self._side = QStackedWidget()
        sides: tuple[QWidget, ...] = (scroll, self.health, self.speed, self.inside, self.why)
        for side_page in sides:
            self._side.addWidget(side_page)
        beside = QWidget()
        columns = row(gap=look().px(20))
        left = QVBoxLayout()
        left.setSpacing(look().px(8))
        left.addWidget(self._heading)
        left.addWidget(self.canvas, 1)
        columns.addLayout(left, 12)
        columns.addWidget(self._side, 9)
        columns.setContentsMargins(0, 0, 0, 0)
        beside.setLayout(columns)
        self._whole = QStackedWidget()
        self._whole.addWidget(beside)
        self._whole.addWidget(self.fill)
        result = QWidget()
        result.setLayout(stack(self.views, self._whole, gap=look().px(10)))
        self.view = "facts"
        self.views.show_chosen((self.view,))
        self._pages = QStackedWidget()
        for shown in (self.choice, waiting, result):
            self._pages.addWidget(shown)
        self.start = button(tr("Seal and survey"), self._start_or_stop, "main", tr("Read the old drive  Ctrl+Return"))
        self._other = button(tr("Another drive…"), self._choose_again)
        self.body.addWidget(self._pages, 1)
        self.more = button(
            tr("Another of its drives…"), self._choose_other, "", tr("Survey the other drives of the same machine")
        )
        self.keep = button(
            tr("Keep what is there…"), self.keep_asked.emit, "", tr("Image, rescue, or copy files out  Ctrl+I")
        )
        foot = FlowRow(look().px(10), at_right=True)
        for widget in (self._other, self.more, self.keep, self.start):
            foot.addWidget(widget)
        self.body.addLayout(foot)
        self._choosing = self._adding = False
        desk.bench.drives_changed.connect(self.refresh)
        self._model.changed.connect(self._answered)
        desk.looks.changed.connect(self._show_looks)
        desk.others.changed.connect(self.refresh)

    def show_view(self, code: str) -> None:
        """One of the views of the survey, by its code."""
        self.view = code or "facts"
        self.views.show_chosen((self.view,))
        self.refresh()

    def _show_looks(self) -> None:
        if self._model.record is None:
            return
        pages = {"health": self.health, "speed": self.speed, "inside": self.inside, "why": self.why}
        self._whole.setCurrentWidget(self.fill if self.view == "fills" else self._whole.widget(0))
        self._side.setCurrentWidget(pages.get(self.view) or self._side.widget(0))
        page = self.fill if self.view == "fills" else pages.get(self.view)
        if page is not None:
            page.refresh()

    def _choose_other(self) -> None:
        self._choosing = self._adding = True
        self.refresh()

    def _chosen(self, name: str) -> None:
        """The answer to which drive: the old one, or another of its machine."""
        adding, self._choosing, self._adding = self._adding, False, False
        if adding:
            self._desk.others.add(name)
            self.refresh()
        else:
            self._model.choose(name)

    def _start_or_stop(self) -> None:
        if self._model.reading:
            self._model.give_up()
        else:
            self._model.start()

    def _choose_again(self) -> None:
        self._choosing = True
        self.refresh()

    def _answered(self) -> None:
        self._choosing = False
        self.refresh()
        if self.isVisible() and self._model.state == "done":
            self.canvas.setFocus()

    def main_action(self) -> None:
        self.start.click()

    def main_widget(self) -> QWidget | None:
        return self.canvas if self._model.record is not None else self.start

    def refresh(self) -> None:
        state = self._model.state
        dock = self._desk.old_dock()
        drive = dock.docked.drive if dock and dock.docked else None
        if state == "no-drive" or self._choosing:
            question = (
                tr("Which connected drive is another one of this machine?")
                if self._adding
                else tr("Which connected drive is the customer's old one?")
            )
            taken = [self._desk.new_dock(), *([self._desk.old_dock()] if self._adding else [])]
            self.choice.ask(question, self._desk.bench.docks(), taken)
            self._pages.setCurrentIndex(0)
        elif state == "done" and self._model.record is not None:
            self._show_survey(self._model.record)
            self._show_looks()
            self._pages.setCurrentIndex(2)
        else:
            self._show_waiting(state)
            self._pages.setCurrentIndex(1)
        name = f"{drive.model} {tail(drive.serial)}" if drive else ""
        self.subtitle.say(tr("What {0} holds, read without writing to it").format(name) if name else "")
        words = {"reading": tr("Stop reading"), "done": tr("Survey again")}
        self.start.setText(words.get(state, tr("Seal and survey")))
        here = state in ("ready", "done") and not self._choosing and bool(dock and dock.present)
        self.start.setEnabled(here or state == "reading")
        self.keep.setVisible(bool(self._desk.job.old_drive) and not self._choosing)
        facts = self.view == "facts" or state != "done"
        self.more.setVisible(facts and state == "done" and not self._choosing and not self._desk.job.closed)
        self.more.setEnabled(not self._desk.others.reading)
        self._other.setVisible(
            facts and state in ("ready", "absent", "done") and not self._choosing and not self._desk.job.closed
        )

    def _show_waiting(self, state: str) -> None:
        text, more = {
            "ready": (
                tr("The old drive is connected and sealed."),
                tr("The survey reads its table, its volumes and its health. Nothing is written to it."),
            ),
            "absent": (tr("The old drive of this job is not connected."), tr("Put it into a dock; it is recognised.")),
            "reading": (tr("Reading the old drive…"), tr("Table, volumes, allocation maps, systems.")),
        }.get(state, ("", ""))
        if self._model.failure is not None and state != "reading":
            text, more = said(self._model.failure.text), said(self._model.failure.remedy)
        self._waiting.setText(text)
        self._waiting_more.setText(more)

    def _show_survey(self, survey: Survey) -> None:
        dock = self._desk.old_dock()
        figures = f"{tail(survey.drive.serial)}  {both(survey.drive.size_bytes)}"
        self._heading.show_heading(dock.tag if dock else None, survey.drive.model or tr("Old drive"), figures)
        details = {}
        for p in survey.partitions:
            used = tr("{0} used").format(exact(p.volume.used_bytes)) if p.volume.understood else ""
            details[p.number] = "  ·  ".join(filter(None, (kind_text(p), p.volume.system_name, used)))
        self.canvas.show_strata(strata_of_survey(survey), details)
        self._show_facts()
        clear(self._findings)
        for finding in survey.findings:
            self._findings.addWidget(notice(finding.severity, finding.text, finding.remedy))
        for line in self._model.changes:
            self._findings.addWidget(notice("note", tr("Since the first survey: {0}").format(said(line))))
        self._show_others()
        if not survey.findings:
            self._findings.addWidget(notice("good", tr("Nothing stands against a copy.")))

    def _show_others(self) -> None:
        """The other drives of the machine, what each is, and what they are to each other."""
        clear(self._others)
        others = self._desk.others
        seen = others.together
        if others.reading:
            self._others.addWidget(label(tr("Reading another drive of the machine…"), "muted"))
        if others.failure is not None:
            self._others.addWidget(notice("caution", others.failure.text, others.failure.remedy))
        if seen is None:
            return
        self._others.addWidget(label(tr("Drives of this machine"), "head"))
        for number, one in enumerate(others.everything):
            parts = [
                tr("could start it") if number in seen.starts else "",
                tr("holds data") if number in seen.holds_data else "",
            ]
            name = f"{one.drive.model} {tail(one.drive.serial)}  {both(one.drive.size_bytes)}"
            what = ", ".join(filter(None, parts)) or tr("empty")
            below = row(label(what, "small"), None)
            if number:
                drop = button(
                    tr("Not of this machine"), lambda n=number - 1: others.drop(n), "plain", tr("Take it off this list")
                )
                below.addWidget(drop)
            self._others.addLayout(stack(label(name, wrap=True, copyable=True), below, gap=1))
        for finding in seen.findings:
            self._others.addWidget(notice(finding.severity, finding.text, finding.remedy))

    def _show_facts(self) -> None:
        survey = self._model.record
        if survey is None:
            return
        chosen = survey.partition(self.canvas.chosen) if self.canvas.chosen is not None else None
        facts = partition_facts(chosen) if chosen else drive_facts(survey)
        clear(self._facts)
        title = said(chosen.title) if chosen else tr("The whole drive")
        self._facts.addWidget(label(title, "head"), 0, 0, 1, 2)
        for index, (name, value, figure) in enumerate(facts, 1):
            self._facts.addWidget(label(name, "muted"), index, 0, Qt.AlignmentFlag.AlignTop)
            shown = mono(value) if figure else label(value, wrap=True, copyable=True)
            self._facts.addWidget(shown, index, 1)
        self._facts.setColumnStretch(1, 1)

    def checks(self) -> list[Check]:
        survey = self._model.record
        if survey is None:
            return [Check("good", tr("Old drives are opened read-only"), tr("The program has no way to write to one."))]
        health = survey.health
        severity = HEALTH_SEVERITY.get(health.verdict, "note")
        words = {
            "sound": tr("The drive's own readings are sound"),
            "ageing": tr("The drive is ageing"),
            "copy-now": tr("The drive is failing: image it first"),
            "lost-cause": tr("The drive no longer answers"),
        }.get(health.verdict, tr("The drive's health is not known"))
        return [
            Check("good", tr("Old drive is sealed"), tr("It was only read.")),
            Check(severity, words, health.why),
        ]


def drive_facts(survey: Survey) -> list[tuple[str, str, bool]]:
    """Name, value, and whether the value is a figure."""
    drive = survey.drive
    reading = drive.reading
    hours = reading.power_on_hours if reading else None
    facts = [
        (tr("Model"), drive.model or "–", False),
        (tr("Serial"), drive.serial or "–", True),
        (tr("Size"), both(drive.size_bytes), False),
        (tr("Bytes"), whole_bytes(drive.size_bytes), False),
        (tr("Sectors"), tr("{0} bytes each").format(drive.sector_size), False),
        (tr("Connected by"), bus_name(drive.bus), False),
        (tr("Table"), {"gpt": "GPT", "mbr": "MBR", "none": tr("none")}[survey.table.kind], False),
        (tr("Used"), both(survey.used_bytes), False),
    ]
    if drive.timeout_s is not None:
        facts.append((tr("Longest wait for a request"), tr("{0} s").format(round(drive.timeout_s)), False))
    if hours is not None:
        facts.append((tr("Powered on"), tr("{0} hours").format(whole_bytes(hours)), False))
    return facts


def partition_facts(partition: PartitionFacts) -> list[tuple[str, str, bool]]:
    """As `drive_facts`, for one partition."""
    volume = partition.volume
    facts = [
        (tr("Partition"), f"{partition.number}, {role_name(partition.role)}", False),
        (tr("Volume"), kind_text(partition), False),
        (tr("Size"), both(partition.size_bytes), False),
        (tr("First byte"), whole_bytes(partition.start_bytes), False),
        (tr("Last byte"), whole_bytes(partition.end_bytes - 1), False),
    ]
    if volume.understood:
        facts.append((tr("Used"), both(volume.used_bytes), False))
        facts.append((tr("Smallest"), both(volume.smallest_bytes), False))
    if volume.system_family:
        facts.append((tr("System"), volume.system_name or tr(_FAMILIES[volume.system_family]), False))
    if volume.uuid:
        facts.append((tr("Volume id"), volume.uuid, True))
    if partition.name:
        facts.append((tr("Name in table"), partition.name, False))
    return facts

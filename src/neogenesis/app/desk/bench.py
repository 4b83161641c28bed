"""The bench as the window sees it: connected drives with their tags, all jobs, and the one that is open."""

from __future__ import annotations

import threading
import uuid
from collections import Counter
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass
from datetime import date, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

from PyQt6.QtCore import QObject, QTimer, pyqtSignal
from sqlalchemy.exc import SQLAlchemyError

from neogenesis.app.desk.work import Failure, Work, guarded
from neogenesis.app.language import said, tr
from neogenesis.bench.drives.docks import Docked, Docks
from neogenesis.bench.processes.folders import login_name
from neogenesis.bench.processes.living import lives, this_process
from neogenesis.bench.register import Writing, register_of
from neogenesis.core.drive import Sighting, is_one
from neogenesis.core.drive.holding import Holding, holding
from neogenesis.core.errors import CannotRecord, NeogenesisError
from neogenesis.core.job import Glance, Job, LogEntry, Shop, Which, load_shop, save_shop
from neogenesis.core.job.store import JobStore
from neogenesis.core.job.ticket import folder_name
from neogenesis.core.work.control import Clock

if TYPE_CHECKING:
    from neogenesis.core.job.past import Outcome

_LOOK_MS = 1500
_LOOK_WHEN_TOLD_MS = 10_000
_OTHERS_MS = 700
_FIRST_LOOK_S, _LATE_MS = 0.6, 200


@dataclass(frozen=True, slots=True)
class Dock:
    """A place on the shelf: a drive that is there, the ghost of one that was pulled, or nothing.

    `twin`: another drive that is connected gives the same serial, so only its place tells which is which. `times` is
    how often it was put in.
    """

    docked: Docked | None = None
    tag: int = 0
    present: bool = False
    twin: bool = False
    times: int = 0

    @property
    def sighting(self) -> Sighting | None:
        """Who it is, as far as it is known without reading it."""
        return Sighting(self.docked.drive.identity, "", frozenset(self.docked.files)) if self.docked else None

    @property
    def subject(self) -> str:
        """What a confirmation is about: this drive, as it was put in this time."""
        if self.docked is None or not self.present:
            return ""
        return f"{self.docked.drive.identity.key} {self.docked.name} {self.docked.insertion} {self.times}"


class Bench(QObject):
    """Knows what is connected and what is to be done. Screens listen to it and send it orders."""

    drives_changed = pyqtSignal()
    _plugged = pyqtSignal()
    jobs_changed = pyqtSignal()
    log_changed = pyqtSignal()
    pedal_learned = pyqtSignal(str)
    #: Another window, or a command, has written into the records; or what is being written to is another drive.
    others_wrote = pyqtSignal()
    #: Whether the logbook can be written, in words; empty while it can.
    cannot_record = pyqtSignal(str)

    def __init__(
        self, name: str, store: JobStore, docks: Docks, work: Work, clock: Clock, person: Path | None = None
    ) -> None:
        """`name` is for a shop without one; `person` is the folder of who uses the window, by default the bench's."""
        super().__init__()
        self._name, self.store, self.work, self.clock = name, store, work, clock
        self.person = person or store.folder
        self.technician = self.photo_folder = self.pedal = ""
        self.shop = Shop()
        self.trouble = store.trouble
        try:
            self.shop = load_shop(store.folder)
        except NeogenesisError as error:
            self.trouble = f"{self.trouble} {error.sentence()}".strip()
        self._docks = docks
        self._register = register_of(store.folder, store.url)
        self._held: list[Holding] | None = None
        self._writing: list[Writing] = []
        self._last_entries: dict[str, int] = {}
        self._all_jobs: dict[str, Job] | None = None
        self.cannot_write = ""
        self.window = f"{uuid.uuid4().hex} {this_process()}"
        self._times: Counter[str] = Counter()
        self._drafts: dict[str, dict[str, str]] = {}
        self._jobs: dict[str, Job] = {}
        self._logs: dict[str, list[LogEntry]] = {}
        self._glances: dict[str, Glance] | None = None
        self._past: list[Outcome] | None = None
        self._order: list[str] = []
        self._seen: dict[str, Docked] = {}
        self._present: tuple[str, ...] = ()
        self._looking = False
        self._late: QTimer | None = None
        self._timer = QTimer(self)
        self._timer.setInterval(_LOOK_MS)
        self._timer.timeout.connect(self.look)
        self._others = QTimer(self)
        self._others.setInterval(_OTHERS_MS)
        self._others.timeout.connect(self.hear_others)
        self._plugged.connect(self._told)

    @property
    def name(self) -> str:
        return self.shop.name or self._name

    def keep_shop(self, shop: Shop) -> None:
        """Put on record what is true of the shop; raises BadRecord where that cannot be written."""
        save_shop(self.store.folder, shop)
        self.shop = shop
        self.jobs_changed.emit()

    # Drives

    def watch(self) -> None:
        """Look at the docks now, and again when a drive comes or goes; where nobody tells, every moment."""
        self._first_look()
        told = self._docks.listen(self._plugged.emit)
        self._timer.start(_LOOK_WHEN_TOLD_MS if told else _LOOK_MS)
        self.hear_others()
        self._others.start()

    def _first_look(self) -> None:
        """The window comes up with its drives where they answer at once; a dock that hangs must not keep it closed."""
        found: list[list[Docked] | Failure] = []
        there = threading.Event()

        def look() -> None:
            found.append(guarded(self._docks.drives))
            there.set()

        self._looking = True
        threading.Thread(target=look, daemon=True, name="first-look").start()
        if there.wait(_FIRST_LOOK_S):
            self._looked(found[0])
            return
        late = self._late = QTimer(self)
        late.setInterval(_LATE_MS)

        def come() -> None:
            if there.is_set():
                late.stop()
                self._looked(found[0])

        late.timeout.connect(come)
        late.start()

    def stop_watching(self) -> None:
        self._timer.stop()
        self._others.stop()
        if self._late is not None:
            self._late.stop()

    # Other windows, and commands

    def hear_others(self) -> None:
        """Look whether the records are others than this window knows, and what is being written to."""
        try:
            changed = self.store.changed_elsewhere()
            writing = [w for w in self._writing if lives(w.process)]
            if changed:
                self._held = None
                writing = self._register.writing()
        except (NeogenesisError, SQLAlchemyError):
            return  # it is asked again in a moment, and what is begun here says why it cannot be
        news = writing != self._writing
        self._writing = writing
        if changed and self._is_news():
            self._jobs, self._logs, self._glances, self._past = {}, {}, None, None
            self.jobs_changed.emit()
            self.log_changed.emit()
            news = True
        if news:
            self.others_wrote.emit()
        if self.cannot_write:
            self._try_again()

    def _is_news(self) -> bool:
        """Whether what changed is anything that this window did not write itself."""
        entries, jobs = self.store.last_entries(), {job.ticket: job for job in self.store.jobs()}
        first, news = self._all_jobs is None, jobs != self._all_jobs or entries != self._last_entries
        self._last_entries, self._all_jobs = entries, jobs
        return news and not first

    def _try_again(self) -> None:
        """Whether the logbook takes anything by now."""
        try:
            self.store.leave("")
        except CannotRecord:
            return
        self.cannot_write = ""
        self.cannot_record.emit("")

    def refuse_unwritable(self, error: CannotRecord) -> None:
        """The logbook takes nothing: say so until it does."""
        if not self.cannot_write:
            self.cannot_write = error.sentence()
            self.cannot_record.emit(self.cannot_write)

    def holdings(self) -> list[Holding]:
        """The drives that jobs and the shop hold, as the register has them; asked once for each change."""
        if self._held is None:
            try:
                self._held = self._register.holdings()
            except NeogenesisError as error:
                self.trouble = error.sentence()
                return []
        return self._held

    def meet(self, dock: Dock) -> None:
        """Put on record who the drive in that dock is. Raises Refused where the register takes nothing."""
        if dock.sighting is not None and dock.docked is not None:
            self._register.meet([(dock.sighting, dock.docked.name)])

    def held(self, dock: Dock, ticket: str) -> str:
        """Why a drive may not become the new one of a job, in words; empty where nothing is against it."""
        sighting = dock.sighting
        if sighting is None:
            return ""
        if dock.twin:
            return tr("another drive that is connected says it is the same one; unplug one")
        for one in holding(sighting, self.holdings(), date.today()):
            if one.seals and not (one.ticket == ticket and one.role == "new"):
                return said(one.text())
        return tr("being written") if self.is_written(dock) else ""

    def known_as(self, dock: Dock, ticket: str) -> Holding | None:
        """What else a drive is that may become the new one of a job: another's, or a stick."""
        sighting = dock.sighting
        held = holding(sighting, self.holdings(), date.today()) if sighting is not None else []
        return next((one for one in held if not one.seals and one.ticket != ticket), None)

    def is_written(self, dock: Dock) -> bool:
        """Whether work of any window or command writes to that drive now."""
        sighting = dock.sighting
        return sighting is not None and any(is_one(w.drive, sighting) and lives(w.process) for w in self._writing)

    def sit(self, ticket: str) -> None:
        """This window has that job open from now on; empty for none."""
        with suppress(CannotRecord):
            self.store.leave(self.window)
            if ticket:
                self.store.sit(ticket, self.window)

    def is_open_elsewhere(self, ticket: str) -> bool:
        """Whether another window that lives has that job open."""
        try:
            others = [w for w in self.store.sitting(ticket) if w != self.window]
        except SQLAlchemyError:
            return False
        return any(lives(other.partition(" ")[2]) for other in others)

    def _told(self) -> None:
        if self._timer.isActive():  # what is heard after the window was closed comes too late
            self.look()

    def look(self) -> None:
        if not self._looking:
            self._looking = True
            self.work.in_thread(self._looked, self._docks.drives)

    def _looked(self, found: list[Docked] | Failure) -> None:
        self._looking = False
        if not isinstance(found, Failure):
            self._take(found)

    def _take(self, found: list[Docked]) -> None:
        times = Counter(d.key for d in found)
        keyed = {d.key if times[d.key] == 1 else f"{d.key} {d.name}": d for d in found}
        present = tuple(keyed)
        for key in keyed:
            self._times[key] += key not in self._present
        changed = present != self._present or any(self._seen.get(key) != d for key, d in keyed.items())
        for key, docked in keyed.items():
            self._seen[key] = docked
            if key not in self._order:
                self._order.append(key)
        self._present = present
        if changed:
            self.drives_changed.emit()

    def docks(self) -> list[Dock]:
        """The shelf: drives and ghosts in the order of their tags, then empty docks."""
        serials = Counter(self._seen[key].drive.serial for key in self._present)
        shelf = []
        for tag, key in enumerate(self._order):
            docked, present = self._seen[key], key in self._present
            twin = present and bool(docked.drive.serial) and serials[docked.drive.serial] > 1
            shelf.append(Dock(docked, tag, present, twin, self._times[key]))
        return shelf + [Dock() for _ in range(max(0, self._docks.count - len(shelf)))]

    def dock_named(self, name: str) -> Dock | None:
        """What is or was last in that place."""
        found = [d for d in self.docks() if d.docked and name in (d.docked.name, d.docked.key)]
        return next((d for d in found if d.present), found[0] if found else None)

    def dock_of(self, job: Job, which: Which) -> Dock | None:
        """The job's old or new drive, in whatever dock it is or was seen; None when it never was, or nobody can tell.

        A drive is known by who it is. Its place counts only where two say that they are the same.
        """
        place, identity = job.place(which), job.identity(which)
        if not place:
            return None
        if identity is None:
            return self.dock_named(place)
        same = [d for d in self.docks() if d.docked and d.docked.drive.identity.is_same(identity)]
        present = [d for d in same if d.present]
        if len(present) > 1:
            return next((d for d in present if d.docked and d.docked.name == place), None)
        return present[0] if present else (same[-1] if same else None)

    def learn_pedal(self, key: str) -> None:
        """That key leads through Swap from now on, for this person; empty for Space alone."""
        self.pedal = key
        self.pedal_learned.emit(key)
        self.jobs_changed.emit()

    # Jobs

    def jobs(self) -> list[Job]:
        return self.store.jobs()

    def job(self, ticket: str) -> Job:
        """As the store has it; asked once for each change. Raises BadArgument for a ticket that there is not."""
        found = self._jobs.get(ticket)
        if found is None:
            found = self._jobs[ticket] = self.store.job(ticket)
        return found

    def forget(self, ticket: str) -> None:
        """Ask the store anew: another window may have written."""
        self._jobs.pop(ticket, None)
        self._logs.pop(ticket, None)

    def log(self, ticket: str) -> list[LogEntry]:
        """The whole logbook of a job, asked once for each change."""
        found = self._logs.get(ticket)
        if found is None:
            found = self._logs[ticket] = self.store.log(ticket)
        return found

    def glances(self, anew: bool) -> dict[str, Glance]:
        """What is seen of each logbook from afar; `anew` asks the store, for what other windows wrote."""
        if anew or self._glances is None:
            self._glances = self.store.glances()
        return self._glances

    def drives_due(self) -> dict[str, str]:
        """Tickets of jobs whose old drive somebody should see to, with the day since when."""
        kept, today = self.store.kept_drives(), datetime.now().date()
        by_folder = {folder_name(job.ticket): job.ticket for job in self.jobs()} if kept else {}
        due = {name: one.until for name, one in kept.items() if one.is_due(today)}
        return {by_folder[name]: until for name, until in due.items() if name in by_folder}

    @property
    def past(self) -> list[Outcome]:
        """What the finished jobs of this bench took, against what was planned."""
        if self._past is None:
            from neogenesis.bench.records.past import past_of  # heavy, and not needed to open the window

            self._past = past_of(self.store)
        return self._past

    @property
    def factors(self) -> tuple[tuple[str, float], ...]:
        """By which the shop's own past changes the estimates; none where it is switched off."""
        if not self.shop.learns or not self.past:
            return ()
        from neogenesis.core.job.past import factors_of

        return factors_of(self.past)

    @property
    def me(self) -> str:
        """How who is at the window is named in logbooks."""
        return self.technician or login_name()

    def add_job(self, job: Job) -> None:
        """Raises BadArgument when the ticket is empty or taken."""
        self.store.add(job)
        self._know(self.store.job(job.ticket))
        self.record(job.ticket, "intake", "Job taken in" + (f": {job.wish}" if job.wish else ""))
        self.jobs_changed.emit()

    def edit_job(self, job: Job) -> None:
        """What a person changed of a job; the logbook says what it was. Raises BadArgument."""
        before = self.job(job.ticket)
        names = ("customer", "contact", "machine", "promise", "wish")
        changes = {name: getattr(job, name) for name in names if getattr(job, name) != getattr(before, name)}
        if changes:
            self.update(job.ticket, **changes)
            was = "; ".join(f"{name} was “{getattr(before, name)}”" for name in changes)
            self.record(job.ticket, "edit", f"Job changed: {was}")

    def shelve(self, ticket: str, shelf: str) -> None:
        """Put a job on the list (empty), into the archive (`archived`), or out of sight (`removed`)."""
        self.update(ticket, shelf=shelf)
        words = {"": "Back on the list", "archived": "Archived", "removed": "Removed from the list; its records stay"}
        self.record(ticket, "shelf", words[shelf])

    def reopen(self, ticket: str) -> None:
        """A job that was handed over goes on."""
        self.update(ticket, closed=False)
        self.record(ticket, "reopen", "Reopened")

    def update(self, ticket: str, **changes: Any) -> Job:
        try:
            job = self._jobs[ticket] = self.store.update(ticket, **changes)
        except CannotRecord as error:
            self.refuse_unwritable(error)
            raise
        self._held = None
        self._know(job)
        self.jobs_changed.emit()
        return job

    def _know(self, job: Job) -> None:
        """What this window wrote itself is no news to it."""
        if self._all_jobs is not None:
            self._all_jobs[job.ticket] = job
            if job.shelf == "removed":
                del self._all_jobs[job.ticket]

    def record(self, ticket: str, kind: str, text: str, **figures: Any) -> LogEntry:
        """Append to a job's logbook; raises CannotRecord when it takes nothing, which the window says until it does."""
        try:
            entry = self.store.append(ticket, self.clock.wall(), self.me, kind, text, **figures)
        except CannotRecord as error:
            self.refuse_unwritable(error)
            raise
        self._last_entries[ticket] = entry.number
        if kind in ("handover", "reopen"):
            self._past = None
        self._logs.pop(ticket, None)
        if self._glances is not None:
            people = self._glances[ticket].people if ticket in self._glances else frozenset[str]()
            self._glances[ticket] = Glance(entry.at, kind, text, people | {entry.who})
        self.log_changed.emit()
        return entry

    def drafts(self, ticket: str) -> dict[str, str]:
        """What was typed into the fields of a job and not yet taken, by the name of the field."""
        return self._drafts.setdefault(ticket, {})

    def when_changed(self, listener: Callable[[], object]) -> None:
        """Hear of drives and jobs alike."""
        self.drives_changed.connect(listener)
        self.jobs_changed.connect(listener)

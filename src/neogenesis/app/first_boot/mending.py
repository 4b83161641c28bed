"""One remedy of a job, or putting one back, by a worker that outlives the window; on record before it begins."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from itertools import count
from pathlib import Path

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from neogenesis.app.desk.bench import Dock
from neogenesis.app.desk.errand import Errand
from neogenesis.app.desk.session import Session
from neogenesis.app.desk.work import Failure, failure_of
from neogenesis.bench.processes import worker
from neogenesis.bench.works.mending import changes_digest, remedy_work, undo_work
from neogenesis.bench.works.undo_record import UndoRecord
from neogenesis.core.boot.remedy import RemedyRow
from neogenesis.core.errors import CannotRecord, NeogenesisError
from neogenesis.core.record import Record, load
from neogenesis.core.work import Event

_AGAIN_MS = 1000


class Mended(Record, frozen=True, kw_only=True):
    """A remedy that was done: the record of what stood there, in the dossier, and the DRIVE that it was done on."""

    record: str
    drive: str


class Mending(QObject):
    """`ended` comes when one has ended or could not be begun; `failure` says then what went wrong.

    `kept` gives what was mended, `keep` puts that on file.
    """

    changed = pyqtSignal()
    ended = pyqtSignal()

    def __init__(
        self,
        session: Session,
        kept: Callable[[], tuple[Mended, ...]],
        keep: Callable[[tuple[Mended, ...]], None],
    ) -> None:
        super().__init__(session)
        self._session, self._kept, self._keep = session, kept, keep
        self.is_active = False
        self.failure: Failure | None = None
        self._errand = Errand(self, self._hear_mending, self._mended)
        self._outcome: Event | None = None
        self._run = ""
        self._seen: tuple[str, int, int] | None = None
        self._seen_cut = False

    @property
    def process(self) -> int:
        return self._errand.process

    def close(self) -> None:
        """Listen no more; what is being written goes on."""
        self._errand.close()

    def mend(self, remedy: RemedyRow, dock: Dock | None, tail: str, beside: Sequence[str] = ()) -> bool:
        """One remedy on drives as they were looked at, `beside` in their order; what stood there is recorded first.

        False where it could not be begun.
        """
        places = (self._session.dossier / f"remedy-{number}.undo" for number in count(1))
        path = next(place for place in places if not place.exists())
        work = remedy_work(remedy.code, remedy.changes)
        others = [name for name in beside if name != remedy.drive]
        drives = list(beside) if remedy.drive in beside else [remedy.drive, *others]
        arguments = ["remedy", remedy.code, *drives, "--record", str(path), "--changes", remedy.changes]
        facts = {"record": path.name, "code": remedy.code}
        return self._begin("remedy", arguments, work, remedy.drive, dock, tail, facts)

    def is_cut(self, last: Mended) -> bool:
        """Whether it was begun, and is neither finished nor put back; a record is large, and read once as it is."""
        path = self._session.dossier / last.record
        try:
            status = path.stat()
            seen = (last.record, status.st_mtime_ns, status.st_size)
            if self._seen != seen:
                self._seen_cut = load(path, UndoRecord, "record of a remedy").state == "begun"
                self._seen = seen
        except (OSError, NeogenesisError):
            return False
        return self._seen_cut

    def finish(self, last: Mended, dock: Dock | None, tail: str) -> bool:
        """The rest of what was announced when `last` was begun."""
        made = self._record_of(last)
        if made is None:
            return False
        path, changes = self._session.dossier / last.record, changes_digest(made.rows)
        arguments = ["remedy", made.code, last.drive, "--record", str(path), "--changes", changes]
        facts = {"record": last.record, "code": made.code}
        return self._begin("remedy", arguments, remedy_work(made.code, changes), last.drive, dock, tail, facts)

    def _record_of(self, last: Mended) -> UndoRecord | None:
        try:
            return load(self._session.dossier / last.record, UndoRecord, "record of a remedy")
        except NeogenesisError as error:
            self.failure = failure_of(error)
            self.ended.emit()
            return None

    def put_back(self, last: Mended, dock: Dock | None, tail: str) -> bool:
        """What stood there before `last`, byte for byte."""
        made, path = self._record_of(last), self._session.dossier / last.record
        if made is None:
            return False
        facts = {"record": last.record, "code": made.code}
        arguments, work = ["undo", str(path), last.drive], undo_work(made)
        return self._begin("undo", arguments, work, last.drive, dock, tail, facts)

    def _begin(
        self,
        kind: str,
        arguments: list[str],
        work: str,
        drive: str,
        dock: Dock | None,
        tail: str,
        facts: dict[str, str],
    ) -> bool:
        self.failure = None
        try:
            confirmed = self._session.confirmation(work, dock)
            path = self._session.keep_confirmation(confirmed)
            run, code = confirmed.run, facts["code"]
            if kind == "remedy":
                self._session.record("remedy-start", f"Remedy begun: {code}", run=run, drive=drive, **facts)
            else:
                self._session.record("undo-start", f"Putting back begun: {code}", run=run, drive=drive, **facts)
            more = ["--confirm", tail, "--confirmed", str(path), "--bench", self._session.records_place]
            self._follow(confirmed.run)
            self._errand.begin([*arguments, *more], self._events_of(confirmed.run))
        except NeogenesisError as error:
            self.failure, self.is_active = failure_of(error), False
        except OSError as error:
            self.failure, self.is_active = Failure(f"It could not be begun ({error.strerror}).", "Try again."), False
            self._session.record(f"{kind}-failed", self.failure.sentence(), run=self._run)
        (self.changed if self.is_active else self.ended).emit()
        return self.is_active

    def _events_of(self, run: str) -> Path:
        return self._session.dossier / f"mending-{run[:8]}.events.jsonl"

    def _follow(self, run: str) -> None:
        self._run, self._outcome, self.is_active = run, None, True

    def look_again(self) -> None:
        """A remedy that another window began, or that was cut off with it, is heard to its end here."""
        if self.is_active:
            return
        log = self._session.log()
        ended = {e.figures.get("run") for e in log if not e.kind.endswith("-start")}
        begun = [e for e in log if e.kind in ("remedy-start", "undo-start") and e.figures.get("run") not in ended]
        if not begun:
            return
        entry = begun[-1]
        run = str(entry.figures.get("run", ""))
        running = worker.running_worker(self._session.dossier / str(entry.figures.get("record", "")))
        if running is None and self._session.is_young(run):  # another window is starting it
            QTimer.singleShot(_AGAIN_MS, self.look_again)
            return
        self._follow(run)
        self._errand.join(self._events_of(self._run), running or 0)
        if not self._errand.lives:
            self._mended()

    def _hear_mending(self, event: Event) -> None:
        if event.event == "outcome":
            self._outcome = event

    def _mended(self) -> None:
        """A remedy, or putting one back, has ended: on record once, and what stood there can be had back."""
        self.is_active = False
        entry = next((e for e in self._session.log() if e.figures.get("run") == self._run), None)
        if entry is None:
            return
        kind, figures = entry.kind.removesuffix("-start"), entry.figures
        name, drive, code = (str(figures.get(key, "")) for key in ("record", "drive", "code"))
        outcome = self._outcome
        done = outcome is not None and outcome.outcome == "done"
        there = (self._session.dossier / name).exists()
        known = any(mended.record == name for mended in self._kept())
        if outcome is None:
            words = self._errand.last_words or "It was cut off; what stood there before is on record."
            self.failure = Failure(words, "Finish it, or put it back.")
        elif not done:
            self.failure = Failure(outcome.text, outcome.remedy, outcome.code)
        refused = outcome is not None and outcome.outcome == "refused"
        try:
            if kind == "remedy" and there and not known and not refused:
                self._keep((*self._kept(), Mended(record=name, drive=drive)))
            if kind == "undo" and done:
                self._keep(tuple(m for m in self._kept() if m.record != name))
            facts = {"run": self._run, "code": code, "record": name}
            if done and kind == "remedy":
                self._session.record("remedy-done", f"Mended: {code}", **facts)
            elif done:
                self._session.record("undo-done", f"Put back: {code}", **facts)
            else:
                ending = outcome.outcome if outcome is not None else "failed"
                self._session.record(f"{kind}-{ending}", self.failure.sentence() if self.failure else "", **facts)
        except CannotRecord:
            QTimer.singleShot(_AGAIN_MS, self._mended)
            return
        except NeogenesisError as error:
            self.failure = failure_of(error)
        self.ended.emit()

"""What the window knows of the bench's library: its files against what a source offers, and what is being fetched."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import QObject, pyqtSignal

from neogenesis.app.desk.bench import Bench
from neogenesis.app.desk.work import Failure, Handle
from neogenesis.bench.inside.library import Fetched, fetch_from, look_from
from neogenesis.bench.processes.folders import LIBRARY
from neogenesis.core.media.library import Row


class LibraryModel(QObject):
    """`rows` are what was found last; `fetching` the name of a file that is on its way, `fetched` how far it is."""

    changed = pyqtSignal()
    moved = pyqtSignal()

    def __init__(self, parent: QObject, bench: Bench, source: str) -> None:
        super().__init__(parent)
        self._bench = bench
        self.folder: Path = bench.store.folder / LIBRARY
        #: A folder, or the description of a simulated source, such as the demo's own.
        self.source = source or next((str(p) for p in sorted(self.folder.glob("*.source.json"))), "")
        self.rows: list[Row] = []
        self.failure: Failure | None = None
        self.looking = False
        self.fetching = ""
        self.fetched: Fetched | None = None
        self._handle: Handle | None = None

    def look(self) -> None:
        """Read the library anew; the answer comes later through `changed`."""
        if self.looking or self.fetching:
            return
        self.looking, self.failure = True, None
        self.folder.mkdir(exist_ok=True)
        self.changed.emit()
        self._bench.work.in_process(self._looked, look_from, str(self.folder), self.source)

    def take_source(self, source: str) -> None:
        self.source = source
        self.look()

    def _looked(self, found: list[Row] | Failure) -> None:
        self.looking = False
        if isinstance(found, Failure):
            self.failure = found
        else:
            self.rows = found
        self.changed.emit()

    def fetch(self, name: str) -> None:
        """One file of the source; what came before is gone on with."""
        if self.looking or self.fetching or not self.source:
            return
        self.fetching, self.fetched, self.failure = name, None, None
        self.changed.emit()
        asked = (str(self.folder), self.source, name)
        self._handle = self._bench.work.in_process(self._ended, fetch_from, *asked, heard=self._hear)

    def stop(self) -> None:
        """What has come is kept; fetching again goes on from there."""
        if self.fetching and self._handle is not None:
            self._handle.give_up()
            self.fetching, self._handle = "", None
            self.look()

    def _hear(self, fetched: Fetched) -> None:
        self.fetched = fetched
        self.moved.emit()

    def _ended(self, got: str | Failure) -> None:
        self.fetching, self._handle = "", None
        if isinstance(got, Failure):
            self.failure = got
            self.changed.emit()
        else:
            self.look()

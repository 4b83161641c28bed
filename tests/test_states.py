"""A transfer as a state machine: copy, fail, stop, lose power, unplug, resume, in any order.

Whatever happens, what the journal calls written equals the source, the old drive is unchanged, the new drive has its
old table, none, or the whole new one, and in the end a resume finishes the work.
"""

from __future__ import annotations

import os
import random
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Callable
from pathlib import Path

from hypothesis import HealthCheck, settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, initialize, invariant, precondition, rule

from neogenesis.bench.drives import open_sealed
from neogenesis.bench.inside.surveying import survey
from neogenesis.bench.processes.clock import BenchClock
from neogenesis.bench.processes.reader import open_tree
from neogenesis.bench.works.planning import hash_of, plan_for
from neogenesis.bench.works.tools import FilesystemTools
from neogenesis.core.errors import NeogenesisError, ReadFailed, WriteFailed
from neogenesis.core.plan import Plan, Policy
from neogenesis.core.record import save
from neogenesis.core.store import FileStore, PathOpener, ReadableStore, WritableStore
from neogenesis.core.survey import survey_drive
from neogenesis.core.table import read_table
from neogenesis.core.transfer import Ends, RunFiles, Transfer
from neogenesis.core.transfer.readback import wrong_chunks
from neogenesis.core.work import Control, Event, Frame
from neogenesis.core.work.chunks import ZEROS
from neogenesis.core.work.journal import read_state
from tests.drives import LINUX, STARTUP, Part, blank, data_hash, linux_files, make_drive
from tests.test_power_cut import CutStore, table_state

_ORIGINAL = Path(tempfile.mkdtemp(prefix="neogenesis-states-"))


def original() -> Path:
    image = _ORIGINAL / "old.img"
    if not image.exists():
        make_drive(
            image,
            60,
            [
                Part(10, STARTUP, "fat16", "START", {"EFI/BOOT/BOOTX64.EFI": b"MZ" * 900}),
                Part(45, LINUX, "ext4", "root", linux_files()),
            ],
        )
    return image


class Unplugged(ReadableStore):
    """Answers so many reads, and then none."""

    def __init__(self, base: ReadableStore, reads: int) -> None:
        self.base, self.left = base, reads
        self.size_bytes, self.sector_size = base.size_bytes, base.sector_size

    def read_into(self, offset: int, buffer: memoryview) -> None:
        self.left -= 1
        if self.left < 0:
            raise ReadFailed(offset, len(buffer), "no such device")
        self.base.read_into(offset, buffer)


class Transfers(RuleBasedStateMachine):
    def __init__(self) -> None:
        super().__init__()
        self.folder = Path(tempfile.mkdtemp(prefix="neogenesis-states-"))

    @initialize(
        full=st.booleans(), grow=st.sampled_from(["system", "none"]), intent=st.sampled_from(["replace", "exact"])
    )
    def begin(self, full: bool, grow: str, intent: str) -> None:
        self.old = self.folder / "old.img"
        shutil.copyfile(original(), self.old)
        self.before = data_hash(self.old)
        self.new = blank(self.folder / "new.img", 90)
        if full:
            make_drive(self.new, 90, [Part(30, LINUX, "")])
        self.first_table = table_state(self.new)
        self.plan: Plan = plan_for(survey(str(self.old)), str(self.new), None, Policy(grow=grow, intent=intent))
        self.files = RunFiles(self.folder / "plan.json")
        save(self.files.plan, self.plan)
        self.done = False

    def run_once(
        self,
        wrap: Callable[[FileStore], WritableStore],
        stop_at: int | None = None,
        unplug_after: int | None = None,
    ) -> None:
        source = open_sealed(str(self.old))
        base = FileStore(PathOpener(self.new))
        control = Control()
        heard = [0]

        def tell(event: Event) -> None:
            heard[0] += 1
            if stop_at is not None and heard[0] >= stop_at:
                control.stop("the test says so")

        try:
            surveyed = survey_drive(source.store, source.drive, open_tree)
            reading = source.store if unplug_after is None else Unplugged(source.store, unplug_after)
            ends = Ends(reading, lambda: (surveyed, source.drive), wrap(base), self.plan.target.drive)
            frame = Frame(control, BenchClock(), tell)
            Transfer(self.plan, ends, self.files, FilesystemTools(), frame).run(True)
            self.done = True
        except NeogenesisError:
            pass
        finally:
            source.close()
            base.close()

    @precondition(lambda self: not self.done)
    @rule(limit=st.integers(0, 40), seed=st.integers(0, 99))
    def lose_power(self, limit: int, seed: int) -> None:
        self.run_once(lambda base: CutStore(base, limit, random.Random(seed)))

    @precondition(lambda self: not self.done)
    @rule(at=st.integers(1, 25))
    def stop(self, at: int) -> None:
        self.run_once(lambda base: base, stop_at=at)

    @precondition(lambda self: not self.done)
    @rule(limit=st.integers(0, 30))
    def target_fails(self, limit: int) -> None:
        class Failing(CutStore):
            def _take(self, offset: int, data: bytes | int) -> None:
                self.count += 1
                if self.count > self.limit:
                    raise WriteFailed(offset, "no space left on the drive")
                self.waiting.append((offset, data))

        self.run_once(lambda base: Failing(base, limit, random.Random(0)))

    @precondition(lambda self: not self.done)
    @rule(reads=st.integers(0, 60))
    def unplug_the_old_drive(self, reads: int) -> None:
        """It stops answering: what cannot be read any more must not be taken for bad places."""
        self.run_once(lambda base: base, unplug_after=reads)

    @precondition(lambda self: not self.done)
    @rule(seconds=st.floats(0.3, 2.5))
    def kill(self, seconds: float) -> None:
        """The real program as a process, ended in the middle of whatever it does."""
        arguments = ["transfer", str(self.files.plan), "--confirm", "new", "--resume"]
        process = subprocess.Popen([sys.executable, "-m", "neogenesis", *arguments], stdout=subprocess.DEVNULL)
        try:
            self.done = process.wait(seconds) == 0
        except subprocess.TimeoutExpired:
            process.kill()
            process.wait()

    @precondition(lambda self: not self.done)
    @rule(tail=st.binary(min_size=1, max_size=60))
    def tear_the_last_line_of_the_journal(self, tail: bytes) -> None:
        if self.files.journal.exists():
            with self.files.journal.open("ab") as file:
                file.write(tail.replace(b"\n", b" "))

    @precondition(lambda self: not self.done)
    @rule()
    def finish(self) -> None:
        self.run_once(lambda base: base)
        assert self.done
        manifest = self.files.manifest.read_text()
        assert '"lost": []' in manifest.replace('"lost":[]', '"lost": []')

    @precondition(lambda self: self.done)
    @rule()
    def look_again(self) -> None:
        """Nothing is left to do; asking again changes nothing."""
        before = data_hash(self.new)
        self.run_once(lambda base: base)
        assert data_hash(self.new) == before

    @invariant()
    def what_is_recorded_is_there(self) -> None:
        if not hasattr(self, "files") or not self.files.journal.exists():
            return
        with self.files.journal.open("rb") as file:
            state, _ = read_state(file, "j")
        assert state.plan_hash in ("", hash_of(self.plan))
        store = FileStore(PathOpener(self.new))
        try:
            wrong = wrong_chunks(store, [c for c in state.chunks if c.digest != ZEROS])
            assert not wrong or state.begun, "a recorded chunk is not what was written"
        finally:
            store.close()

    @invariant()
    def the_old_drive_is_unchanged(self) -> None:
        if hasattr(self, "before"):
            assert data_hash(self.old) == self.before

    @invariant()
    def the_table_is_old_none_or_whole(self) -> None:
        if not hasattr(self, "plan"):
            return
        store = FileStore(PathOpener(self.new))
        try:
            table = read_table(store, 512)
            found = [(p.number, p.start_bytes, p.size_bytes) for p in table.partitions]
        finally:
            store.close()
        wanted = sorted(
            ((p.number, p.start_bytes, p.size_bytes) for p in self.plan.layout.partitions), key=lambda p: p[1]
        )
        assert table.kind == "none" or found == wanted or table_state(self.new) == self.first_table

    def teardown(self) -> None:
        shutil.rmtree(self.folder)


TestTransfers = Transfers.TestCase
TestTransfers.settings = settings(
    max_examples=40 if os.environ.get("NEOGENESIS_LONG") else 1,
    stateful_step_count=8,
    deadline=None,
    suppress_health_check=list(HealthCheck),
)

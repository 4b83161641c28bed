"""A cut at any moment leaves the old table, no table, or a whole new one that resume completes.

The new drive is a store that keeps everything written since its last sync in a list; a cut keeps what was synced and
any subset of the rest, in any order.
"""

from __future__ import annotations

import random
from collections.abc import Callable
from pathlib import Path

import pytest

from neogenesis.bench.drives import open_sealed
from neogenesis.bench.inside.surveying import survey
from neogenesis.bench.processes.clock import BenchClock
from neogenesis.bench.processes.reader import open_tree
from neogenesis.bench.works.planning import plan_for, target_of
from neogenesis.bench.works.tools import FilesystemTools
from neogenesis.core.errors import NeogenesisError, WriteFailed
from neogenesis.core.plan import Plan, Policy
from neogenesis.core.record import save
from neogenesis.core.store import FileStore, PathOpener, WritableStore
from neogenesis.core.survey import survey_drive
from neogenesis.core.table import read_table
from neogenesis.core.transfer import Ends, RunFiles, Transfer
from neogenesis.core.work import Control, Frame
from tests.drives import LINUX, MIB, STARTUP, Part, blank, check_volume, linux_files, make_drive, run, spans


class CutStore(WritableStore):
    """Takes `limit` writes and then loses power; what was not synced survives by chance."""

    makes_holes = True

    def __init__(self, base: FileStore, limit: int, rng: random.Random) -> None:
        self.base, self.limit, self._rng = base, limit, rng
        self.size_bytes, self.sector_size = base.size_bytes, base.sector_size
        self.count = 0
        self.waiting: list[tuple[int, bytes | int]] = []

    def read_into(self, offset: int, buffer: memoryview) -> None:
        self._settle(self.waiting)  # what was written is seen again, as through a drive's own cache
        self.base.read_into(offset, buffer)

    def _settle(self, writes: list[tuple[int, bytes | int]]) -> None:
        for offset, data in writes:
            if isinstance(data, int):
                self.base.write_zeros(offset, offset + data)
            else:
                self.base.write(offset, data)
        self.waiting = []

    def _take(self, offset: int, data: bytes | int) -> None:
        self.count += 1
        if self.count > self.limit:
            survivors = [w for w in self.waiting if self._rng.random() < 0.5]
            self._rng.shuffle(survivors)
            if isinstance(data, bytes) and self._rng.random() < 0.5:
                survivors.append((offset, data[: self._rng.randrange(len(data) + 1) // 512 * 512]))
            self._settle(survivors)
            self.limit = -1
            raise WriteFailed(offset, "the power went", gone=True)
        self.waiting.append((offset, data))

    def write(self, offset: int, data: memoryview | bytes) -> None:
        self._take(offset, bytes(data))

    def write_zeros(self, start: int, end: int) -> None:
        self._take(start, end - start)

    def _flush(self) -> None:
        self._settle(self.waiting)


def transfer(plan: Plan, files: RunFiles, wrap: Callable[[FileStore], WritableStore], resume: bool) -> None:
    source = open_sealed(plan.source.survey.drive.path)
    base = FileStore(PathOpener(Path(plan.target.drive.path)))
    try:
        ends = Ends(
            source.store,
            lambda: (survey_drive(source.store, source.drive, open_tree), source.drive),
            wrap(base),
            plan.target.drive,
        )
        frame = Frame(Control(), BenchClock(), lambda event: None)
        Transfer(plan, ends, files, FilesystemTools(), frame).run(resume)
    finally:
        source.close()
        base.close()


@pytest.fixture(scope="module")
def old(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return make_drive(
        tmp_path_factory.mktemp("cut") / "old.img",
        120,
        [
            Part(20, STARTUP, "fat16", "START", {"EFI/BOOT/BOOTX64.EFI": b"MZ" * 900}),
            Part(90, LINUX, "ext4", "root", linux_files()),
        ],
    )


def test_cut_at_every_write(old: Path, tmp_path: Path) -> None:
    """Each cut is followed by one resume that must end with a sound drive."""
    new = blank(tmp_path / "new.img", 200)
    make_drive(new, 200, [Part(100, LINUX, "ext4", "before")])
    plan = plan_for(survey(str(old)), str(new), None, Policy())
    pristine = tmp_path / "pristine.img"
    run("cp", "--sparse=always", new, pristine)
    counting = CutStore(FileStore(PathOpener(new)), 1 << 30, random.Random(0))
    files = RunFiles(tmp_path / "plan.json")
    save(files.plan, plan)
    counting.base.close()

    def counted(base: FileStore) -> CutStore:
        counting.base = base
        return counting

    transfer(plan, files, counted, False)
    expected = table_state(new)
    writes = counting.count
    assert writes > 8
    for limit in range(writes):
        run("cp", "--sparse=always", pristine, new)
        for file in tmp_path.glob("plan.*"):
            if file.is_file() and file.suffix != ".json":
                file.unlink()
        cut(plan, files, limit)
        state = table_state(new)
        assert state in (table_state(pristine), "none", expected), f"after a cut at write {limit}"
        transfer(plan, files, lambda base: base, True)
        assert table_state(new) == expected
    check_volume(new, *spans(new)[1], "ext4", tmp_path)


def cut(plan: Plan, files: RunFiles, limit: int) -> None:
    with pytest.raises(NeogenesisError):
        transfer(plan, files, lambda base: CutStore(base, limit, random.Random(limit)), False)


def table_state(image: Path) -> str:
    """The partitions that a machine would see, or none."""
    store = FileStore(PathOpener(image))
    try:
        table = read_table(store, 512)
        return (
            "none"
            if table.kind == "none"
            else repr([(p.number, p.start_bytes, p.size_bytes, p.unique_id) for p in table.partitions])
        )
    finally:
        store.close()


def test_target_of_says_what_is_lost(old: Path) -> None:
    holds = target_of(str(old), 512).holds
    assert any("root" in h and "used" in h for h in holds) and all("MiB" in h for h in holds)
    assert old.stat().st_size == 120 * MIB

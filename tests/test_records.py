"""Journals, manifests, plans and region maps: what a cut leaves, and what damage is told from it."""

from __future__ import annotations

import io
import itertools
import json
import subprocess
import sys
from pathlib import Path

import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st

from neogenesis.bench.processes.reader import open_tree
from neogenesis.core.drive import Identity
from neogenesis.core.errors import BadRecord, Mismatch
from neogenesis.core.extent import Extents
from neogenesis.core.plan import Plan
from neogenesis.core.record import from_json, load, save
from neogenesis.core.store import MemoryStore, read_or_narrow
from neogenesis.core.transfer import load_manifest, verify_against
from neogenesis.core.transfer.pipeline import data_runs
from neogenesis.core.transfer.readback import wrong_chunks
from neogenesis.core.transfer.regions import RegionMap, region_rows, save_regions
from neogenesis.core.work.chunks import ZEROS, Chunk, ChunkLog
from neogenesis.core.work.journal import Journal, belongs_to, read_state
from tests.drives import blank

HASH = "ab" * 32


def journal_of(path: Path) -> bytes:
    journal = Journal.start(path, HASH)
    for n in range(5):
        chunks = ChunkLog()
        chunks.extend([Chunk(n * 100, n * 100 + 50, bytes([n]) * 32), Chunk(n * 100 + 50, n * 100 + 60, ZEROS)])
        journal.add_chunks(chunks, [(n, n + 1)])
    journal.append([["step", "copy"]])
    journal.append([["verified", 300]])
    journal.close()
    return path.read_bytes()


@given(st.data())
def test_any_cut_of_a_journal_is_an_earlier_state(
    tmp_path_factory: pytest.TempPathFactory, data: st.DataObject
) -> None:
    raw = journal_of(tmp_path_factory.mktemp("j") / "p.journal")
    cut = data.draw(st.integers(0, len(raw)))
    state, size = read_state(io.BytesIO(raw[:cut]), "p.journal")
    assert size <= cut and raw[:size].count(b"\n") == raw[:size].split(b"\n").__len__() - 1
    whole, _ = read_state(io.BytesIO(raw), "p.journal")
    assert len(state.chunks) <= len(whole.chunks) and (not state.verified_bytes or "copy" in state.steps)
    assert list(state.chunks) == list(whole.chunks)[: len(state.chunks)], "a chunk counts only once it was synced"


@given(st.data())
def test_a_changed_byte_before_the_last_line_is_noticed(
    tmp_path_factory: pytest.TempPathFactory, data: st.DataObject
) -> None:
    raw = bytearray(journal_of(tmp_path_factory.mktemp("j") / "p.journal"))
    last = raw.rindex(b"\n", 0, len(raw) - 1)
    at = data.draw(st.integers(0, last - 1))
    flip = 1 << data.draw(st.integers(0, 7))
    raw[at] ^= flip
    same = chr(raw[at]).lower() == chr(raw[at] ^ flip).lower() and at - raw.rfind(b"\n", 0, at) <= 8
    try:
        read_state(io.BytesIO(bytes(raw)), "p.journal")
    except BadRecord as error:
        assert "damaged" in error.text
    else:
        assert same, "only the case of a checksum's letters may change unnoticed"


def test_journal_of_another_plan_is_refused(tmp_path: Path) -> None:
    path = tmp_path / "p.journal"
    journal_of(path)
    assert belongs_to(path, HASH) and not belongs_to(path, "cd" * 32) and not belongs_to(tmp_path / "none", HASH)
    with pytest.raises(BadRecord, match="another plan"):
        Journal.resume(path, "cd" * 32)


def test_forgotten_ranges_are_copied_again() -> None:
    log = ChunkLog()
    for n in range(10):
        log.add(Chunk(n * 10, n * 10 + 10, bytes([n]) * 32))
    log.forget([(25, 41)])
    assert log.covered == Extents.of([(0, 20), (50, 100)]) and log.total == 70 and len(log) == 7


@pytest.mark.parametrize(
    "text",
    [
        "",
        "{",
        "null",
        "[]",
        "{}",
        '{"schema": "neogenesis.plan/1"}',
        '{"schema": 3}',
        "\x00\xff",
        "[" * 100_000,
        '{"schema": "neogenesis.survey/1"}',
    ],
)
def test_anything_but_a_plan_is_refused_in_one_sentence(text: str, tmp_path: Path) -> None:
    path = tmp_path / "p.json"
    path.write_bytes(text.encode("latin-1"))
    with pytest.raises(BadRecord, match="nothing was written") as caught:
        load(path, Plan, "plan")
    assert "\n" not in caught.value.sentence() and len(caught.value.sentence()) < 600


def test_a_failed_save_leaves_the_old_file(tmp_path: Path) -> None:
    path = tmp_path / "r.json"
    save(path, {"old": True})
    with pytest.raises(BadRecord, match="written"):
        save(tmp_path / "no/such/folder/r.json", {"x": 1})
    with pytest.raises(TypeError):
        save(path, object())
    assert json.loads(path.read_text()) == {"old": True} and list(tmp_path.iterdir()) == [path]


def test_records_ignore_what_later_versions_add(tmp_path: Path) -> None:
    rows = region_rows(100, Extents.of([(0, 40)]), Extents.of([(30, 50)]))
    save_regions(tmp_path / "r.json", 100, rows, Identity(serial="a"), Identity(serial="b"))
    raw = json.loads((tmp_path / "r.json").read_text())
    assert raw["regions"] == [[0, 30, "read"], [30, 50, "lost"], [50, 100, "untried"]]
    raw["added_later"] = {"x": 1}
    again = from_json(msgspec.json.encode(raw), RegionMap, "map")
    assert again.size_bytes == 100


@given(
    st.lists(st.tuples(st.integers(0, 99), st.integers(0, 99))),
    st.lists(st.tuples(st.integers(0, 99), st.integers(0, 99))),
)
def test_region_maps_cover_the_drive_exactly_once(read: list, lost: list) -> None:
    regions = list(region_rows(90, Extents.of(read), Extents.of(lost)))
    assert regions[0][0] == 0 and regions[-1][1] == 90
    assert all(a[1] == b[0] and a[0] < a[1] for a, b in itertools.pairwise(regions))
    lost_bytes = {n for s, e in lost for n in range(s, min(e, 90))}
    assert {n for s, e, kind in regions if kind == "lost" for n in range(s, e)} == lost_bytes


def test_manifest_names_the_flipped_bit(tmp_path: Path, standard: Path, neogenesis) -> None:
    new, plan = blank(tmp_path / "new.img", 640), tmp_path / "p.json"
    neogenesis("plan", standard, new, "--grow", "none", "-o", plan)
    neogenesis("transfer", plan, "--confirm", "new")
    manifest = load_manifest(tmp_path / "p.manifest.json")
    store = MemoryStore(new.stat().st_size)
    store.data[:] = new.read_bytes()
    assert verify_against(manifest, store, open_tree) == manifest.chunks.total
    assert manifest.head.verified_bytes > 0
    chunk = next(c for c in manifest.chunks if c.digest != ZEROS and c.start > 60 << 20)
    store.data[chunk.start + 77] ^= 32
    assert wrong_chunks(store, [chunk]) == [chunk]
    with pytest.raises(Mismatch, match="partition 3"):
        verify_against(manifest, store, open_tree)
    for broken in ('"start":1', "[5,4,"):
        path = tmp_path / "broken.manifest.json"
        path.write_text((tmp_path / "p.manifest.json").read_text().replace("[1048576,", broken, 1))
        with pytest.raises(BadRecord):
            load_manifest(path)


@given(st.lists(st.sampled_from([0, 1]), min_size=1, max_size=40), st.integers(1, 65536))
def test_runs_of_data_hold_every_byte_that_is_not_zero(blocks: list[int], rest: int) -> None:
    data = bytearray((len(blocks) - 1) * 65536 + rest)
    for index, used in enumerate(blocks):
        if used:
            data[min(index * 65536 + rest - 1, len(data) - 1)] = 7
    covered = bytearray(len(data))
    for start, end in data_runs(memoryview(data)):
        covered[start:end] = b"\1" * (end - start)
    assert all(covered[i] for i in range(0, len(data)) if data[i]) and sum(covered) <= sum(blocks) * 65536


@given(st.lists(st.tuples(st.integers(0, 40), st.integers(1, 4)), max_size=5), st.integers(0, 3000))
def test_unreadable_places_are_narrowed_to_sectors(bad: list[tuple[int, int]], offset: int) -> None:
    """Every readable byte is got, every lost one is named, whatever pattern the faults make."""
    lost = Extents.of((s * 512, (s + n) * 512) for s, n in bad)

    class Faulty(MemoryStore):
        def read_into(self, at: int, buffer: memoryview) -> None:
            if lost.intersection(Extents.of([(at, at + len(buffer))])):
                from neogenesis.core.errors import ReadFailed

                raise ReadFailed(at, len(buffer), "Input/output error")
            super().read_into(at, buffer)

    store = Faulty(24_000)
    store.data[:] = bytes(1 + i % 200 for i in range(24_000))
    buffer = memoryview(bytearray(20_000))
    found = Extents.of(read_or_narrow(store, offset, buffer, 512))
    wanted = lost.clipped(offset, offset + 20_000)
    assert found == wanted
    for start, end in wanted.complement(offset + 20_000).clipped(offset, offset + 20_000):
        assert bytes(buffer[start - offset : end - offset]) == bytes(store.data[start:end])
    assert all(not any(buffer[s - offset : e - offset]) for s, e in wanted)


def test_many_threads_may_read_records_at_once(tmp_path: Path) -> None:
    """Eight threads learn the same types at the same moment, in fresh processes; this used to crash now and then."""
    code = (
        "import threading\nfrom neogenesis.core.record import from_json\nfrom neogenesis.core.plan import Plan\n"
        "from neogenesis.core.errors import BadRecord\nstart = threading.Barrier(8)\n"
        "def work():\n    start.wait()\n    try:\n        from_json(b'{}', Plan, 'plan')\n    except BadRecord:\n        pass\n"
        "threads = [threading.Thread(target=work) for _ in range(8)]\n[t.start() for t in threads]\n[t.join() for t in threads]\n"
    )
    for _ in range(10):
        subprocess.run([sys.executable, "-c", code], check=True, timeout=60)

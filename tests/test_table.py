"""Tables: what is written is read again, damage is noticed and never followed, and other people's tools agree."""

from __future__ import annotations

import itertools
import struct
import zlib
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from neogenesis.core.store import MemoryStore
from neogenesis.core.table import Partition, build_gpt, build_mbr, gpt_usable, read_table
from neogenesis.core.table.gpt import guid_bytes, guid_text
from tests.drives import LINUX, MIB, NT_DATA, Part, make_drive, run, spans, table_of

SIZE = 64 * MIB
guids = st.binary(min_size=16, max_size=16).filter(any).map(guid_text)
names = st.text(st.characters(exclude_categories=("Cs", "Cc")), max_size=18)


def written(store: MemoryStore, steps: object) -> MemoryStore:
    for step in steps:
        for offset, data in step.pieces:
            store.write(offset, data)
    return store


@st.composite
def layouts(draw: st.DrawFn) -> tuple[int, list[Partition]]:
    """Disjoint, aligned partitions on a 64 MiB drive, numbered in any order."""
    sector = draw(st.sampled_from([512, 4096]))
    start, end = gpt_usable(SIZE, sector)
    cuts = sorted(draw(st.sets(st.integers(-(-start // MIB), end // MIB), min_size=2, max_size=9)))
    numbers = draw(st.permutations(range(1, len(cuts))))
    return sector, [
        Partition(
            numbers[i], a * MIB, (b - a) * MIB, draw(guids), draw(guids), draw(names), draw(st.integers(0, 2**64 - 1))
        )
        for i, (a, b) in enumerate(itertools.pairwise(cuts))
    ]


@given(layouts(), guids, st.binary(max_size=440))
def test_gpt_is_read_as_it_was_written(layout: tuple[int, list[Partition]], disk: str, code: bytes) -> None:
    sector, partitions = layout
    store = written(MemoryStore(SIZE, sector), build_gpt(SIZE, sector, disk, partitions, boot_code=code))
    table = read_table(store, sector)
    assert table.kind == "gpt" and table.problems == () and table.disk_id == disk
    assert table.partitions == tuple(sorted(partitions, key=lambda p: p.start_bytes))
    assert table.boot_code.rstrip(b"\0") == code.rstrip(b"\0")


@given(layouts(), st.data())
@settings(suppress_health_check=[HealthCheck.too_slow])
def test_one_damaged_byte_is_noticed_and_the_other_copy_used(
    layout: tuple[int, list[Partition]], data: st.DataObject
) -> None:
    sector, partitions = layout
    disk = guid_text(bytes(range(16)))
    steps = build_gpt(SIZE, sector, disk, partitions)
    store = written(MemoryStore(SIZE, sector), steps)
    step = data.draw(st.sampled_from([s for s in steps if "sector" not in s.text]))
    offset, piece = step.pieces[0]
    used = 92 if "header" in step.text else 128 * 128
    at = offset + data.draw(st.integers(0, min(used, len(piece)) - 1))
    store.write(at, bytes([store.data[at] ^ (1 << data.draw(st.integers(0, 7)))]))
    table = read_table(store, sector)
    assert table.partitions == tuple(sorted(partitions, key=lambda p: p.start_bytes))
    assert [p.code for p in table.problems] == [
        "gpt-primary-damaged" if "primary" in step.text else "gpt-backup-damaged"
    ]


@given(st.binary(min_size=0, max_size=4096), st.sampled_from([512, 4096]), st.integers(0, 6))
def test_random_bytes_never_fail(noise: bytes, sector: int, place: int) -> None:
    store = MemoryStore(256 * 1024, sector)
    at = min(place * 512, store.size_bytes - len(noise))
    store.write(at, noise)
    store.write(510, b"\x55\xaa")
    table = read_table(store, sector)
    assert table.kind in ("gpt", "mbr", "none")


def test_absurd_counts_are_refused_quickly() -> None:
    store = written(MemoryStore(SIZE), build_gpt(SIZE, 512, guid_text(b"x" * 16), []))
    for count, size in ((0xFFFFFFFF, 128), (128, 0xFFFFFFF8), (0, 128), (128, 12)):
        raw = bytearray(store.read(512, 92))
        struct.pack_into("<II", raw, 80, count, size)
        struct.pack_into("<I", raw, 16, 0)
        struct.pack_into("<I", raw, 16, zlib.crc32(raw))
        broken = MemoryStore(SIZE)
        broken.data[:] = store.data
        broken.write(512, bytes(raw))
        assert "gpt-primary-damaged" in [p.code for p in read_table(broken, 512).problems]


def test_both_copies_gone_is_said() -> None:
    store = written(MemoryStore(SIZE), build_gpt(SIZE, 512, guid_text(b"x" * 16), []))
    store.write_zeros(512, 1024)
    store.write_zeros(SIZE - 512, SIZE)
    table = read_table(store, 512)
    assert table.kind == "none" and [p.code for p in table.problems] == ["gpt-both-damaged"]


def test_gpt_refuses_what_does_not_fit() -> None:
    def part(start: int, size: int) -> Partition:
        return Partition(1, start, size, NT_DATA, NT_DATA)

    for bad in (part(0, MIB), part(SIZE - MIB, MIB), part(MIB, 0), part(MIB + 7, MIB)):
        with pytest.raises(ValueError, match="partition 1"):
            build_gpt(SIZE, 512, NT_DATA, [bad])
    with pytest.raises(ValueError, match="fit"):
        build_gpt(SIZE, 512, NT_DATA, [part(MIB, 2 * MIB), Partition(2, 2 * MIB, MIB, NT_DATA, NT_DATA)])


@pytest.mark.parametrize("sector", [512])
def test_sfdisk_agrees_with_our_gpt(sector: int, tmp_path: Path) -> None:
    partitions = [
        Partition(3, MIB, 5 * MIB, NT_DATA, NT_DATA, "Größe 鷗", 1 << 60),
        Partition(1, 8 * MIB, 3 * MIB, LINUX, LINUX),
    ]
    store = written(MemoryStore(SIZE, sector), build_gpt(SIZE, sector, guid_text(bytes(range(16))), partitions))
    image = tmp_path / "t.img"
    image.write_bytes(store.data)
    assert "No errors" in run("sfdisk", "--verify", image)
    found = {p["node"].removeprefix(str(image)): p for p in table_of(image)["partitions"]}
    assert found["3"]["start"] * 512 == MIB and found["3"]["name"] == "Größe 鷗" and found["3"]["type"] == NT_DATA
    assert found["1"]["size"] * 512 == 3 * MIB


def test_mbr_with_logical_partitions_round_trip_and_judge(tmp_path: Path) -> None:
    partitions = [
        Partition(1, MIB, 4 * MIB, "0x07", bootable=True),
        Partition(5, 8 * MIB, 5 * MIB, "0x83", logical=True),
        Partition(6, 14 * MIB, 6 * MIB, "0x07", logical=True),
    ]
    store = written(MemoryStore(SIZE), build_mbr(SIZE, 512, "0x1234abcd", partitions, b"\xfa\x33\xc0"))
    table = read_table(store, 512)
    assert table.kind == "mbr" and table.problems == () and table.disk_id == "0x1234abcd"
    shape = [(p.number, p.start_bytes, p.size_bytes, p.type_id, p.logical, p.bootable) for p in table.partitions]
    assert shape == [(p.number, p.start_bytes, p.size_bytes, p.type_id, p.logical, p.bootable) for p in partitions]
    image = tmp_path / "t.img"
    image.write_bytes(store.data)
    assert "No errors" in run("sfdisk", "--verify", image)
    assert [s for s in spans(image) if s[1] > 0][-1] == (14 * MIB, 6 * MIB)


def test_loop_and_lie_in_the_chain_of_logical_partitions(tmp_path: Path) -> None:
    image = make_drive(
        tmp_path / "t.img",
        64,
        [
            Part(10, "83", "", number=1),
            Part(40, "05", "", number=2),
            Part(10, "83", "", number=5),
            Part(10, "83", "", number=6),
        ],
        table="mbr",
    )
    store = MemoryStore(image.stat().st_size)
    store.data[:] = image.read_bytes()
    table = read_table(store, 512)
    assert [p.number for p in table.partitions] == [1, 5, 6]
    base = next(e["start"] for e in table_of(image)["partitions"] if e["type"] == "5") * 512
    struct.pack_into("<II", store.data, base + 446 + 16 + 8, 0, 1000)  # the first record points at itself
    looped = read_table(store, 512)
    assert any(p.code.startswith("mbr-logical") for p in looped.problems) and len(looped.partitions) <= 3
    struct.pack_into("<II", store.data, base + 446 + 16 + 8, 0x7FFFFFF0, 1000)  # and now far beyond the end
    assert any(p.code.startswith("mbr-logical") for p in read_table(store, 512).problems)


def test_hybrid_and_missing_protective_sector() -> None:
    store = written(MemoryStore(SIZE), build_gpt(SIZE, 512, guid_text(b"y" * 16), []))
    store.write(446 + 16, struct.pack("<B3sB3sII", 0x80, b"\0" * 3, 0x07, b"\0" * 3, 2048, 2048))
    assert "gpt-hybrid" in [p.code for p in read_table(store, 512).problems]
    store.write_zeros(0, 512)
    assert "gpt-protective-missing" in [p.code for p in read_table(store, 512).problems]


@given(st.binary(min_size=16, max_size=16))
def test_guids(raw: bytes) -> None:
    assert guid_bytes(guid_text(raw)) == raw

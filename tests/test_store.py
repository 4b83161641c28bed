"""What every store promises, asked of all of them; and stores that fail."""

from __future__ import annotations

import errno
import json
import os
from collections.abc import Iterator
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from neogenesis.bench.simulated import SimulatedTarget
from neogenesis.core.errors import BadArgument, BadRecord, ReadFailed, Refused, WriteFailed
from neogenesis.core.store import (
    FileStore,
    MemoryStore,
    OverlayStore,
    PathOpener,
    PieceStore,
    SealedFileStore,
    WritableRangeView,
    WritableStore,
)
from tests.drives import blank, run, simulated

SIZE = 3 << 20


@pytest.fixture(params=["memory", "file", "simulated", "view", "overlay", "loop512", "loop4096"])
def store(request: pytest.FixtureRequest, tmp_path: Path) -> Iterator[WritableStore]:
    image = blank(tmp_path / "s.img", 3)
    kind = request.param
    if kind.startswith("loop"):
        device = run("losetup", "--find", "--show", "--sector-size", kind[4:], image).strip()
        try:
            made = FileStore(PathOpener(Path(device)))
            assert made.sector_size == int(kind[4:]) and made.is_block_device
            yield made
            made.close()
        finally:
            run("losetup", "--detach", device)
        return
    opened: WritableStore
    if kind == "memory":
        opened = MemoryStore(SIZE)
    elif kind == "file":
        opened = FileStore(PathOpener(image))
    elif kind == "simulated":
        opened = SimulatedTarget(simulated(tmp_path / "s.drive.json", "s.img"))
    elif kind == "view":
        opened = WritableRangeView(MemoryStore(SIZE + 100), 50, SIZE)
    else:
        opened = OverlayStore(MemoryStore(SIZE), tmp_path / "overlay", SIZE)
    yield opened
    opened.close()


def test_conformance(store: WritableStore) -> None:
    assert store.size_bytes == SIZE
    assert not any(store.read(0, SIZE))
    pieces = [(0, b"first"), (4090, b"across a block" * 3), (SIZE - 4, b"last"), (1 << 20, os.urandom(70_000))]
    for offset, data in pieces:
        store.write(offset, data)
    store.sync()
    for offset, data in pieces:
        assert store.read(offset, len(data)) == data
    data = store.extents_with_data()
    for offset, piece in pieces:
        assert data.contains(offset, offset + len(piece))
    store.write_zeros(1 << 20, (1 << 20) + 65_536)
    assert not any(store.read(1 << 20, 65_536))
    assert store.read((1 << 20) + 65_536, 4464) == pieces[3][1][65_536:]
    assert store.read(0, 0) == b""
    for offset, length in ((SIZE, 1), (SIZE - 1, 2), (-1, 1), (0, SIZE + 1)):
        with pytest.raises(ReadFailed):
            store.read(offset, length)


def test_sealed_stores_cannot_write(tmp_path: Path) -> None:
    sealed = SealedFileStore(PathOpener(blank(tmp_path / "s.img", 1)))
    assert not any(hasattr(sealed, name) for name in ("write", "write_zeros", "sync"))
    with pytest.raises(OSError) as caught:
        os.pwrite(sealed._file.descriptor, b"x", 0)
    assert caught.value.errno == errno.EBADF
    sealed.close()


def test_a_reader_and_a_writer_exclude_each_other(tmp_path: Path) -> None:
    image = blank(tmp_path / "s.img", 1)
    first = SealedFileStore(PathOpener(image))
    SealedFileStore(PathOpener(image)).close()
    with pytest.raises(Refused, match="in use"):
        FileStore(PathOpener(image))
    first.close()
    writer = FileStore(PathOpener(image))
    with pytest.raises(Refused, match="in use"):
        SealedFileStore(PathOpener(image))
    SealedFileStore(PathOpener(image), grip="look").close()
    writer.close()


@pytest.mark.parametrize("what", ["missing", "folder", "pipe", "device"])
def test_what_is_no_drive_is_refused_in_words(what: str, tmp_path: Path) -> None:
    path = tmp_path / what
    if what == "folder":
        path.mkdir()
    elif what == "pipe":
        os.mkfifo(path)
    elif what == "device":
        path = Path("/dev/zero")
    with pytest.raises(BadArgument, match="drive"):
        SealedFileStore(PathOpener(path))


def test_mounted_device_is_refused(tmp_path: Path) -> None:
    image = blank(tmp_path / "s.img", 8)
    run("mke2fs", "-q", "-F", image)
    device = run("losetup", "--find", "--show", image).strip()
    point = tmp_path / "m"
    point.mkdir()
    try:
        run("mount", device, point)
        with pytest.raises(Refused, match="mounted"):
            FileStore(PathOpener(Path(device)))
        run("umount", point)
    finally:
        run("losetup", "--detach", device)


@given(
    st.lists(st.tuples(st.integers(0, 299_000), st.binary(min_size=1, max_size=900)), max_size=12),
    st.integers(0, 299_000),
    st.integers(0, 900),
)
def test_overlay_is_a_changed_copy(
    tmp_path_factory: pytest.TempPathFactory, writes: list[tuple[int, bytes]], at: int, length: int
) -> None:
    base = MemoryStore(200_000)
    base.data[:] = bytes(range(250)) * 800
    path = tmp_path_factory.mktemp("o") / "overlay"
    overlay = OverlayStore(base, path, 300_000)
    expected = bytearray(base.data) + bytes(100_000)
    for offset, data in writes:
        overlay.write(offset, data)
        expected[offset : offset + len(data)] = data
    assert overlay.read(at, length) == bytes(expected[at : at + length])
    assert bytes(base.data) == bytes(range(250)) * 800, "the base is never touched"
    overlay.keep()
    overlay.close()
    again = OverlayStore(base, path, 300_000)
    assert again.read(0, 300_000) == bytes(expected)
    again.close()
    with pytest.raises(BadRecord):
        OverlayStore(base, path, 900_000)


def test_pieces_and_their_holes() -> None:
    base = MemoryStore(1000)
    base.data[:] = bytes(i % 251 for i in range(1000))
    store = PieceStore(base, 500, [(100, 50, 900), (300, 100, 0)])
    expected = bytearray(500)
    expected[100:150] = base.data[900:950]
    expected[300:400] = base.data[:100]
    assert store.read(0, 500) == bytes(expected)
    assert store.read(120, 250) == bytes(expected[120:370])


def test_simulated_drive_fails_as_hardware_would(tmp_path: Path) -> None:
    (tmp_path / "s.img").write_bytes(bytes(range(256)) * 4096)
    spec = {"unreadable": [[5000, 6000]], "flaky": [[20_000, 21_000, 1.0]], "dies_after_bytes": 200_000}
    drive = SimulatedTarget(simulated(tmp_path / "s.drive.json", "s.img", read=spec, write={"fails_after_bytes": 1000}))
    assert drive.read(0, 5000) == (bytes(range(256)) * 20)[:5000]
    for offset, length in ((4999, 2), (5500, 10), (20_500, 1)):
        with pytest.raises(ReadFailed):
            drive.read(offset, length)
    drive.write(0, bytes(900))
    with pytest.raises(WriteFailed) as caught:
        drive.write(0, bytes(900))
    assert caught.value.gone
    with pytest.raises(ReadFailed, match="answers"):
        drive.read(30_000, 250_000)
    drive.close()


@pytest.mark.parametrize(
    "text",
    [
        "",
        "{}",
        "[1]",
        '{"schema": "neogenesis.simulated-drive/9", "image": "x"}',
        '{"schema": "neogenesis.simulated-drive/1", "image": 7}',
        '{"schema": "neogenesis.simulated-drive/1", "image": "x", "sector_size": 513}',
    ],
)
def test_bad_descriptions_of_drives_are_sentences(text: str, tmp_path: Path) -> None:
    path = tmp_path / "s.drive.json"
    path.write_text(text)
    with pytest.raises(BadArgument, match="simulated drive"):
        SimulatedTarget(path)
    assert json.dumps(text)

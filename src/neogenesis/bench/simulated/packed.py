"""Sparse images in a small file: only ranges that hold data, compressed.

The file is one zstd stream: a line of JSON with the size and the ranges, then their bytes in order.
"""

from __future__ import annotations

import io
from pathlib import Path
from typing import ClassVar

import msgspec
import zstandard

from neogenesis.core.errors import BadRecord
from neogenesis.core.extent import Extents
from neogenesis.core.record import Record, from_json
from neogenesis.core.store import PathOpener, SealedFileStore
from neogenesis.core.transfer.pipeline import data_runs
from neogenesis.core.units import MIB


class _Head(Record, frozen=True, kw_only=True):
    SCHEMA: ClassVar[str] = "neogenesis.packed-image/1"

    schema: str = SCHEMA
    size_bytes: int
    ranges: tuple[tuple[int, int], ...]


def pack(image: Path, packed: Path) -> None:
    """Write `packed` from a sparse image; ranges of zeros are left out."""
    store = SealedFileStore(PathOpener(image))
    found = []
    for start, end in store.extents_with_data().chunks(MIB):
        data = memoryview(bytearray(store.read(start, end - start)))
        found += [(start + a, start + b) for a, b in data_runs(data)]
    ranges = Extents.of(found)
    with packed.open("wb") as raw, zstandard.ZstdCompressor(level=19).stream_writer(raw) as out:
        out.write(msgspec.json.encode(_Head(size_bytes=store.size_bytes, ranges=tuple(ranges))) + b"\n")
        for start, end in ranges.chunks(MIB):
            out.write(store.read(start, end - start))
    store.close()


def unpack(packed: bytes, image: Path) -> None:
    """Make the sparse image again; raises BadRecord for damaged data."""
    try:
        stream = io.BufferedReader(zstandard.ZstdDecompressor().stream_reader(io.BytesIO(packed)))
        head = from_json(stream.readline(), _Head, "packed image")
        with image.open("wb") as file:
            file.truncate(head.size_bytes)
            for start, end in head.ranges:
                file.seek(start)
                while start < end:
                    piece = stream.read(min(MIB, end - start))
                    if not piece:
                        raise BadRecord("The packed image is cut short.", "Install the program again.")
                    file.write(piece)
                    start += len(piece)
    except zstandard.ZstdError as error:
        raise BadRecord("The packed image is damaged.", "Install the program again.") from error

"""The manifest: what was written where, with a checksum for each chunk, and checking a drive against it."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from pathlib import Path
from typing import Any, ClassVar

import msgspec
from blake3 import blake3

from neogenesis.core.errors import BadRecord, Mismatch, ReadFailed
from neogenesis.core.extent import Extents
from neogenesis.core.filesystem.names import files_touching
from neogenesis.core.plan import Layout
from neogenesis.core.record import Record, load, save_bytes
from neogenesis.core.store import ReadableStore
from neogenesis.core.survey import Drive, Survey
from neogenesis.core.transfer.chunks import ZEROS, Chunk
from neogenesis.core.transfer.pipeline import data_runs
from neogenesis.core.units import MIB

_PIECE = 8 * MIB
#: A chunk may hold hundreds of small files, and any of them may be the one.
_MOST_NAMES = 200


class Manifest(Record, frozen=True, kw_only=True):
    """`chunks` are [start, end, digest] in bytes of the new drive; the digest `zeros` means all zero.

    `survey` is that of an imaged drive. `verified_bytes` were read back and compared before the table was written.
    `lost` are ranges of the old drive that could not be read and stand as zeros on the new one.
    """

    SCHEMA: ClassVar[str] = "neogenesis.manifest/1"

    schema: str = SCHEMA
    program: str
    created: str
    source: Drive
    target: Drive
    plan_hash: str
    size_bytes: int
    layout: Layout
    verified_bytes: int
    lost: tuple[tuple[int, int], ...]
    chunks: list[tuple[int, int, str]]
    survey: Survey | None = None

    def each_chunk(self) -> Iterator[Chunk]:
        for start, end, digest in self.chunks:
            yield Chunk(start, end, ZEROS if digest == "zeros" else bytes.fromhex(digest))


def save_manifest(path: Path, head: dict[str, Any], chunks: Iterable[Chunk]) -> str:
    """Write the manifest with one chunk a line, sorted by place; returns the file's own BLAKE3."""
    encoder = msgspec.json.Encoder()
    fields = [f"{encoder.encode(k).decode()}: {encoder.encode(v).decode()}" for k, v in head.items()]
    rows = [f'[{c.start}, {c.end}, "{"zeros" if c.digest == ZEROS else c.digest.hex()}"]' for c in sorted(chunks)]
    text = "{\n" + ",\n".join(fields) + ',\n"chunks": [\n' + ",\n".join(rows) + "\n]\n}\n"
    data = text.encode()
    save_bytes(path, data)
    return blake3(data).hexdigest()


def load_manifest(path: Path) -> Manifest:
    """Raises BadRecord for anything that is no manifest of ours."""
    manifest = load(path, Manifest, "manifest")
    for start, end, digest in manifest.chunks:
        well_formed = digest == "zeros" or (len(digest) == 64 and set(digest) <= set("0123456789abcdef"))
        if not 0 <= start < end <= manifest.size_bytes or not well_formed:
            raise BadRecord(f"The manifest “{path.name}” names an impossible chunk at byte {start}.", "Restore a copy.")
    return manifest


def missed_share(checked: int, doubt: float = 0.01) -> float:
    """The largest share of wrong chunks that a sample of `checked` chunks, taken by chance, misses that often.

    The sample finds nothing with probability (1 - share)^checked; solved for the share.
    """
    return 1.0 if checked <= 0 else float(1 - doubt ** (1 / checked))


def chunk_matches(store: ReadableStore, chunk: Chunk, buffer: memoryview) -> bool:
    """Whether the drive holds what the chunk says; `buffer` bounds the memory used."""
    digest = blake3()
    at = chunk.start
    while at < chunk.end:
        piece = buffer[: min(len(buffer), chunk.end - at)]
        store.read_into(at, piece)
        if chunk.digest == ZEROS:
            if data_runs(piece):
                return False
        else:
            digest.update(piece)
        at += len(piece)
    return chunk.digest == ZEROS or digest.digest() == chunk.digest


def where(layout: Layout, start: int) -> str:
    """In words, what stands at a byte of the new drive."""
    for partition in layout.partitions:
        if partition.start_bytes <= start < partition.end_bytes:
            return f"partition {partition.number} ({partition.title})"
    return "the table area"


def verify_against(
    manifest: Manifest, store: ReadableStore, progress: Callable[[int], None] = lambda done: None
) -> int:
    """Read every chunk back; returns the bytes compared. Raises Mismatch that names the first wrong place."""
    if store.size_bytes < manifest.size_bytes:
        raise Mismatch("The drive is smaller than what was recorded.", "It is another drive; connect the right one.")
    buffer = memoryview(bytearray(_PIECE))
    done = 0
    wrong: list[Chunk] = []
    for chunk in manifest.each_chunk():
        try:
            matches = chunk_matches(store, chunk, buffer)
        except ReadFailed:
            matches = False
        if not matches:
            wrong.append(chunk)
        done += chunk.end - chunk.start
        progress(done)
    if wrong:
        raise mismatch(wrong, manifest.layout, store)
    return done


def mismatch(wrong: list[Chunk], layout: Layout, store: ReadableStore | None = None) -> Mismatch:
    """What differs, by chunk and partition, and where the volume can still be listed, by file."""
    first = wrong[0]
    more = f" and {len(wrong) - 1} more" if len(wrong) > 1 else ""
    named = ""
    if store is not None:
        volumes = [(p.number, p.start_bytes, p.size_bytes) for p in layout.partitions]
        ranges = Extents.of((c.start, c.end) for c in wrong)
        files = [f"{t.path} (partition {t.partition})" for t in files_touching(store, volumes, ranges, _MOST_NAMES)]
        if files:
            named = f" Files there: {', '.join(files)}{' and more' if len(files) == _MOST_NAMES else ''}."
    return Mismatch(
        f"Bytes {first.start} to {first.end} in {where(layout, first.start)}{more} are not what was written.{named}",
        "Do not hand the drive over. Check cable and dock, then transfer again.",
    )

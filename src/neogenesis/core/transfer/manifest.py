"""The manifest: what was written where, with a checksum for each chunk, and checking a drive against it."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import IO, Any, ClassVar

import msgspec
from blake3 import blake3

from neogenesis.core.drive import Drive
from neogenesis.core.errors import BadRecord, Mismatch
from neogenesis.core.plan import Layout
from neogenesis.core.record import Record, from_json, in_rows, load, owner_of, refuse_strange, save_pieces
from neogenesis.core.store import ReadableStore
from neogenesis.core.survey import Survey
from neogenesis.core.system import Trees
from neogenesis.core.transfer.readback import mismatch, wrong_chunks
from neogenesis.core.work.chunks import ZEROS, Chunk, ChunkLog

_MOST_FIELDS, _LONGEST_FIELD, _LONGEST_ROW = 64, 16 << 20, 256
_HEXADECIMAL = frozenset("0123456789abcdef")


class ManifestHead(Record, frozen=True, kw_only=True):
    """Everything but the chunks. `survey` is that of an imaged drive.

    `verified_bytes` were read back and compared before the table was written. `lost` are ranges of the old drive that
    could not be read and stand as zeros on the new one.
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
    survey: Survey | None = None


class _Whole(ManifestHead, frozen=True, kw_only=True):
    """A manifest that someone has formatted anew; then it is read at once. The digest `zeros` means all zero."""

    chunks: list[tuple[int, int, str]]


@dataclass(frozen=True, slots=True)
class Manifest:
    """What was written, and the checksum of each chunk of it, in places of the new drive."""

    head: ManifestHead
    chunks: ChunkLog


def save_manifest(path: Path, head: dict[str, Any], chunks: Iterable[Chunk]) -> str:
    """Write the manifest with one chunk a line; `chunks` come by place. Returns the file's own BLAKE3.

    Row by row, so that memory does not grow with the drive. Raises BadRecord.
    """
    encoder, digest = msgspec.json.Encoder(), blake3()
    owner = owner_of(path.parent)
    head = {"ticket": owner, **head} if owner else head
    fields = [f"{encoder.encode(k).decode()}: {encoder.encode(v).decode()}" for k, v in head.items()]

    def pieces() -> Iterator[bytes]:
        yield ("{\n" + ",\n".join(fields) + ',\n"chunks": [').encode()
        yield from in_rows((s, e, "zeros" if digest == ZEROS else digest.hex()) for s, e, digest in chunks)
        yield b"\n]\n}\n"

    def hashed() -> Iterator[bytes]:
        for piece in pieces():
            digest.update(piece)
            yield piece

    save_pieces(path, hashed())
    return digest.hexdigest()


def load_manifest_head(path: Path) -> ManifestHead:
    """Everything but the chunks, at the cost of that; raises BadRecord for anything that is no manifest of ours."""
    what = f"manifest “{path.name}”"
    try:
        with path.open("rb") as file:
            text = _head_of(file)
    except OSError as error:
        raise BadRecord(f"The manifest “{path}” cannot be read ({error.strerror}).", "Check the name.") from error
    if text is None:
        return load_manifest(path).head
    head = from_json(text, ManifestHead, what)
    _check_head(head, what)
    return head


def load_manifest(path: Path) -> Manifest:
    """The whole of it, read row by row and validated; raises BadRecord for anything that is no manifest of ours."""
    what, chunks = f"manifest “{path.name}”", ChunkLog()
    try:
        with path.open("rb") as file:
            text = _head_of(file)
            if text is None:
                whole = load(path, _Whole, "manifest")
                head: ManifestHead = whole
                rows: Iterator[tuple[int, int, str]] = iter(whole.chunks)
            else:
                head, rows = from_json(text, ManifestHead, what), _rows_of(file)
                refuse_strange(path, text, "manifest")
            for row in rows:
                _add(chunks, row, head.size_bytes, what)
    except OSError as error:
        raise BadRecord(
            f"The manifest “{path}” cannot be read ({error.strerror}); nothing was written.", "Check the name."
        ) from error
    except msgspec.MsgspecError as error:
        raise BadRecord(f"The {what} is damaged ({error}).", "Restore a copy.") from error
    _check_head(head, what)
    return Manifest(head, chunks)


def _head_of(file: IO[bytes]) -> bytes | None:
    """JSON of what stands before the rows; None for a file that is not written as ours are."""
    lines = list[bytes]()
    while len(lines) < _MOST_FIELDS and (line := file.readline(_LONGEST_FIELD)):
        if line == b'"chunks": [\n':
            return b"".join(lines).rstrip().rstrip(b",") + b"}"
        lines.append(line)
    return None


def _rows_of(file: IO[bytes]) -> Iterator[tuple[int, int, str]]:
    """Row by row; raises a MsgspecError for a row that is none, and when the end is missing."""
    decoder = msgspec.json.Decoder(tuple[int, int, str])
    while line := file.readline(_LONGEST_ROW):
        if line == b"]\n":
            return
        if line.strip():
            yield decoder.decode(line.rstrip().rstrip(b","))
    raise msgspec.DecodeError("it is cut short")


def _add(chunks: ChunkLog, row: tuple[int, int, str], size_bytes: int, what: str) -> None:
    start, end, digest = row
    well_formed = digest == "zeros" or (len(digest) == 64 and set(digest) <= _HEXADECIMAL)
    if not 0 <= start < end <= size_bytes or not well_formed:
        raise BadRecord(f"The {what} names an impossible chunk at byte {start}.", "Restore a copy.")
    chunks.add(Chunk(start, end, ZEROS if digest == "zeros" else bytes.fromhex(digest)))


def _check_head(head: ManifestHead, what: str) -> None:
    inside = all(p.start_bytes >= 0 and 0 <= p.size_bytes <= 1 << 60 for p in head.layout.partitions)
    ranges = all(0 <= start < end <= head.source.size_bytes for start, end in head.lost)
    sector = 512 <= head.target.sector_size <= 4096 and not head.target.sector_size & (head.target.sector_size - 1)
    if not (0 <= head.size_bytes <= 1 << 60 and head.verified_bytes >= 0 and inside and ranges and sector):
        raise BadRecord(f"The {what} has impossible figures.", "Restore a copy.")


def missed_share(checked: int, doubt: float = 0.01) -> float:
    """The largest share of wrong chunks that a sample of `checked` chunks, taken by chance, misses that often.

    The sample finds nothing with probability (1 - share)^checked; solved for the share.
    """
    return 1.0 if checked <= 0 else float(1 - doubt ** (1 / checked))


def verify_against(
    manifest: Manifest, store: ReadableStore, trees: Trees, progress: Callable[[int], None] = lambda done: None
) -> int:
    """Read every chunk back; returns the bytes compared. Raises Mismatch that names the first wrong place."""
    if store.size_bytes < manifest.head.size_bytes:
        raise Mismatch("The drive is smaller than what was recorded.", "It is another drive; connect the right one.")
    done = 0

    def told(some: Sequence[Chunk]) -> None:
        nonlocal done
        done += sum(end - start for start, end, _ in some)
        progress(done)

    wrong = wrong_chunks(store.uncached(), manifest.chunks, told)
    if wrong:
        raise mismatch(wrong, manifest.head.layout, 0, (store, trees))
    return done

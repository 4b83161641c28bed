"""Making an image of a drive: what is in use, compressed, with a checksum for each cluster."""

from __future__ import annotations

import mmap
import os
import threading
from collections.abc import Callable, Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass, field, replace
from pathlib import Path

import numpy as np
import zstandard
from blake3 import blake3

from neogenesis import __version__
from neogenesis.core.drive import Drive
from neogenesis.core.errors import BadRecord, CannotRecord, Mismatch, NeogenesisError
from neogenesis.core.extent import Extents
from neogenesis.core.image.readback import read_back
from neogenesis.core.image.write import CLUSTER_BITS, CLUSTER_BYTES, Qcow2Writer
from neogenesis.core.judgement import judgement
from neogenesis.core.plan.intents import layout_as_it_is
from neogenesis.core.store import LostStore, Patience, PutOff, ReadableStore, read_or_narrow
from neogenesis.core.store.parts import existing_parts, part_path
from neogenesis.core.survey import Survey, Surveyed
from neogenesis.core.transfer.ends import Verify
from neogenesis.core.transfer.manifest import save_manifest
from neogenesis.core.transfer.pipeline import holds_data, run_together
from neogenesis.core.transfer.same import Copied, changed_since, understood_of
from neogenesis.core.units import MIB
from neogenesis.core.work.chunks import ZEROS, Chunk
from neogenesis.core.work.control import Clock, Control
from neogenesis.core.work.journal import Journal, JournalLimits, JournalState, Leg, StoredChunk

_THREADS = min(8, os.cpu_count() or 1)
#: Read, hashed and journalled together.
BATCH_BYTES = 4 * CLUSTER_BYTES
_CHECKPOINT_SECONDS = 2.0
#: So often what came back wrong is copied, the first time counted.
_TRIES = 2
#: Gaps between partitions up to this size are kept whole; of larger ones only their edges, where records stand.
_WHOLE_GAP_BYTES = 16 * MIB


@dataclass(frozen=True, slots=True)
class ImageFiles:
    """The files of an image, all beside it."""

    image: Path

    @property
    def manifest(self) -> Path:
        return self.image.with_name(f"{self.image.name}.manifest.json")

    @property
    def journal(self) -> Path:
        return self.image.with_name(f"{self.image.name}.journal")


@dataclass(frozen=True, slots=True)
class Imaged:
    """How it ended: bytes in use that were read, bytes of the file, what could not be read, what was read back.

    `seconds` are those of all legs, without the pauses.
    """

    read_bytes: int
    file_bytes: int
    lost: tuple[tuple[int, int], ...]
    verified_bytes: int = 0
    seconds: float = 0.0
    paused_seconds: float = 0.0


def ranges_in_use(surveyed: Surveyed) -> Extents:
    """All of a drive that matters: tables, loaders, and what the volumes' own maps say is used."""
    survey = surveyed.survey
    size = survey.drive.size_bytes
    if not survey.partitions:
        return Extents.whole(size)
    gap = judgement().copy_gap_bytes
    parts = []
    inside = []
    for partition in survey.partitions:
        allocation = surveyed.allocations.get(partition.number)
        end = min(partition.end_bytes, size)
        inside.append((partition.start_bytes, end))
        if allocation is None:
            parts.append(np.array([(partition.start_bytes, end)], dtype=np.int64))
        else:
            parts.append(allocation.joined(gap).shifted(partition.start_bytes).clipped(0, end).array)
    for start, end in Extents.of(inside).complement(size):
        if end - start <= _WHOLE_GAP_BYTES:
            parts.append(np.array([(start, end)], dtype=np.int64))
        else:
            parts.append(np.array([(start, start + MIB), (end - MIB, end)], dtype=np.int64))
    return Extents.merged(np.concatenate(parts))


class UsedStore(ReadableStore):
    """A drive as its image shows it: what is outside `used` reads as zeros, whatever stands there."""

    def __init__(self, base: ReadableStore, used: Extents) -> None:
        self.base, self.used = base, used
        self.size_bytes, self.sector_size = base.size_bytes, base.sector_size

    def read_into(self, offset: int, buffer: memoryview) -> None:
        end = offset + len(buffer)
        inside = self.used.clipped(offset, end)
        if inside.total != len(buffer):
            np.frombuffer(buffer, dtype=np.uint8).fill(0)
        for start, stop in inside:
            self.base.read_into(start, buffer[start - offset : stop - offset])

    def known_lost(self, start: int, end: int) -> Extents:
        return self.base.known_lost(start, end).intersection(self.used)

    def uncached(self) -> ReadableStore:
        return UsedStore(self.base.uncached(), self.used)


#: A range of the drive, and the store to read it from: one that knows what is lost already of a bad stretch.
_Piece = tuple[int, int, ReadableStore]


@dataclass
class _Work:
    """What the threads share, each part under its lock."""

    reading: threading.Lock = field(default_factory=threading.Lock)
    writing: threading.Lock = field(default_factory=threading.Lock)
    waiting: list[StoredChunk] = field(default_factory=list)
    lost: list[tuple[int, int]] = field(default_factory=list)
    later: list[_Piece] = field(default_factory=list)
    done_bytes: int = 0


class ImageRun:
    """One image from its first cluster to its header."""

    def __init__(
        self,
        look: Callable[[], Surveyed],
        store: ReadableStore,
        out: Path,
        level: int,
        control: Control,
        clock: Clock,
        progress: Callable[[str, int, int], None] = lambda phase, done, total: None,
        part_bytes: int | None = None,
        verify: Verify = "full",
        check_all: bool = False,
    ) -> None:
        """`verify` is how much is read back at the end; `check_all` has an interrupted image read back whole, first."""
        self.part_bytes, self.verify, self._check_all = part_bytes, verify, check_all
        self._look, self.surveyed = look, look()
        self.store, self.files, self.level = store, ImageFiles(out), level
        self.control, self.clock, self.progress = control, clock, progress
        self._work = _Work()
        self._last_sync, self._leg = clock.now(), Leg(control, clock)
        survey = self.surveyed.survey
        mark = (
            f"{survey.fingerprint} {survey.drive.size_bytes} {survey.drive.serial} {level} {part_bytes or ''}".strip()
        )
        self._hash = blake3(mark.encode()).hexdigest()

    def run(self) -> Imaged:
        """Raises BadRecord when the place is taken, Stopped, WriteFailed; Mismatch when it does not keep the bytes."""
        journal, writer = self._open()
        try:
            journal.append([["leg"]])
            self._forget_what_changed(journal)
            used = ranges_in_use(self.surveyed)
            verified = self._copy_until_right(journal, writer, used)
            state, used_bytes = journal.state, used.total
            changed = not state.lost and bool(self._changed_since(state, whole=False))
            del used  # on a large drive its maps are what takes memory, and it is looked at once more
            self.surveyed = replace(self.surveyed, allocations={})
            if changed or (not state.lost and self._look().survey.fingerprint != self.surveyed.survey.fingerprint):
                raise Mismatch(
                    "The drive changed while it was imaged, so the image holds some of before and some of after.",
                    "Find out who wrote to it, delete the image with its journal, and start over.",
                )
            writer.finish(journal.state.stored, Extents.of(journal.state.lost))
            size = sum(part.stat().st_size for part in existing_parts(self.files.image))
            self._save(journal, verified)
            journal.append([self._leg.line()])
        except NeogenesisError:
            with suppress(CannotRecord):
                journal.append([self._leg.line()])
            raise
        finally:
            writer.close()
            journal.close()
        self.files.journal.unlink()
        return Imaged(used_bytes, size, tuple(Extents.of(state.lost)), verified, state.worked_s, state.paused_s)

    def _open(self) -> tuple[Journal, Qcow2Writer]:
        size = self.surveyed.survey.drive.size_bytes
        if self.files.journal.exists():
            journal = Journal.resume(self.files.journal, self._hash, JournalLimits(size, size))
            try:
                self._forget_what_is_gone(journal)
                end = max(journal.state.stored.end, CLUSTER_BYTES)
                return journal, Qcow2Writer(self.files.image, size, end, self.part_bytes)
            except BaseException:
                journal.close()
                raise
        for path in (self.files.image, part_path(self.files.image, 2)):
            if path.exists() and path.stat().st_size:
                raise BadRecord(f"“{path}” exists already; nothing was written.", "Choose another name.")
        writer = Qcow2Writer(self.files.image, size, part_bytes=self.part_bytes)
        return Journal.start(self.files.journal, self._hash), writer

    def _forget_what_is_gone(self, journal: Journal) -> None:
        """The file may have been lost, cut or damaged since the journal was written: that is copied again."""
        state = journal.state
        length = sum(part.stat().st_size for part in existing_parts(self.files.image) if part.exists())
        whole = not self._check_all and length >= state.stored.end
        wrong = self._read_back(state, "sample")[0] if whole else []
        if wrong or not whole:
            wrong, _ = self._read_back(state, "full")
        if wrong:
            journal.append([["wrong", wrong]])

    def _forget_what_changed(self, journal: Journal) -> None:
        """What an earlier leg read of the drive and does not stand there any more: it is read again."""
        if not len(journal.state.chunks):
            return
        wrong = self._changed_since(journal.state, whole=True)
        if wrong:
            journal.append([["wrong", [[chunk.start, chunk.end] for chunk in wrong]]])

    def _changed_since(self, state: JournalState, whole: bool) -> list[Chunk]:
        """As `changed_since`; a failing drive is not read twice."""
        if self.surveyed.survey.health.is_failing:
            return []
        size, seen = self.surveyed.survey.drive.size_bytes, UsedStore(self.store, ranges_in_use(self.surveyed))
        copied = Copied(((0, size, 0),), understood_of(self.surveyed.survey))

        def told(some: Sequence[Chunk]) -> None:
            self.control.checkpoint()

        return changed_since(seen, state.chunks, copied, Extents.of(state.lost), whole, told)

    def _copy_until_right(self, journal: Journal, writer: Qcow2Writer, used: Extents) -> int:
        """Copy, read back, and copy again what does not stand there; returns the bytes that were read back."""
        clusters = used.widened(BATCH_BYTES, self.surveyed.survey.drive.size_bytes)
        for _ in range(_TRIES):
            done = set(journal.state.chunks.edges[:, 0].tolist())
            self._work.done_bytes = used.intersection(journal.state.chunks.covered).total
            self._copy(journal, writer, used, clusters, done)
            wrong, verified = self._read_back(journal.state, self.verify)
            if not wrong:
                return verified
            journal.append([["wrong", wrong]])
        raise Mismatch(
            f"The image does not keep what is written to it: {Extents.of(wrong).total} bytes came back wrong twice.",
            "Check the drive that it stands on, and make it on another one.",
        )

    def _read_back(self, state: JournalState, how_much: Verify) -> tuple[list[tuple[int, int]], int]:
        total, done, lock = state.chunks.total, [0], threading.Lock()

        def told(count: int) -> None:
            self.control.checkpoint()
            with lock:
                done[0] += count
                self.progress("verify", done[0], total)

        return read_back(self.files.image, state, how_much, _THREADS, told)

    def _copy(self, journal: Journal, writer: Qcow2Writer, used: Extents, clusters: Extents, done: set[int]) -> None:
        work, total = self._work, used.total
        seen = UsedStore(self.store, used)
        pieces = ((start, end, seen) for start, end in clusters.chunks(BATCH_BYTES) if start not in done)

        def carry(queue: Iterator[_Piece], patient: bool) -> None:
            def begin() -> Callable[[], bool]:
                buffer = memoryview(mmap.mmap(-1, BATCH_BYTES))
                packer = _packer(self.level)
                return lambda: self._one(queue, buffer, packer, used, journal, writer, total, patient)

            run_together(_THREADS, "image", begin)

        carry(pieces, patient=False)
        later, work.later = work.later, []
        carry(iter(later), patient=True)
        with work.writing:
            self._checkpoint(journal, writer, force=True)

    def _one(
        self,
        queue: Iterator[_Piece],
        buffer: memoryview,
        packer: zstandard.ZstdCompressor,
        used: Extents,
        journal: Journal,
        writer: Qcow2Writer,
        total: int,
        patient: bool,
    ) -> bool:
        """Read, hash, compress and append one piece; False when there are no more.

        A bad stretch that takes too long comes later, unless somebody is `patient`.
        """
        work = self._work
        self.control.checkpoint()
        with work.reading:
            piece = next(queue, None)
            if piece is None:
                return False
            start, end, seen = piece
            patience = None if patient else Patience(self.clock.now)
            try:
                lost = read_or_narrow(seen, start, buffer[: end - start], seen.sector_size, patience=patience)
            except PutOff as found:
                work.later.append((start, end, LostStore(seen, Extents.of(found.lost))))
                return True
        digest, packed = _packed(buffer[: end - start], packer)
        with work.writing:
            at = writer.add(packed)
            work.waiting.append((Chunk(start, end, digest), at, [len(piece) for piece in packed]))
            work.lost += lost
            work.done_bytes += used.clipped(start, end).total
            self.progress("image", work.done_bytes, total)
            self._checkpoint(journal, writer, force=False)
        return True

    def _checkpoint(self, journal: Journal, writer: Qcow2Writer, force: bool) -> None:
        work, now = self._work, self.clock.now()
        if not work.waiting or not (force or now - self._last_sync > _CHECKPOINT_SECONDS * self.clock.pace):
            return
        writer.sync()
        journal.add_stored(work.waiting, work.lost, self._leg.line())
        work.waiting, work.lost = [], []
        self._last_sync = self.clock.now()

    def _save(self, journal: Journal, verified_bytes: int) -> None:
        survey = self.surveyed.survey
        head = {
            "schema": "neogenesis.manifest/1",
            "program": f"neogenesis {__version__}",
            "created": self.clock.wall(),
            "source": survey.drive,
            "target": _as_drive(survey, self.files.image),
            "plan_hash": "",
            "size_bytes": survey.drive.size_bytes,
            "layout": layout_as_it_is(survey, survey.drive.size_bytes, survey.drive.sector_size),
            "verified_bytes": verified_bytes,
            "lost": tuple(Extents.of(journal.state.lost)),
            "survey": survey,
        }
        save_manifest(self.files.manifest, head, journal.state.chunks.by_place())


def _packer(level: int) -> zstandard.ZstdCompressor:
    """As the level has it, but with a window over the whole cluster: smaller, and faster where data are mixed."""
    wanted = zstandard.ZstdCompressionParameters.from_level(
        level, source_size=CLUSTER_BYTES, window_log=CLUSTER_BITS, write_checksum=True
    )
    return zstandard.ZstdCompressor(compression_params=wanted)


def _packed(data: memoryview, packer: zstandard.ZstdCompressor) -> tuple[bytes, list[bytes]]:
    """The digest of a batch, and its clusters compressed, empty for one of zeros; the last is filled up with zeros.

    Each cluster is hashed and packed while it is still in the processor's cache.
    """
    digest, packed = blake3(), list[bytes]()
    for at in range(0, len(data), CLUSTER_BYTES):
        piece = data[at : at + CLUSTER_BYTES]
        digest.update(piece)
        whole = piece if len(piece) == CLUSTER_BYTES else bytes(piece).ljust(CLUSTER_BYTES, b"\0")
        packed.append(packer.compress(whole) if holds_data(piece) else b"")
    return (digest.digest() if any(packed) else ZEROS), packed


def _as_drive(survey: Survey, image: Path) -> Drive:
    """The image, seen as the drive that it stands for."""
    return Drive(path=str(image.absolute()), size_bytes=survey.drive.size_bytes, sector_size=survey.drive.sector_size)

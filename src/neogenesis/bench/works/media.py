"""Installer images and sticks: looking into an image, writing it as files, testing a stick's size."""

from __future__ import annotations

import bz2
import gzip
import hashlib
import lzma
import tempfile
from collections.abc import Callable, Iterator, Sequence
from contextlib import closing, contextmanager, suppress
from dataclasses import dataclass, replace
from pathlib import Path
from typing import IO, Any

import msgspec
import zstandard
from blake3 import blake3

from neogenesis.bench.drives import Connected
from neogenesis.bench.inside.archives import safe_parts
from neogenesis.bench.inside.booting import boot_drives
from neogenesis.bench.inside.laying import LaidOut
from neogenesis.bench.processes.utilities import run_tool
from neogenesis.bench.register import Asked, Consent, claimed
from neogenesis.bench.works.installing import fresh_target, recipe_of
from neogenesis.bench.works.planning import new_id
from neogenesis.bench.works.system_files import scratch_folder, verify_volume
from neogenesis.bench.works.volumes import make_volume
from neogenesis.core.errors import BadArgument, BadRecord, Mismatch, NeogenesisError, Refused, ToolFailed
from neogenesis.core.machine import Machine
from neogenesis.core.media import Inspected, Probed, inspect_disc, listed_checksum, notes_for, probe_full, probe_quick
from neogenesis.core.media.inspected import FAT_MOST, architectures_of, unsuitable
from neogenesis.core.plan import Plan
from neogenesis.core.plan.fresh import Filling, make_fresh_plan
from neogenesis.core.plan.model import SystemImage, Target
from neogenesis.core.plan.recipe import RecipeWishes
from neogenesis.core.plan.steps import MakeVolume
from neogenesis.core.store import PathOpener, SealedFileStore, WritableStore
from neogenesis.core.transfer.prepare import Told
from neogenesis.core.units import both_text, round_up
from neogenesis.core.work import work_hash

_PACKED = {b"\x1f\x8b": "gz", b"BZh": "bz2", b"\xfd7zXZ": "xz", b"\x28\xb5\x2f\xfd": "zst"}
_SUMS = (
    "SHA512SUMS",
    "SHA256SUMS",
    "SHA1SUMS",
    "MD5SUMS",
    "sha512sum.txt",
    "sha256sum.txt",
    "md5sum.txt",
    "CHECKSUM",
    "CHECKSUMS",
)
_OWN_SUMS = (".sha512", ".sha256", ".sha1", ".md5", ".sha512sum", ".sha256sum", ".md5sum")
_SIGNATURES = (".sig", ".asc", ".gpg", ".minisig")
_LARGEST_SUMS, _PIECE, _MOST_FILES = 4 << 20, 1 << 20, 1_000_000
_SPLIT_MIB = "3800"
_SECTOR = 512


@dataclass(frozen=True, slots=True)
class DiscFile:
    """A file of a disc image: its path with slashes, its size, and how the library finds it again."""

    name: str
    size_bytes: int
    place: str


def inspect_image(path: Path, machine: Machine | None = None, check_sum: bool = True) -> Inspected:
    """What an image is. Raises BadArgument when it is not there, Refused when cut short, BadRecord for no image."""
    with unpacked(path) as (plain, packed):
        found = _inspected(path, plain)
    state, name = _checksum(path) if check_sum else ("none", "")
    signature = next((path.name + end for end in _SIGNATURES if path.with_name(path.name + end).is_file()), "")
    found = msgspec.structs.replace(
        found,
        packed=packed,
        checksum=state,
        checksum_file=name,
        signature_file=signature,
    )
    return msgspec.structs.replace(found, notes=notes_for(found, machine))


@contextmanager
def unpacked(path: Path) -> Iterator[tuple[Path, str]]:
    """The image as a plain file, unpacked beside it where it is packed, and how it was packed."""
    try:
        with path.open("rb") as file:
            head = file.read(8)
    except OSError as error:
        raise BadArgument(f"The image “{path}” cannot be read ({error.strerror}).", "Check the name.") from error
    packed = next((kind for mark, kind in _PACKED.items() if head.startswith(mark)), "")
    if not packed:
        yield path, ""
        return
    with tempfile.TemporaryDirectory(prefix=".neogenesis-unpacked-", dir=_roomy(path)) as folder:
        plain = Path(folder) / path.stem
        _unpack(path, plain, packed)
        yield plain, packed


def _roomy(path: Path) -> Path | None:
    """Beside the image where that can be written to; else where temporary files go."""
    with suppress(OSError), tempfile.NamedTemporaryFile(dir=path.parent):
        return path.parent
    return None


def _unpack(path: Path, plain: Path, packed: str) -> None:
    openers: dict[str, Callable[[IO[bytes]], Any]] = {
        "gz": lambda f: gzip.GzipFile(fileobj=f),
        "bz2": bz2.BZ2File,
        "xz": lzma.LZMAFile,
        "zst": lambda f: zstandard.ZstdDecompressor().stream_reader(f, read_across_frames=True),
    }
    try:
        with path.open("rb") as file, openers[packed](file) as stream, plain.open("wb") as out:
            while piece := stream.read(_PIECE):
                if piece.strip(b"\0"):
                    out.write(piece)
                else:
                    out.seek(len(piece), 1)
            out.truncate()
    except (EOFError, lzma.LZMAError, zstandard.ZstdError, ValueError) as error:
        words = " ".join(str(error).split())[:100]
        raise Refused(
            "truncated", f"“{path.name}” is damaged or cut short ({words}); nothing was written.", "Fetch it again."
        ) from error
    except OSError as error:
        raise Refused(
            "truncated",
            f"“{path.name}” cannot be unpacked ({error.strerror or error}); nothing was written.",
            "Fetch it again, or free space.",
        ) from error


def _inspected(path: Path, plain: Path) -> Inspected:
    with closing(SealedFileStore(PathOpener(plain))) as store:
        size = store.size_bytes
        first = store.read(0, 512) if size >= 512 else b""
        disc = inspect_disc(store, path.name)
    hybrid = first[510:512] == b"\x55\xaa" and any(first[446 + 16 * n + 4] for n in range(4))
    if disc is None:
        return _drive_image(path, plain, size)
    files = list(disc_files(plain))
    names = [f.name for f in files]
    largest = max(files, key=lambda f: f.size_bytes, default=DiscFile("", 0, ""))
    architectures = architectures_of(names)
    if disc.uefi and not architectures:
        architectures = ("x86_64",)
    starts = [s for s, does in (("uefi", disc.uefi or bool(architectures)), ("legacy", disc.legacy)) if does]
    return Inspected(
        path=str(path),
        kind="disc",
        label=disc.label,
        size_bytes=size,
        hybrid=hybrid,
        starts=tuple(starts),  # type: ignore[arg-type]
        architectures=architectures,
        files=len(files),
        files_bytes=sum(f.size_bytes for f in files),
        files_start=bool(architectures_of(names)),
        largest_file=largest.name,
        largest_bytes=largest.size_bytes,
    )


def _drive_image(path: Path, plain: Path, size: int) -> Inspected:
    """An image of a whole drive: by its table and what its start-up partitions hold."""
    try:
        with boot_drives([(str(plain), "")]) as drives:
            drive = drives[0]
            survey = drive.survey
            beyond = next((f for f in survey.findings if f.code == "partition-beyond-end"), None)
            if beyond is not None:
                raise Refused(
                    "truncated", f"“{path.name}” is cut short: {beyond.text} Nothing was written.", "Fetch it again."
                )
            names = [f"EFI/BOOT/{n}" for p in drive.startups() for n in drive.names(p.number, "EFI/BOOT")]
            active = any(p.bootable for p in survey.partitions)
            label = next((p.volume.label for p in survey.partitions if p.volume.label), "")
            code = any(survey.table.boot_code)
    except BadArgument as error:
        raise BadRecord(
            f"“{path.name}” is no image of a disc or a drive; nothing was written.", "Give the right file."
        ) from error
    if survey.table.kind == "none" and not any(p.volume.kind != "none" for p in survey.partitions):
        return Inspected(path=str(path), kind="unknown", size_bytes=size, hybrid=True)
    architectures = architectures_of(names)
    starts = [s for s, does in (("uefi", bool(architectures)), ("legacy", active and code)) if does]
    return Inspected(
        path=str(path),
        kind="drive",
        label=label,
        size_bytes=size,
        hybrid=True,
        starts=tuple(starts),  # type: ignore[arg-type]
        architectures=architectures,
    )


def disc_files(path: Path) -> Iterator[DiscFile]:
    """Files of a disc image, by the richest of its directories; raises BadRecord for one that makes no sense."""
    disc = _opened(path)
    try:
        for kind in ("udf_path", "rr_path", "joliet_path", "iso_path"):
            if _has(disc, kind):
                yield from _walked(disc, kind)
                return
    except NeogenesisError:
        raise
    except Exception as error:
        raise _senseless(path, error) from error
    finally:
        with suppress(Exception):
            disc.close()


def _opened(path: Path) -> Any:
    import pycdlib

    disc = pycdlib.PyCdlib()
    try:
        disc.open(str(path))
    except Exception as error:
        raise _senseless(path, error) from error
    return disc


def _senseless(path: Path, error: Exception) -> BadRecord:
    words = " ".join(str(error).split())[:100]
    return BadRecord(
        f"The directories of “{path.name}” make no sense ({words}); nothing was written.", "Fetch it again."
    )


def _has(disc: Any, kind: str) -> bool:
    asked = {"udf_path": disc.has_udf, "rr_path": disc.has_rock_ridge, "joliet_path": disc.has_joliet}
    return kind == "iso_path" or bool(asked[kind]())


def _walked(disc: Any, kind: str) -> Iterator[DiscFile]:
    count = 0
    for folder, _, names in disc.walk(**{kind: "/"}):
        for name in names:
            place = f"{folder.rstrip('/')}/{name}"
            record = disc.get_record(**{kind: place})
            if hasattr(record, "is_symlink") and record.is_symlink():
                continue
            if getattr(record, "inode", record) is None and record.get_data_length():
                continue  # the boot catalogue, which only firmware reads on a disc
            plain = place if kind != "iso_path" else place.split(";")[0].rstrip(".")
            count += 1
            if count > _MOST_FILES:
                raise BadRecord("The disc image holds too many files.", "Give the right file.")
            if safe_parts(plain.lstrip("/")) is not None:
                yield DiscFile(plain.lstrip("/"), int(record.get_data_length()), f"{kind}={place}")


def _checksum(path: Path) -> tuple[str, str]:
    """Whether a checksum file beside an image names it, and whether the image is what it says."""
    seen = ""
    beside = [(path.with_name(path.name + end), True) for end in _OWN_SUMS] + [
        (path.with_name(n), False) for n in _SUMS
    ]
    for place, own in beside:
        try:
            if not place.is_file() or place.stat().st_size > _LARGEST_SUMS:
                continue
            text = place.read_text("utf-8", "replace")
        except OSError:
            continue
        wanted, holds = listed_checksum(text, path.name, own)
        if wanted is not None:
            with path.open("rb") as file:
                digest = hashlib.file_digest(file, wanted.algorithm).hexdigest()
            return ("matched" if digest == wanted.digest else "mismatch"), place.name
        if holds and not seen:
            seen = place.name
    return ("other", seen) if seen else ("none", "")


# Writing


def refuse_unfit(found: Inspected, machine: Machine | None, layout: str) -> None:
    """Raises Refused for an image that is not what its checksum says, or that will not start."""
    name = Path(found.path).name
    if found.checksum == "mismatch":
        raise Refused(
            "checksum", f"“{name}” is not what {found.checksum_file} says; nothing was written.", "Fetch it again."
        )
    why = unsuitable(found, machine)
    if why:
        raise Refused("machine", f"“{name}”: {why} Nothing was written.", "Take an image for this machine.")
    if layout == "files" and found.kind != "disc":
        raise Refused(
            "layout", f"“{name}” is an image of a drive; nothing was written.", "Write it with --layout sectors."
        )
    if layout == "files" and not found.files_start:
        raise Refused(
            "layout",
            f"The files of “{name}” hold no loader that UEFI looks for; nothing was written.",
            "Write it with --layout sectors.",
        )


def refuse_unknown(found: Inspected, drives: Sequence[str]) -> None:
    """Raises Refused for a file that is no image that is known here, onto a drive that holds anything."""
    if found.kind != "unknown":
        return
    for drive in drives:
        held = fresh_target(drive).holds
        if held or found.size_bytes < _SECTOR:
            why = f"and “{drive}” holds {held[0]}" if held else "and smaller than a sector"
            raise Refused(
                "no-image",
                f"“{Path(found.path).name}” is neither the image of a disc nor that of a drive, {why}; nothing was "
                "written.",
                "Give the right file, or a stick that holds nothing.",
            )


def fitting_layout(found: Inspected) -> str:
    """Sector for sector where that starts from a stick, else as files: what the window does by itself."""
    return "files" if found.kind == "disc" and not found.hybrid and found.files_start else "sectors"


def plan_files(found: Inspected, plain: Path, target: Target) -> Plan:
    """A plan for a stick with the files of a disc image on one FAT volume; raises Refused."""
    files = list(disc_files(plain))
    odd = next((f for f in files if f.size_bytes > FAT_MOST and not f.name.casefold().endswith(".wim")), None)
    if odd is not None:
        raise Refused(
            "too-large",
            f"“{odd.name}” has {both_text(odd.size_bytes)}, more than FAT holds, and cannot be split; "
            "nothing was written.",
            "Write the image with --layout sectors.",
        )
    taken = sum(round_up(f.size_bytes, 32 << 10) + 4096 for f in files)
    with plain.open("rb") as file:
        digest = hashlib.file_digest(file, blake3).hexdigest()  # type: ignore[arg-type]
    image = SystemImage(
        path=str(plain.absolute()), digest=digest, size_bytes=found.size_bytes, name=found.label, form="disc"
    )
    filling = Filling(image, {"startup": taken}, b"", b"", {"startup": len(files)})
    return make_fresh_plan(recipe_of("stick"), RecipeWishes(), target, new_id, filling)


class DiscFiles:
    """Fills a FAT volume with the files of a disc image."""

    def __init__(self, image: SystemImage, scratch: Path, check: Callable[[], None]) -> None:
        self._path, self._scratch, self._check = Path(image.path), scratch, check
        self._notes: list[str] = []
        try:
            with self._path.open("rb") as file:
                digest = hashlib.file_digest(file, blake3).hexdigest()  # type: ignore[arg-type]
        except OSError as error:
            raise Refused(
                "image-changed", f"The image “{self._path}” is gone; nothing was written.", "Plan again."
            ) from error
        if digest != image.digest:
            raise Refused(
                "image-changed",
                f"The image “{self._path.name}” is not the one that the plan was made for; nothing was written.",
                "Plan again with this one.",
            )

    def notes(self) -> list[str]:
        return list(self._notes)

    def make(self, path: Path, store: WritableStore, step: MakeVolume, start_bytes: int, told: Told) -> None:
        """Make the volume with the files, and read them back. Raises ToolFailed or BadRecord."""
        made = LaidOut()
        with scratch_folder(self._scratch) as folder:
            for name in self._taken_out(folder):
                told((folder / name).stat().st_size)
                with (folder / name).open("rb") as file:
                    made.digests[name] = hashlib.file_digest(file, blake3).digest()  # type: ignore[arg-type]
            make_volume(store, step, start_bytes, laid_out=folder, file=path)
        verify_volume(store, made, told, "vfat")

    def _taken_out(self, folder: Path) -> list[str]:
        """All files, in the scratch folder; what is too large for FAT in parts. Returns their names."""
        files = list(disc_files(self._path))
        disc = _opened(self._path)
        names = []
        try:
            for one in files:
                self._check()
                place = folder / one.name
                place.parent.mkdir(parents=True, exist_ok=True)
                kind, _, inner = one.place.partition("=")
                if one.size_bytes:
                    disc.get_file_from_iso(str(place), **{kind: inner})
                else:
                    place.touch()
                if one.size_bytes > FAT_MOST:
                    names += _split(place, folder)
                else:
                    names.append(one.name)
        except OSError as error:
            raise BadRecord(f"The files of the image cannot be laid out ({error.strerror}).", "Free space.") from error
        except NeogenesisError:
            raise
        except Exception as error:
            raise _senseless(self._path, error) from error
        finally:
            with suppress(Exception):
                disc.close()
        return names


def _split(place: Path, folder: Path) -> list[str]:
    """An image of the NT family's own kind in parts that its installer puts together again."""
    out = place.with_suffix(".swm")
    run_tool(["wimlib-imagex", "split", str(place), str(out), _SPLIT_MIB], f"Splitting “{place.name}”")
    place.unlink()
    parts = sorted(place.parent.glob(f"{out.stem}*.swm"))
    if not parts:
        raise ToolFailed(f"“{place.name}” was not split; nothing was written.", "Write it with --layout sectors.")
    return [p.relative_to(folder).as_posix() for p in parts]


def suitable_sticks(needed_bytes: int, connected: Sequence[Connected]) -> list[Connected]:
    """Connected drives that can be taken out and are large enough, the smallest first."""
    fit = [c for c in connected if c.removable and c.may_be_target and c.drive.size_bytes >= needed_bytes]
    return sorted(fit, key=lambda c: c.drive.size_bytes)


def media_work(image: Path, layout: str) -> str:
    """What is agreed to when an installer is put onto sticks. Raises BadArgument for an image that is not there."""
    try:
        status = image.stat()
    except OSError as error:
        raise BadArgument(f"The image “{image}” cannot be read ({error.strerror}).", "Check the name.") from error
    return work_hash("media", image=[str(image.absolute()), status.st_size, status.st_mtime_ns], layout=layout)


def check_size(
    name: str, consent: Consent, full: bool, seed: int, told: Callable[[int], None] = lambda n: None
) -> Probed:
    """Whether a stick is as large as it says; what it holds is lost. Raises Mismatch for one that is not."""
    known = fresh_target(name, consent.tail)
    if consent.confirmed is not None:  # one claim for the test, another for what is written after it
        consent = replace(
            consent, confirmed=msgspec.structs.replace(consent.confirmed, run=f"{consent.confirmed.run}-size")
        )
    work = consent.work or work_hash("size-check", full=full)
    with claimed(consent, Asked("size-check", work, name, known.sector_size, known.holds)) as claim:
        claim.begin()
        store = claim.target.store
        probed = probe_full(store, seed, told=told) if full else probe_quick(store, seed)
        store.settle()
    if not probed.honest:
        raise Mismatch(
            f"“{name}” says that it has {both_text(known.size_bytes)}, and holds about {both_text(probed.real_bytes)}: "
            "it is not to be trusted.",
            "Do not use it, and tell whoever sold it.",
        )
    return probed

"""Installer images: what they are, by what they would start a stick, and the files of a disc."""

from __future__ import annotations

import bz2
import gzip
import hashlib
import io
import lzma
import os
import posixpath
import struct
from collections.abc import Callable, Iterator, Mapping
from contextlib import closing, contextmanager, suppress
from dataclasses import dataclass
from pathlib import Path
from typing import IO, Any

import msgspec
import zstandard

from neogenesis.bench.inside.archives import safe_parts
from neogenesis.bench.inside.booting import boot_drives
from neogenesis.bench.processes.reader import open_tree
from neogenesis.bench.processes.scratch import scratch
from neogenesis.core.boot.program import read_program
from neogenesis.core.errors import BadArgument, BadRecord, Damaged, NeogenesisError, Refused
from neogenesis.core.machine import Machine
from neogenesis.core.media import Inspected, inspect_disc, listed_checksum, notes_for
from neogenesis.core.media.inspected import BLOCK, DiscFacts, Start, loader_of
from neogenesis.core.store import PathOpener, RangeView, ReadableStore, SealedFileStore

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
_SECTOR, _BOOT_CODE = 512, 440
#: So much of a loader is looked at; links lead through so many others, and into folders so deep.
_LOADER_BYTES, _MOST_LINKS, _DEEPEST = 16 << 20, 20, 60
_MOST_FOLDER_BYTES = 16 << 20


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
    packed = packed_as(path)
    if not packed:
        yield path, ""
        return
    with scratch("unpacked", _roomy(path)) as folder:
        plain = folder / path.stem
        _unpack(path, plain, packed)
        yield plain, packed


def packed_as(path: Path) -> str:
    """How an image is packed, empty for one that is not. Raises BadArgument for one that cannot be read."""
    try:
        with path.open("rb") as file:
            head = file.read(8)
    except OSError as error:
        raise BadArgument(f"The image “{path}” cannot be read ({error.strerror}).", "Check the name.") from error
    return next((kind for mark, kind in _PACKED.items() if head.startswith(mark)), "")


def _roomy(path: Path) -> Path | None:
    """Beside the image where that can be written to; else where temporary files go."""
    return path.parent if os.access(path.parent, os.W_OK) else None


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
        first = store.read(0, _SECTOR) if size >= _SECTOR else b""
        disc = inspect_disc(store, path.name)
        by_catalogue = _catalogue_loaders(store, disc) if disc is not None else set()
    hybrid = first[510:512] == b"\x55\xaa" and any(first[446 + 16 * n + 4] for n in range(4))
    if disc is None:
        return _drive_image(path, plain, size)
    files = list(disc_files(plain))
    largest = max(files, key=lambda f: f.size_bytes, default=DiscFile("", 0, ""))
    by_files = _file_loaders(plain, files)
    sectors = (*_starts("uefi", bool(by_catalogue)), *_starts("legacy", any(first[:_BOOT_CODE])))
    return Inspected(
        path=str(path),
        kind="disc",
        label=disc.label,
        size_bytes=size,
        hybrid=hybrid,
        starts=sectors if hybrid else _starts("uefi", bool(by_files)),
        disc_starts=(*_starts("uefi", bool(by_catalogue)), *_starts("legacy", disc.legacy)),
        architectures=tuple(sorted(by_catalogue | by_files)),
        files=len(files),
        files_bytes=sum(f.size_bytes for f in files),
        files_start=bool(by_files),
        has_loader=any(loader_of(one.name) for one in files),
        largest_file=largest.name,
        largest_bytes=largest.size_bytes,
    )


def _starts(way: Start, does: bool) -> tuple[Start, ...]:
    return (way,) if does else ()


def _catalogue_loaders(store: ReadableStore, disc: DiscFacts) -> set[str]:
    """Architectures of the loaders on the volume that the disc's catalogue has for UEFI."""
    if not disc.uefi_at or disc.uefi_at >= store.size_bytes:
        return set()
    try:
        with closing(open_tree(RangeView(store, disc.uefi_at, store.size_bytes - disc.uefi_at))) as tree:
            names = (f"EFI/BOOT/{name}" for name in tree.names("EFI/BOOT"))
            held = {name: tree.read(name, _LOADER_BYTES) or b"" for name in names if loader_of(name)}
    except Damaged:
        return set()
    return _loaders(held)


def _file_loaders(plain: Path, files: list[DiscFile]) -> set[str]:
    """Architectures of the loaders among a disc's files, as a FAT volume with them would have them."""
    found = [one for one in files if loader_of(one.name) and one.size_bytes <= _LOADER_BYTES]
    if not found:
        return set()
    disc = opened_disc(plain)
    held: dict[str, bytes] = {}
    try:
        for one in found:
            out = io.BytesIO()
            kind, _, inner = one.place.partition("=")
            disc.get_file_from_iso_fp(out, **{kind: inner})
            held[one.name] = out.getvalue()
    except Exception:  # noqa: BLE001 - a loader that cannot be read is none
        return set()
    finally:
        with suppress(Exception):
            disc.close()
    return _loaders(held)


def _loaders(held: Mapping[str, bytes]) -> set[str]:
    """Of files at the fallback path those that firmware would take for programs, of the kind that their name says."""
    found = set()
    for name, data in held.items():
        program = read_program(data)
        if program is not None and program.architecture == loader_of(name):
            found.add(program.architecture)
    return found


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
            held = {
                f"{p.number}/EFI/BOOT/{n}": drive.read(p.number, f"EFI/BOOT/{n}", _LOADER_BYTES) or b""
                for p in drive.startups()
                for n in drive.names(p.number, "EFI/BOOT")
                if loader_of(f"EFI/BOOT/{n}")
            }
            active = any(p.bootable for p in survey.partitions)
            label = next((p.volume.label for p in survey.partitions if p.volume.label), "")
            code = any(survey.table.boot_code)
    except BadArgument as error:
        raise BadRecord(
            f"“{path.name}” is no image of a disc or a drive; nothing was written.", "Give the right file."
        ) from error
    if survey.table.kind == "none" and not any(p.volume.kind != "none" for p in survey.partitions):
        return Inspected(path=str(path), kind="unknown", size_bytes=size, hybrid=True)
    architectures = _loaders({name.partition("/")[2]: data for name, data in held.items()})
    return Inspected(
        path=str(path),
        kind="drive",
        label=label,
        size_bytes=size,
        hybrid=True,
        starts=(*_starts("uefi", bool(architectures)), *_starts("legacy", active and code)),
        architectures=tuple(sorted(architectures)),
    )


def disc_files(path: Path) -> Iterator[DiscFile]:
    """Files of a disc image, by the richest of its directories, links as copies of what they lead to.

    Raises BadRecord for one that makes no sense.
    """
    disc = opened_disc(path)
    try:
        kind = _richest(disc)
        yield from _with_links(*_walked(disc, kind, path.stat().st_size))
    except NeogenesisError:
        raise
    except Exception as error:
        raise senseless(path, error) from error
    finally:
        with suppress(Exception):
            disc.close()


def disc_folders(path: Path) -> list[str]:
    """Folders of a disc image, also those that hold nothing; raises BadRecord for one that makes no sense."""
    disc = opened_disc(path)
    try:
        kind = _richest(disc)
        found = [folder.strip("/") for folder, _, _ in disc.walk(**{kind: "/"})]
    except Exception as error:
        raise senseless(path, error) from error
    finally:
        with suppress(Exception):
            disc.close()
    return [one for one in found if safe_parts(one) is not None]


def opened_disc(path: Path) -> Any:
    """By the library that reads them, to be closed; raises BadRecord for one that makes no sense."""
    import pycdlib

    disc = pycdlib.PyCdlib()
    try:
        disc.open(str(path))
    except Exception as error:
        raise senseless(path, error) from error
    return disc


def senseless(path: Path, error: Exception) -> BadRecord:
    """What is said of a disc image that the library gave up on."""
    words = " ".join(str(error).split())[:100] or type(error).__name__
    return BadRecord(
        f"The directories of “{path.name}” make no sense ({words}); nothing was written.", "Fetch it again."
    )


def _richest(disc: Any) -> str:
    """Of a disc's directories the one that keeps most of its names."""
    there = {"udf_path": disc.has_udf, "rr_path": disc.has_rock_ridge, "joliet_path": disc.has_joliet}
    return next((kind for kind, is_there in there.items() if is_there()), "iso_path")


def _walked(disc: Any, kind: str, size: int) -> tuple[list[DiscFile], dict[str, str]]:
    """Files, and links with where they lead. Raises BadRecord for a record that lies about its file."""
    files: list[DiscFile] = []
    links: dict[str, str] = {}
    for folder, _, names in disc.walk(**{kind: "/"}):
        if folder.count("/") > _DEEPEST:
            raise BadRecord("The folders of the disc image lead in a circle.", "Fetch it again.")
        for name in names:
            place = f"{folder.rstrip('/')}/{name}"
            record = disc.get_record(**{kind: place})
            plain = place if kind != "iso_path" else place.split(";")[0].rstrip(".")
            plain = plain.lstrip("/")
            if hasattr(record, "is_symlink") and record.is_symlink():
                links[plain] = _target_of(record, plain)
                continue
            if getattr(record, "inode", record) is None and record.get_data_length():
                continue  # the boot catalogue, which only firmware reads on a disc
            length = int(record.get_data_length())
            if length < 0 or length > size or (kind != "udf_path" and _lies(disc, record, length, size)):
                raise BadRecord(
                    f"“{plain[:120]}” reaches beyond the end of the disc image; nothing was written.", "Fetch it again."
                )
            if safe_parts(plain.replace(":", "_")) is None:
                raise BadRecord(
                    f"The disc image holds a name that leads out of it ({plain[:80]}); nothing was written.",
                    "Do not use it.",
                )
            files.append(DiscFile(plain, length, f"{kind}={place}"))
            if len(files) + len(links) > _MOST_FILES:
                raise BadRecord("The disc image holds too many files.", "Give the right file.")
    return files, links


def _target_of(record: Any, name: str) -> str:
    """Where a link leads, as it is written. Raises BadRecord for one in a form that nobody reads here."""
    if getattr(record, "rock_ridge", None) is None:
        raise BadRecord(
            f"“{name[:120]}” in the image is a link in a form that is not read here; nothing was written.",
            "Write the image with --layout sectors.",
        )
    return str(record.rock_ridge.symlink_path().decode("utf-8", "replace"))


def _lies(disc: Any, record: Any, length: int, size: int) -> bool:
    """Whether a file's record says that it goes on behind the end of the image: the library cuts such a one there."""
    start = record.extent_location() * BLOCK
    if start + length != size:
        return bool(start + length > size)
    folder = record.parent
    disc._cdfp.seek(folder.extent_location() * BLOCK)
    data = disc._cdfp.read(min(folder.get_data_length(), _MOST_FOLDER_BYTES))
    at = 0
    while at + 34 <= len(data):
        if not data[at]:
            at = (at // BLOCK + 1) * BLOCK  # no record goes over the end of a block
            continue
        place, said = struct.unpack_from("<I", data, at + 2)[0], struct.unpack_from("<I", data, at + 10)[0]
        if place * BLOCK == start and said > length:
            return True
        at += data[at]
    return False


def _with_links(files: list[DiscFile], links: Mapping[str, str]) -> Iterator[DiscFile]:
    """All files, and for each link the file that it leads to, or those of that folder; not those around itself."""
    yield from files
    by_name = {one.name: one for one in files}
    count = len(files)
    for link in links:
        aim = _followed(link, links)
        if aim is None or f"{link}/".startswith(f"{aim}/" if aim else ""):
            continue  # it leads nowhere, or to a folder around itself
        found = [by_name[aim]] if aim in by_name else [f for f in files if f.name.startswith(f"{aim}/")]
        for one in found:
            count += 1
            if count > _MOST_FILES:
                raise BadRecord("The disc image holds too many files.", "Give the right file.")
            yield DiscFile(link + one.name.removeprefix(aim), one.size_bytes, one.place)


def _followed(link: str, links: Mapping[str, str]) -> str | None:
    """The path that a link leads to in the end, also over links of folders; None for one that leads in a circle."""
    at = link
    for _ in range(_MOST_LINKS):
        parts = at.split("/")
        passed = next((n for n in range(1, len(parts) + 1) if "/".join(parts[:n]) in links), 0)
        if not passed:
            return at
        one = "/".join(parts[:passed])
        target = links[one]
        base = "" if target.startswith("/") else posixpath.dirname(one)
        at = posixpath.normpath("/".join([f"/{base}", target.lstrip("/"), *parts[passed:]])).strip("/")
    return None


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

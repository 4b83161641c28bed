"""System images: an archive (tar, packed with zstd) with a description and a folder for each volume that it fills.

Everything in it is foreign: names that lead out are refused, links are made last, so nothing is written through one.
"""

from __future__ import annotations

import os
import queue
import stat
import tarfile
import threading
from collections.abc import Callable, Iterator, Mapping
from contextlib import closing, contextmanager, suppress
from dataclasses import dataclass
from pathlib import Path
from typing import IO, Any, Literal

import zstandard
from blake3 import blake3

from neogenesis.bench.archives import safe_parts
from neogenesis.bench.wim import LaidOut, is_wim, wim_facts
from neogenesis.core.errors import BadArgument, BadRecord, NeogenesisError
from neogenesis.core.reinstall.system import DESCRIPTIONS, SystemDescription, read_description, replaced
from neogenesis.core.units import MIB, round_up

_PIECE = 1 << 20
_BLOCK = 4096
_PIECES_AHEAD = 8
_MOST_MEMBERS, _MOST_BYTES, _MOST_SETTINGS_BYTES, _MOST_LOADER = 5_000_000, 1 << 46, 64 * MIB, MIB
_XATTR = "SCHILY.xattr."
#: About what the loaders of the NT family take, with their fonts and languages.
_STARTUP_BYTES = 48 * MIB
Told = Callable[[int], None]


@dataclass(frozen=True, slots=True)
class InspectedSystem:
    """What stands in an image. Bytes are what the files take on a volume of blocks of 4 KiB, by the key of a part."""

    path: Path
    description: SystemDescription
    digest: str
    size_bytes: int
    bytes_by_key: dict[str, int]
    files_by_key: dict[str, int]
    boot_code: bytes
    core: bytes
    form: Literal["archive", "wim"] = "archive"


class _Hashed:
    """A file whose bytes are counted and hashed as they go by."""

    def __init__(self, file: IO[bytes], told: Told) -> None:
        self._file, self._told = file, told
        self.digest = blake3(max_threads=1)
        #: Set by who wants nothing more of it; then it is not read to its end, and the checksum means nothing.
        self.enough = False

    def read(self, size: int = -1) -> bytes:
        data = self._file.read(size)
        self.digest.update(data)
        self._told(len(data))
        return data


class _Ahead:
    """A packed stream, unpacked by a thread of its own while what came before is looked at and written."""

    def __init__(self, stream: IO[bytes]) -> None:
        self._stream = stream
        self._pieces: queue.Queue[bytes | BaseException] = queue.Queue(_PIECES_AHEAD)
        self._ended, self._at_end = threading.Event(), False
        self._thread = threading.Thread(target=self._unpack, name="unpack")
        self._thread.start()

    def _unpack(self) -> None:
        piece: bytes | BaseException = b"more"
        while piece and not isinstance(piece, BaseException) and not self._ended.is_set():
            try:
                piece = self._stream.read(_PIECE)
            except BaseException as error:  # noqa: BLE001 - raised where the piece is asked for
                piece = error
            self._pieces.put(piece)

    def read(self) -> bytes:
        """The next piece, of at most a MiB; none at the end."""
        if self._at_end:
            return b""
        piece = self._pieces.get()
        self._at_end = not piece or isinstance(piece, BaseException)
        if isinstance(piece, BaseException):
            raise piece
        return piece

    def close(self) -> None:
        self._ended.set()
        while self._thread.is_alive():
            with suppress(queue.Empty):
                self._pieces.get(timeout=0.01)
        self._thread.join()


class _Forward:
    """A stream that the archive library takes for a file, as long as it only ever goes forward."""

    def __init__(self, stream: _Ahead) -> None:
        self._stream, self._held, self._at, self._position = stream, b"", 0, 0

    def read(self, size: int = -1) -> bytes:
        have = len(self._held) - self._at
        if size <= have:
            piece = self._held[self._at : self._at + size]
        else:
            parts, left = [self._held[self._at :]], size - have
            while left > 0:
                self._held = self._stream.read()
                if not self._held:
                    self._at = 0
                    break
                parts.append(self._held[:left])
                self._at = len(parts[-1])
                left -= self._at
            piece = b"".join(parts)
            self._position += len(piece)
            return piece
        self._at += size
        self._position += size
        return piece

    def pieces(self, length: int) -> Iterator[memoryview]:
        """The next bytes, as they come."""
        while length > 0:
            if self._at == len(self._held):
                self._held, self._at = self._stream.read(), 0
            piece = memoryview(self._held)[self._at : self._at + length]
            if not piece:
                raise tarfile.ReadError("unexpected end of data")
            self._at += len(piece)
            self._position += len(piece)
            length -= len(piece)
            yield piece

    def tell(self) -> int:
        return self._position

    def seek(self, place: int, whence: int = 0) -> int:
        if whence or place < self._position:
            raise tarfile.ReadError("it goes back and forth")
        while (left := place - self._position) > 0:
            step = min(left, len(self._held) - self._at)
            self._at += step
            self._position += step
            if step < left:
                self._held, self._at = self._stream.read(), 0
                if not self._held:
                    break
        return self._position


@contextmanager
def _members(path: Path, told: Told) -> Iterator[tuple[tarfile.TarFile, _Hashed]]:
    """The archive as a stream, read to its end unless that is enough, or the block is left by an error.

    Raises BadRecord for one that is damaged or cut short.
    """
    try:
        with path.open("rb") as file:
            hashed = _Hashed(file, told)
            stream: Any = hashed
            if path.name.endswith((".zst", ".tzst")):
                stream = zstandard.ZstdDecompressor().stream_reader(stream, read_size=_PIECE)
            with closing(_Ahead(stream)) as ahead:
                forward: Any = _Forward(ahead)
                with tarfile.open(fileobj=forward, mode="r:") as archive:
                    yield archive, hashed
                while not hashed.enough and ahead.read():
                    pass
            while not hashed.enough and hashed.read(_PIECE):
                pass
    except (tarfile.TarError, zstandard.ZstdError, EOFError, UnicodeDecodeError) as error:
        words = " ".join(str(error).split())[:120]
        raise BadRecord(
            f"The system image “{path.name}” is damaged or cut short ({words}).", "Fetch it again."
        ) from error


def inspect_system(path: Path, told: Told = lambda _: None) -> InspectedSystem:
    """Read an image once, whole. Raises BadArgument when it is not there, BadRecord when it cannot be used."""
    try:
        size = path.stat().st_size
    except OSError as error:
        raise BadArgument(f"The system image “{path}” cannot be read ({error.strerror}).", "Check the name.") from error
    mark = (str(path.absolute()), size, path.stat().st_mtime_ns)
    if mark not in _inspected:
        _inspected.clear()
        _inspected[mark] = _inspected_wim(path, size, told) if is_wim(path) else _inspected_archive(path, size, told)
    return _inspected[mark]


#: The image that was looked into last in this process, by its place, size and time.
_inspected: dict[tuple[str, int, int], InspectedSystem] = {}


def _inspected_archive(path: Path, size: int, told: Told) -> InspectedSystem:
    description: SystemDescription | None = None
    sizes: dict[str, tuple[int, int]] = {}
    small: dict[str, bytes] = {}
    count = 0
    with _members(path, told) as (archive, hashed):
        for member in archive:
            count += 1
            parts = safe_parts(member.name)
            if parts is None:
                raise BadRecord(
                    f"The system image “{path.name}” holds a name that leads out of it ({member.name[:80]}); "
                    "nothing was written.",
                    "Do not use it.",
                )
            if count > _MOST_MEMBERS or member.size > _MOST_BYTES or member.size < 0:
                raise BadRecord(f"The system image “{path.name}” is larger than any system.", "Do not use it.")
            name = "/".join(parts)
            if member.isfile() and name in DESCRIPTIONS:
                description = read_description(_read(archive, member, _MOST_SETTINGS_BYTES))
            elif member.isfile() and len(parts) > 1 and parts[0] == "legacy" and member.size <= _MOST_LOADER:
                small[name] = _read(archive, member, _MOST_LOADER)
            held, files = sizes.get(parts[0], (0, 0))
            own = round_up(member.size, _BLOCK) if member.isfile() else 0
            sizes[parts[0]] = (held + own + _BLOCK, files + 1)
    if description is None:
        raise BadRecord(
            f"“{path.name}” holds no description of a system ({DESCRIPTIONS[0]}); nothing was written.",
            "Give an image that was made as docs/reinstall.md says.",
        )
    trees = {key: folder.strip("/") for key, folder in description.trees.items()}
    missing = [key for key, folder in trees.items() if folder not in sizes and key == "system"]
    if missing:
        raise BadRecord(f"“{path.name}” holds no files for its system volume.", "Do not use it.")
    there = {key: folder for key, folder in trees.items() if folder in sizes}
    return InspectedSystem(
        path=path,
        description=description,
        digest=hashed.digest.hexdigest(),
        size_bytes=size,
        bytes_by_key={key: sizes[folder][0] for key, folder in there.items()},
        files_by_key={key: sizes[folder][1] for key, folder in there.items()},
        boot_code=small.get(description.boot_code, b"")[:440],
        core=small.get(description.core, b""),
    )


def _inspected_wim(path: Path, size: int, told: Told) -> InspectedSystem:
    """The NT family's own image format: its first image, with a start-up volume from the loaders that it holds."""
    facts = wim_facts(path)
    digest = blake3()
    with path.open("rb") as file:
        while piece := file.read(_PIECE):
            digest.update(piece)
            told(len(piece))
    about = SystemDescription(
        schema=SystemDescription.SCHEMA, name=facts.name, family="nt", firmware=("uefi",), drivers_to="Drivers"
    )
    return InspectedSystem(
        path=path,
        description=about,
        digest=digest.hexdigest(),
        size_bytes=size,
        bytes_by_key={"system": facts.total_bytes + facts.files * _BLOCK, "startup": _STARTUP_BYTES},
        files_by_key={"system": facts.files},
        boot_code=b"",
        core=b"",
        form="wim",
    )


def _read(archive: tarfile.TarFile, member: tarfile.TarInfo, most: int) -> bytes:
    file = archive.extractfile(member)
    if file is None or member.size > most:
        raise BadRecord(f"“{member.name[:80]}” in the system image is too large.", "Do not use it.")
    return file.read()


def lay_out(
    image: InspectedSystem,
    key: str,
    folder: Path,
    settings: Mapping[str, str],
    told: Told,
    check: Callable[[], None],
) -> LaidOut:
    """Put the files of one volume into a folder, place holders replaced. Raises BadRecord, or what `check` raises.

    `told` hears how much of the archive has gone by, `check` is called often and may end it. The system's own volume
    takes the archive to its end, and with it its checksum; others end with their last file.
    """
    made = LaidOut()
    if key not in image.bytes_by_key:  # a volume that the image knows nothing of
        return made
    prefix = tuple(image.description.trees[key].strip("/").split("/"))
    marked = set(image.description.settings)
    links: list[tuple[str, str, bool]] = []
    folders: list[tuple[Path, tarfile.TarInfo]] = []
    is_root = os.geteuid() == 0
    left = image.files_by_key[key]
    try:
        with _members(image.path, told) as (archive, hashed):
            for member in archive:
                check()
                parts = safe_parts(member.name)
                if parts is None or parts[: len(prefix)] != prefix:
                    continue
                left -= 1
                if len(parts) == len(prefix):
                    continue
                inner = "/".join(parts[len(prefix) :])
                place = folder.joinpath(*parts[len(prefix) :])
                if member.isdir():
                    place.mkdir(parents=True, exist_ok=True)
                    folders.append((place, member))
                elif member.isfile():
                    place.parent.mkdir(parents=True, exist_ok=True)
                    made.digests[inner] = _write(
                        archive, member, place, settings if "/".join(parts) in marked else None
                    )
                    _adorn(place, member, is_root)
                elif member.issym() or member.islnk():
                    links.append((inner, member.linkname, member.issym()))
                else:
                    made.refused.append(inner)
                    continue
                if not is_root or not member.isfile():
                    made.owners[inner] = (member.uid, member.gid, member.mode)
                if not left and key != "system":
                    hashed.enough = True
                    break
        if not hashed.enough and hashed.digest.hexdigest() != image.digest:
            raise BadRecord(
                f"The system image “{image.path.name}” is not the one that was planned with; nothing was written.",
                "Plan again with this one.",
            )
        for inner, target, symbolic in links:
            _link(folder, prefix, inner, target, symbolic, made)
        for place, member in reversed(folders):
            _adorn(place, member, is_root)
    except OSError as error:
        raise BadRecord(
            f"The files of the system image cannot be laid out ({error.strerror}); nothing was written.",
            "Free space where the plan stands.",
        ) from error
    return made


def _write(archive: tarfile.TarFile, member: tarfile.TarInfo, place: Path, settings: Mapping[str, str] | None) -> bytes:
    """One file, holes as holes; returns its checksum."""
    digest = blake3(max_threads=1)
    flags = os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW
    with suppress(FileNotFoundError):
        place.unlink()
    with os.fdopen(os.open(place, flags, 0o600), "wb") as out:
        if settings is not None:
            data = replaced(_read(archive, member, _MOST_SETTINGS_BYTES), settings)
            digest.update(data)
            out.write(data)
            return digest.digest()
        sparse = member.issparse()
        for piece in _contents(archive, member):
            digest.update(piece)
            if sparse and not bytes(piece).strip(b"\0"):
                out.seek(len(piece), os.SEEK_CUR)
            else:
                out.write(piece)
        if sparse:
            out.truncate(member.size)
    return digest.digest()


def _contents(archive: tarfile.TarFile, member: tarfile.TarInfo) -> Iterator[memoryview]:
    """A file of the archive, which has been come to just now, in pieces as they are unpacked."""
    forward: Any = archive.fileobj
    if not member.issparse():
        forward.seek(member.offset_data)
        yield from forward.pieces(member.size)
    elif (source := archive.extractfile(member)) is not None:
        while piece := source.read(_PIECE):
            yield memoryview(piece)


def _adorn(place: Path, member: tarfile.TarInfo, is_root: bool) -> None:
    """Owner, permissions, attributes and date, as far as the folder's filesystem and our rights go."""
    if is_root:
        with suppress(OSError):
            os.chown(place, member.uid, member.gid, follow_symlinks=False)
    with suppress(OSError):
        place.chmod(stat.S_IMODE(member.mode) | (0 if is_root else 0o600))
    for name, value in member.pax_headers.items():
        if name.startswith(_XATTR):
            with suppress(OSError):
                os.setxattr(place, name[len(_XATTR) :], value.encode("utf-8", "surrogateescape"), follow_symlinks=False)
    with suppress(OSError):
        os.utime(place, (member.mtime, member.mtime), follow_symlinks=False)


def _link(folder: Path, prefix: tuple[str, ...], inner: str, target: str, symbolic: bool, made: LaidOut) -> None:
    """Links are made when every file is there. A hard link leads to a file of the same volume, or is refused."""
    place = folder / inner
    place.parent.mkdir(parents=True, exist_ok=True)
    if symbolic:
        with suppress(FileExistsError):
            place.symlink_to(target)
        return
    parts = safe_parts(target)
    if parts is None or parts[: len(prefix)] != prefix:
        made.refused.append(inner)
        return
    of = folder.joinpath(*parts[len(prefix) :])
    if not of.is_file() or of.is_symlink():
        made.refused.append(inner)
        return
    with suppress(FileExistsError):
        os.link(of, place, follow_symlinks=False)
    digest = made.digests.get("/".join(parts[len(prefix) :]))
    if digest is not None:
        made.digests[inner] = digest


def is_system_image(path: Path) -> bool:
    """Whether a file can be read as one."""
    try:
        inspect_system(path)
    except NeogenesisError:
        return False
    return True

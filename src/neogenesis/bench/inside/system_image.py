"""System images: an archive (tar, packed with zstd) with a description and a folder for each volume that it fills.

Everything in it is foreign: names that lead out are refused, and files are laid out by `laying`.
"""

from __future__ import annotations

import queue
import struct
import tarfile
import threading
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import closing, contextmanager, suppress
from dataclasses import dataclass
from pathlib import Path
from typing import IO, Any, Literal, Self

import msgspec
import zstandard
from blake3 import blake3

from neogenesis.bench.inside.laying import LaidOut, Layer, Marks, extended_attributes
from neogenesis.bench.inside.wim import is_wim, wim_facts
from neogenesis.core.errors import BadArgument, BadRecord, NeogenesisError
from neogenesis.core.reinstall.giving import Destination
from neogenesis.core.reinstall.names import nameable
from neogenesis.core.reinstall.persons import Account, accounts_in
from neogenesis.core.reinstall.returned import Standing
from neogenesis.core.reinstall.system import DESCRIPTIONS, SystemDescription, read_description, replaced
from neogenesis.core.units import MIB, round_up

_PIECE = 1 << 20
_BLOCK = 4096
_PIECES_AHEAD = 8
_MOST_MEMBERS, _MOST_BYTES, _MOST_SETTINGS_BYTES, _MOST_LOADER = 5_000_000, 1 << 46, 64 * MIB, MIB
#: About what the loaders of the NT family take, with their fonts and languages.
_STARTUP_BYTES = 48 * MIB
_FIRST_PERSON = 1000
Told = Callable[[int], None]


@dataclass(frozen=True, slots=True)
class InspectedSystem:
    """What stands in an image. Bytes are what the files take on a volume of blocks of 4 KiB, by the key of a part.

    `standing` is what it puts among people's folders, `accounts` the people whom it knows. Of an image with several
    `editions` it is the one with the number `edition`.
    """

    path: Path
    description: SystemDescription
    digest: str
    size_bytes: int
    bytes_by_key: dict[str, int]
    files_by_key: dict[str, int]
    boot_code: bytes
    core: bytes
    form: Literal["archive", "wim"] = "archive"
    standing: tuple[Standing, ...] = ()
    accounts: tuple[Account, ...] = ()
    editions: tuple[str, ...] = ()
    edition: int = 1

    @property
    def destination(self) -> Destination:
        """What people's files would go to."""
        return Destination(self.description.family, self.accounts, self.standing)


class _Member(tarfile.TarInfo):
    """A member whose header is read in a quarter of the library's time where it is an ordinary one; an archive of a
    system has two headers for each file, and two sums of each header are half of what reading it takes.
    """

    @classmethod
    def frombuf(cls, buf: bytes | bytearray, encoding: str, errors: str) -> Self:
        if len(buf) != tarfile.BLOCKSIZE or buf[156:157] not in _ORDINARY:
            return super().frombuf(buf, encoding, errors)
        try:
            said = _octal(buf[148:156])
            if sum(buf) - sum(buf[148:156]) + _BLANKS != said:
                return super().frombuf(buf, encoding, errors)
            made = cls()
            made.chksum, made.type, made.size = said, bytes(buf[156:157]), _octal(buf[124:136])
            if made.type in _EXTENDED:  # what it says is of the next member
                return made
            made.mode, made.uid, made.gid = _octal(buf[100:108]), _octal(buf[108:116]), _octal(buf[116:124])
            made.mtime = _octal(buf[136:148])
        except ValueError:
            return super().frombuf(buf, encoding, errors)
        made.name = _text(buf[0:100], encoding, errors)
        made.linkname = _text(buf[157:257], encoding, errors)
        if made.type == tarfile.AREGTYPE and made.name.endswith("/"):
            made.type = tarfile.DIRTYPE
        if made.isdir():
            made.name = made.name.rstrip("/")
        if buf[345]:
            made.name = f"{_text(buf[345:500], encoding, errors)}/{made.name}"
        return made


#: Files, links, folders and extended headers: what has nothing of its own in the rest of its header.
_ORDINARY = frozenset((*tarfile.REGULAR_TYPES[:2], tarfile.LNKTYPE, tarfile.SYMTYPE, tarfile.DIRTYPE, b"x", b"g"))
_EXTENDED = (b"x", b"g")
#: The field of the sum itself counts as blanks.
_BLANKS = 8 * 0x20


def _octal(field: bytes | bytearray) -> int:
    """Raises ValueError for a number in another way of writing."""
    return int(bytes(field).partition(b"\0")[0].strip() or b"0", 8)


def _text(field: bytes | bytearray, encoding: str, errors: str) -> str:
    return bytes(field).partition(b"\0")[0].decode(encoding, errors)


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
                with tarfile.open(fileobj=forward, mode="r:", tarinfo=_Member) as archive:
                    yield archive, hashed
                while not hashed.enough and ahead.read():
                    pass
            while not hashed.enough and hashed.read(_PIECE):
                pass
    except (tarfile.TarError, zstandard.ZstdError, EOFError, ValueError, OverflowError, struct.error) as error:
        words = " ".join(str(error).split())[:120]
        raise BadRecord(
            f"The system image “{path.name}” is damaged or cut short ({words}).", "Fetch it again."
        ) from error


def inspect_system(path: Path, told: Told = lambda _: None, edition: str = "") -> InspectedSystem:
    """Read an image once, whole; of several editions the one of that number or name, else the first.

    Raises BadArgument when it or its edition is not there, BadRecord when it cannot be used.
    """
    try:
        size = path.stat().st_size
    except OSError as error:
        raise BadArgument(f"The system image “{path}” cannot be read ({error.strerror}).", "Check the name.") from error
    mark = (str(path.absolute()), size, path.stat().st_mtime_ns, edition)
    if mark not in _inspected:
        is_other_form = is_wim(path)
        if edition and not is_other_form:
            raise BadArgument(f"“{path.name}” has no editions to choose from.", "Leave --edition out.")
        _inspected.clear()
        _inspected[mark] = (
            _inspected_wim(path, size, told, edition) if is_other_form else _inspected_archive(path, size, told)
        )
    return _inspected[mark]


#: The image that was looked into last in this process, by its place, size, time and edition.
_inspected: dict[tuple[str, int, int, str], InspectedSystem] = {}
#: Where people's folders are on a system's volume.
_HOMES = ("home/", "users/")


def _inspected_archive(path: Path, size: int, told: Told) -> InspectedSystem:
    description: SystemDescription | None = None
    sizes: dict[str, tuple[int, int]] = {}
    small: dict[str, bytes] = {}
    among_people: list[tuple[str, Standing, tuple[int, int]]] = []
    count = 0
    with _members(path, told) as (archive, hashed):
        for member in archive:
            count += 1
            name = member_name(member.name)
            if name is None:
                raise BadRecord(
                    f"The system image “{path.name}” holds a name that leads out of it ({member.name[:80]}); "
                    "nothing was written.",
                    "Do not use it.",
                )
            if count > _MOST_MEMBERS or member.size > _MOST_BYTES or member.size < 0:
                raise BadRecord(f"The system image “{path.name}” is larger than any system.", "Do not use it.")
            if not name:
                continue
            top = name.partition("/")[0]
            if member.isfile() and name in DESCRIPTIONS:
                description = read_description(_read(archive, member, _MOST_SETTINGS_BYTES))
            elif member.isfile() and name.startswith("legacy/") and member.size <= _MOST_LOADER:
                small[name] = _read(archive, member, _MOST_LOADER)
            elif member.isfile() and name.endswith("/etc/passwd") and member.size <= _MOST_SETTINGS_BYTES:
                small[name] = _read(archive, member, _MOST_SETTINGS_BYTES)
            elif (inner := name[len(top) + 1 :]) and (top == "home" or inner.casefold().startswith(_HOMES)):
                among_people.append((top, _standing(archive, member, inner), (member.uid, member.gid)))
            held, files = sizes.get(top, (0, 0))
            own = round_up(_stored_bytes(member), _BLOCK) if member.isfile() else 0
            sizes[top] = (held + own + _BLOCK, files + 1)
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
    home = there.get("home")
    return InspectedSystem(
        path=path,
        description=description,
        digest=hashed.digest.hexdigest(),
        size_bytes=size,
        bytes_by_key={key: sizes[folder][0] for key, folder in there.items()},
        files_by_key={key: sizes[folder][1] for key, folder in there.items()},
        boot_code=small.get(description.boot_code, b"")[:440],
        core=small.get(description.core, b""),
        standing=tuple(
            _at_root(one, top == there.get("home")) for top, one, _ in among_people if top in there.values()
        ),
        accounts=_accounts(small.get(f"{there.get('system')}/etc/passwd", b""), among_people, home),
    )


def _standing(archive: tarfile.TarFile, member: tarfile.TarInfo, inner: str) -> Standing:
    if not member.isfile():
        return Standing(place=inner, is_folder=member.isdir())
    digest = blake3(max_threads=1)
    for piece in _contents(archive, member):
        digest.update(piece)
    made = f"blake3:{digest.hexdigest()}"
    return Standing(place=inner, is_folder=False, size_bytes=member.size, digest=made, modified_s=float(member.mtime))


def _at_root(one: Standing, is_home: bool) -> Standing:
    """With its place from the root of the whole system, also for what is on the volume of homes."""
    return msgspec.structs.replace(one, place=f"home/{one.place}") if is_home else one


def _accounts(
    passwd: bytes, among_people: Iterable[tuple[str, Standing, tuple[int, int]]], home: str | None
) -> tuple[Account, ...]:
    """By the list of accounts, and by homes that somebody owns who is not in it."""
    found = {one.name: one for one in accounts_in(passwd)}
    for top, one, (user, group) in among_people:
        place = one.place if top == home else one.place.removeprefix("home/")
        if one.is_folder and "/" not in place and user >= _FIRST_PERSON and (top == home or place != one.place):
            found.setdefault(place, Account(name=place, user=user, group=group))
    return tuple(found.values())


def _stored_bytes(member: tarfile.TarInfo) -> int:
    """Of a file with holes what is between them."""
    runs: Any = member.sparse
    return sum(length for _, length in runs) if member.issparse() else member.size


def _inspected_wim(path: Path, size: int, told: Told, edition: str) -> InspectedSystem:
    """The NT family's own image format: one of its editions, with a start-up volume from the loaders that it holds."""
    facts = wim_facts(path, edition)
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
        standing=facts.standing,
        editions=facts.editions,
        edition=facts.edition,
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
    kind: str = "ext4",
) -> LaidOut:
    """Put the files of one volume into an empty folder, place holders replaced. Raises BadRecord, or what `check` does.

    `told` hears of bytes of files, `check` is called often; both may end it. `kind` is the filesystem that the
    files are for. The system's own volume takes the archive to its end, and with it
    its checksum; others end with their last file.
    """
    if key not in image.bytes_by_key:  # a volume that the image knows nothing of
        return LaidOut()
    layer = Layer(folder, kind, told)
    top = image.description.trees[key].strip("/")
    marked = set(image.description.settings)
    left = image.files_by_key[key]
    try:
        with _members(image.path, lambda _: None) as (archive, hashed):
            for member in archive:
                check()
                name = member_name(member.name)
                if not name or not (name == top or name.startswith(f"{top}/")):
                    continue
                left -= 1
                if name != top:
                    _lay(layer, archive, member, name, top, settings if name in marked else None)
                if not left and key != "system":
                    hashed.enough = True
                    break
        if not hashed.enough and hashed.digest.hexdigest() != image.digest:
            raise BadRecord(
                f"The system image “{image.path.name}” is not the one that was planned with; nothing was written.",
                "Plan again with this one.",
            )
        return layer.finish()
    except OSError as error:
        raise BadRecord(
            f"The files of the system image cannot be laid out ({error.strerror}); nothing was written.",
            "Free space where the plan stands.",
        ) from error


def _lay(
    layer: Layer,
    archive: tarfile.TarFile,
    member: tarfile.TarInfo,
    name: str,
    top: str,
    settings: Mapping[str, str] | None,
) -> None:
    """One member of a tree; with `settings` it is a file with place holders."""
    inner = name[len(top) + 1 :]
    more = extended_attributes(member.pax_headers)
    marks = Marks(member.uid, member.gid, member.mode, member.mtime, more)
    if not layer.holds_owners and any(nameable(part, "nt") != part for part in inner.split("/")):
        layer.leave_out(inner)
    elif member.isdir():
        layer.add_folder(inner, marks)
    elif member.isfile():
        if settings is not None:
            pieces: Iterable[memoryview | bytes] = [replaced(_read(archive, member, _MOST_SETTINGS_BYTES), settings)]
        else:
            pieces = _contents(archive, member)
        holes = settings is None and member.issparse()
        layer.add_file(inner, pieces, member.size if holes else None, marks)
    elif member.issym():
        layer.add_symbolic_link(inner, member.linkname, marks)
    elif member.islnk():
        to = member_name(member.linkname) or ""
        layer.add_hard_link(inner, to.removeprefix(f"{top}/") if to.startswith(f"{top}/") else "")
    else:
        layer.leave_out(inner)


def member_name(name: str) -> str | None:
    """The name of a member without what says nothing; empty for the top, None for one that leads out of the archive."""
    if name.startswith("/") or "\0" in name:
        return None
    if "//" not in name and "./" not in name and not name.endswith(("/", "/..")) and name not in (".", ".."):
        return name  # as almost all are
    parts = [p for p in name.split("/") if p not in ("", ".")]
    return None if ".." in parts else "/".join(parts)


def _contents(archive: tarfile.TarFile, member: tarfile.TarInfo) -> Iterator[memoryview]:
    """A file of the archive, which has been come to just now, in pieces as they are unpacked."""
    forward: Any = archive.fileobj
    if not member.issparse():
        forward.seek(member.offset_data)
        yield from forward.pieces(member.size)
    elif (source := archive.extractfile(member)) is not None:
        while piece := source.read(_PIECE):
            yield memoryview(piece)


def is_system_image(path: Path) -> bool:
    """Whether a file can be read as one."""
    try:
        inspect_system(path)
    except NeogenesisError:
        return False
    return True

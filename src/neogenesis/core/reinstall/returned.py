"""Giving people's files back: which of them return, under which name, and what does not and why.

After malware nothing that can be run returns by itself. A file that a system cannot name is given a name that it can,
and that is said; of two files for one place both are kept.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator
from pathlib import PurePosixPath
from typing import ClassVar, Literal

from neogenesis.core.record import Record
from neogenesis.core.units import both_text

Kind = Literal["documents", "pictures", "films", "music", "mail", "archives", "programs", "other"]
_KINDS: dict[Kind, frozenset[str]] = {
    "documents": frozenset(
        [
            "pdf",
            "txt",
            "rtf",
            "doc",
            "docx",
            "odt",
            "xls",
            "xlsx",
            "ods",
            "csv",
            "ppt",
            "pptx",
            "odp",
            "md",
            "tex",
            "epub",
            "html",
            "htm",
        ]
    ),
    "pictures": frozenset(
        ["jpg", "jpeg", "png", "gif", "tif", "tiff", "bmp", "heic", "webp", "raw", "cr2", "nef", "dng", "svg"]
    ),
    "films": frozenset(["mp4", "mkv", "avi", "mov", "wmv", "mpg", "mpeg", "webm", "m4v"]),
    "music": frozenset(["mp3", "flac", "ogg", "wav", "m4a", "aac", "wma", "opus", "mid"]),
    "mail": frozenset(["eml", "mbox", "msg", "pst", "ost", "dbx", "ics", "vcf"]),
    "archives": frozenset(["zip", "7z", "rar", "tar", "gz", "tgz", "bz2", "xz", "zst", "cab", "iso"]),
    "programs": frozenset(
        [
            "exe",
            "com",
            "bat",
            "cmd",
            "scr",
            "msi",
            "msp",
            "ps1",
            "psm1",
            "vbs",
            "vbe",
            "js",
            "jse",
            "wsf",
            "wsh",
            "hta",
            "cpl",
            "dll",
            "sys",
            "drv",
            "ocx",
            "jar",
            "lnk",
            "pif",
            "reg",
            "sh",
            "run",
            "deb",
            "rpm",
            "appimage",
            "apk",
            "chm",
            "inf",
            "gadget",
            "msc",
            "url",
            "desktop",
            "elf",
            "so",
            "ko",
        ]
    ),
}
_MARKS = (b"MZ", b"\x7fELF", b"#!", b"\xca\xfe\xba\xbe", b"\xcf\xfa\xed\xfe")
#: What the NT family holds in no name.
_NOT_IN_NT = frozenset('<>:"|?*\\') | {chr(n) for n in range(32)}
_RESERVED = frozenset(
    {"con", "prn", "aux", "nul", *(f"com{n}" for n in range(1, 10)), *(f"lpt{n}" for n in range(1, 10))}
)
_LONGEST = 240
#: Files at the root of a system's volume that are its own.
_OF_SYSTEM = frozenset(
    {"pagefile.sys", "hiberfil.sys", "swapfile.sys", "bootmgr", "bootnxt", "swapfile", "vmlinuz", "initrd.img"}
)


class Held(Record, frozen=True, kw_only=True):
    """A file that could return: where it lies in the folder, where it was on its volume, and its checksum if known."""

    stored: str
    path: str
    size_bytes: int
    blake3: str = ""
    lost_bytes: int = 0
    modified_s: float | None = None


class GivenFile(Record, frozen=True, kw_only=True):
    """`place` is where it goes, from the root of its volume; `renamed` that it could not keep its name or place."""

    stored: str
    place: str
    size_bytes: int
    kind: Kind
    renamed: bool = False


class LeftOut(Record, frozen=True, kw_only=True):
    path: str
    why: str


class GivingBack(Record, frozen=True, kw_only=True):
    """What returns and what does not. `archives` are those that return: what is in them nobody looked at."""

    SCHEMA: ClassVar[str] = "neogenesis.returned/1"

    schema: str = SCHEMA
    files: tuple[GivenFile, ...]
    left_out: tuple[LeftOut, ...]
    archives: tuple[str, ...]

    @property
    def size_bytes(self) -> int:
        return sum(f.size_bytes for f in self.files)

    def kinds(self) -> dict[str, tuple[int, int]]:
        """Files and bytes by kind, the largest first."""
        count, size = Counter[str](), Counter[str]()
        for one in self.files:
            count[one.kind] += 1
            size[one.kind] += one.size_bytes
        return {kind: (count[kind], total) for kind, total in size.most_common()}

    def sentence(self) -> str:
        left = f", {len(self.left_out)} did not" if self.left_out else ""
        return f"{len(self.files)} files ({both_text(self.size_bytes)}) were given back{left}."


def kind_of_file(path: str, head: bytes = b"") -> Kind:
    """By its name, and for programs also by how it begins."""
    if head.startswith(_MARKS):
        return "programs"
    ending = PurePosixPath(path).suffix[1:].casefold()
    return next((kind for kind, endings in _KINDS.items() if ending in endings), "other")


def give_back(
    files: Iterable[tuple[Held, bytes]], family: str, programs: bool, kinds: frozenset[str] = frozenset()
) -> GivingBack:
    """What returns onto a system of that family. Each file comes with its first bytes. `kinds` empty means all."""
    given: list[GivenFile] = []
    left: list[LeftOut] = []
    archives: list[str] = []
    taken: set[str] = set()
    for held, head in files:
        kind = kind_of_file(held.path, head)
        if kind == "programs" and not programs:
            left.append(LeftOut(path=held.path, why="It can be run; after malware nothing like it returns by itself."))
            continue
        if kinds and kind not in kinds:
            left.append(LeftOut(path=held.path, why=f"It is of the kind {kind}, which was not asked for."))
            continue
        wanted = place_of(held.path, family)
        if wanted is None:
            left.append(LeftOut(path=held.path, why="It belongs to the old system, not to a person."))
            continue
        named = "/".join(_nameable(part, family) for part in wanted.split("/"))
        place = next(p for p in _alternatives(named) if p.casefold() not in taken)
        taken.add(place.casefold())
        given.append(
            GivenFile(stored=held.stored, place=place, size_bytes=held.size_bytes, kind=kind, renamed=place != wanted)
        )
        if kind == "archives":
            archives.append(place)
    return GivingBack(files=tuple(given), left_out=tuple(left), archives=tuple(archives))


def place_of(path: str, family: str) -> str | None:
    """Where a file of the old system's people goes on the new one; None for what is no person's."""
    parts = [p for p in path.replace("\\", "/").split("/") if p not in ("", ".", "..")]
    if not parts or (len(parts) == 1 and parts[0].casefold() in _OF_SYSTEM):
        return None
    top = parts[0].casefold()
    home = "home" if family == "linux" else "Users"
    if top in ("users", "home", "documents and settings"):
        if len(parts) < 3 or parts[1].casefold() in ("default", "default user", "all users"):
            return None
        inner = [home, parts[1], *parts[2:]]
        if len(parts) > 3 and parts[2].casefold() in ("appdata", "application data", "ntuser.dat"):
            return None
        return "/".join(inner)
    if top in ("windows", "program files", "program files (x86)", "programdata", "etc", "usr", "var", "bin", "lib"):
        return None
    return "/".join([home, "Public" if home == "Users" else "shared", "Returned", *parts])


def _nameable(part: str, family: str) -> str:
    """A name that the new system can hold."""
    if family != "linux":
        part = "".join("_" if c in _NOT_IN_NT else c for c in part).rstrip(" .") or "_"
        if part.split(".")[0].casefold() in _RESERVED:
            part = f"_{part}"
    while len(part.encode()) > _LONGEST:
        stem, dot, ending = part.rpartition(".")
        part = f"{stem[:-1]}{dot}{ending}" if stem and len(ending) < 20 else part[:-1]
    return part


def _alternatives(place: str) -> Iterator[str]:
    """The place itself, then others beside it."""
    yield place
    folder, slash, name = place.rpartition("/")
    stem, dot, ending = name.rpartition(".")
    if not stem:
        stem, dot, ending = name, "", ""
    number = 2
    while True:
        yield f"{folder}{slash}{stem} ({number}){dot}{ending}"
        number += 1

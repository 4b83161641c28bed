"""Entries as files of their own: the Boot Loader Specification, types 1 and 2, in the order its loader takes them.

Source: the specification itself ("Sorting", "Boot counting"), and the loader's manual page for `default`.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from functools import cmp_to_key

from neogenesis.core.boot.drives import BootDrive, Place
from neogenesis.core.boot.program import read_program, release_of
from neogenesis.core.survey import PartitionFacts

#: The type of a partition that holds entries beside the start-up partition.
EXTENDED_BOOT = "BC13C2FF-59E6-4262-A352-B275FD6F7172"
_COUNTED = re.compile(r"\+(\d+)(?:-(\d+))?$")
_MOST_ENTRIES, _LARGEST = 500, 1 << 16
_CPUS = {"x64": "x86_64", "ia32": "x86", "aa64": "arm64", "arm": "arm"}


@dataclass(frozen=True, slots=True)
class EntryFile:
    """`name` is the file's, in small letters and without what counts its tries; `left` is how many there are yet."""

    name: str
    place: Place
    fields: tuple[tuple[str, str], ...]
    program: str = ""
    left: int | None = None

    def first(self, key: str) -> str:
        return next((value for name, value in self.fields if name == key), "")

    def all(self, key: str) -> list[str]:
        return [value for name, value in self.fields if name == key]


def entries_of(place: Place, architecture: str) -> list[EntryFile]:
    """Of a start-up partition and the extended one of its drive, sorted: the first is taken unless another is named.

    An entry whose kernel or program is not there is none, as the loader has it.
    """
    drive, facts = place
    others = [p for p in drive.survey.partitions if p.type_id.upper() == EXTENDED_BOOT and p.number != facts.number]
    found: list[EntryFile] = []
    for volume in (facts, *others):
        found += entry_files(drive, volume)
        found += _programs(drive, volume)
    able = [one for one in found if _fits(one, architecture) and _is_there(one)]
    return sorted(able, key=cmp_to_key(_compared))


def entry_files(drive: BootDrive, facts: PartitionFacts) -> Iterator[EntryFile]:
    """Of one volume, newest first by name; type 1."""
    names = [n for n in drive.names(facts.number, "loader/entries") if n.casefold().endswith(".conf")]
    read = []
    for name in names[:_MOST_ENTRIES]:
        data = drive.read(facts.number, f"loader/entries/{name}", _LARGEST) or b""
        plain, left = _counted(name.casefold(), ".conf")
        read.append(EntryFile(plain, (drive, facts), _fields(data.decode("utf-8", "replace")), left=left))
    yield from sorted(read, key=cmp_to_key(_compared))


def _programs(drive: BootDrive, facts: PartitionFacts) -> Iterator[EntryFile]:
    """Type 2: kernels that carry all they need."""
    for name in drive.names(facts.number, "EFI/Linux")[:_MOST_ENTRIES]:
        if not name.casefold().endswith(".efi"):
            continue
        path = f"EFI/Linux/{name}"
        data = drive.read(facts.number, path)
        program = read_program(data) if data is not None else None
        if data is None or program is None or not {".osrel", ".linux"} <= set(program.sections):
            continue
        release = release_of(data)
        plain, left = _counted(name.casefold(), ".efi")
        title = release.get("PRETTY_NAME", "")
        version = release.get("IMAGE_VERSION") or release.get("VERSION") or release.get("VERSION_ID") or ""
        key = release.get("IMAGE_ID") or release.get("ID") or ""
        fields = (("title", title), ("version", version), ("sort-key", key))
        yield EntryFile(plain, (drive, facts), fields, path, left)


def _counted(name: str, ending: str) -> tuple[str, int | None]:
    found = _COUNTED.search(name.removesuffix(ending))
    if found is None:
        return name, None
    return name.removesuffix(ending)[: found.start()] + ending, int(found[1][:6])


def _fields(text: str) -> tuple[tuple[str, str], ...]:
    lines = [line.strip().split(None, 1) for line in text.splitlines() if not line.strip().startswith("#")]
    return tuple((words[0], words[1].strip()) for words in lines if len(words) == 2)


def _fits(one: EntryFile, architecture: str) -> bool:
    stated = one.first("architecture").casefold()
    return not stated or _CPUS.get(stated, stated) == architecture


def _is_there(one: EntryFile) -> bool:
    drive, facts = one.place
    path = one.program or one.first("linux") or one.first("efi")
    return bool(path) and drive.find(facts.number, path) is not None


def default_of(entries: list[EntryFile], pattern: str) -> EntryFile | None:
    """The entry that a pattern names, else the first; None without any."""
    if pattern:
        wanted = _pattern(pattern.casefold())
        named = next((e for e in entries if wanted.fullmatch(e.name)), None)
        if named is not None:
            return named
    return entries[0] if entries else None


def _pattern(text: str) -> re.Pattern[str]:
    return re.compile("".join({"*": ".*", "?": "."}.get(c, re.escape(c)) for c in text[:200]), re.DOTALL)


def _compared(one: EntryFile, other: EntryFile) -> int:
    """Those without tries left last; with a key before those without; newest first."""
    spent = (one.left == 0) - (other.left == 0)
    if spent:
        return spent
    mine, theirs = one.first("sort-key"), other.first("sort-key")
    if bool(mine) != bool(theirs):
        return -1 if mine else 1
    if mine and theirs:
        for a, b in ((mine, theirs), (one.first("machine-id"), other.first("machine-id"))):
            if a != b:
                return -1 if a < b else 1
        newer = compare_versions(other.first("version"), one.first("version"))
        if newer:
            return newer
    return compare_versions(other.name, one.name)


def compare_versions(one: str, other: str) -> int:
    """Below, at or above 0, as the specification sorts versions: numbers by value, `~` before all else."""
    a, b = one, other
    while a or b:
        a, b = _significant(a), _significant(b)
        if a.startswith("~") or b.startswith("~"):
            if not (a.startswith("~") and b.startswith("~")):
                return -1 if a.startswith("~") else 1
            a, b = a[1:], b[1:]
            continue
        if not a or not b:
            return bool(a) - bool(b)
        for sign in "-^.":
            if a.startswith(sign) or b.startswith(sign):
                if not (a.startswith(sign) and b.startswith(sign)):
                    return -1 if a.startswith(sign) else 1
                a, b = a[1:], b[1:]
                break
        else:
            numbers = a[:1].isdigit() or b[:1].isdigit()
            of = re.compile(r"[0-9]*" if numbers else r"[A-Za-z]*")
            mine, theirs = of.match(a), of.match(b)
            x, y = (mine[0] if mine else ""), (theirs[0] if theirs else "")
            if numbers:
                first, second = int(x[:18] or "-1"), int(y[:18] or "-1")
                if first != second:
                    return -1 if first < second else 1
            elif x != y:
                return -1 if x < y else 1
            if not x and not y:
                return (a > b) - (a < b)
            a, b = a[len(x) :], b[len(y) :]
    return 0


def _significant(text: str) -> str:
    return re.sub(r"^[^0-9A-Za-z~.^-]+", "", text)

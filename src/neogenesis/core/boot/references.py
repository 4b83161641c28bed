"""Where a drive names disks, partitions and volumes by identity: in menus, fstab, loaders, boot stores and hives.

Every reference is parsed with its meaning; another identity is put into exactly that field, in a file of the same
length. A file that is not kept as it is, or a volume with an open journal, is refused.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from typing import Literal

from neogenesis.core.boot.drives import BootDrive
from neogenesis.core.boot.store import STORES, partition_in
from neogenesis.core.errors import Damaged, Refused
from neogenesis.core.store import WritableStore
from neogenesis.core.survey import PartitionFacts
from neogenesis.core.system.tree import HiveKey

Kind = Literal["volume", "partition"]
_LARGEST_TEXT, _LARGEST_STORE = 4 << 20, 512 << 20
_MENUS = ("grub/grub.cfg", "boot/grub/grub.cfg", "boot/grub2/grub.cfg", "grub2/grub.cfg", "etc/fstab", "etc/crypttab")
_DEEPEST = 6
#: Where the NT family keeps which volume bears which drive letter.
LETTERS = "Windows/System32/config/SYSTEM"
_WORD = re.compile(rb"[^\s;]+")
_IDENTITY = re.compile(
    rb"[0-9A-Fa-f]{8}(?:-[0-9A-Fa-f]{4}){3}-[0-9A-Fa-f]{12}|[0-9A-Fa-f]{16}|"
    rb"[0-9A-Fa-f]{4}-[0-9A-Fa-f]{4}|[0-9A-Fa-f]{8}-[0-9A-Fa-f]{2}"
)
_KEYED = re.compile(
    rb"(?:(?P<key>[A-Za-z_.]{1,40})=)?[\"']?(?:(?P<sort>UUID|PARTUUID)=|/dev/disk/by-(?P<link>uuid|partuuid)/)[\"']?"
)
_SEARCHES = (b"search.fs_uuid",)
_BY_IDENTITY = (b"--fs-uuid", b"-u")
_DEVICE_TYPE, _LEAST_ELEMENT = "1", 0x30


@dataclass(frozen=True, slots=True)
class Reference:
    """`start` and `end` are bytes of the text; `meaning` is search, root, resume, swap, other or `mount:PLACE`."""

    start: int
    end: int
    value: str
    kind: Kind
    meaning: str


@dataclass
class Renaming:
    """New identities by old ones: texts in small letters, `raw` as GUIDs stand in hives, `signature` of an MBR disk."""

    volumes: dict[str, str] = field(default_factory=dict)
    partitions: dict[str, str] = field(default_factory=dict)
    raw: dict[bytes, bytes] = field(default_factory=dict)
    signature: tuple[bytes, bytes] | None = None

    def of(self, reference: Reference) -> str | None:
        return (self.volumes if reference.kind == "volume" else self.partitions).get(reference.value.casefold())


# Texts


def references(text: bytes, is_fstab: bool = False) -> list[Reference]:
    """All that a menu, a list of mounts or a line of options names by identity."""
    found: list[Reference] = []
    at = 0
    for line in text[:_LARGEST_TEXT].split(b"\n"):
        words = [(at + m.start(), m[0]) for m in _WORD.finditer(line)]
        at += len(line) + 1
        if not words or words[0][1].startswith(b"#"):
            continue
        found += _of_line(words, _mount(words) if is_fstab else "")
    return found


def _mount(words: Sequence[tuple[int, bytes]]) -> str:
    if len(words) > 2 and words[2][1] == b"swap":
        return "swap"
    return f"mount:{words[1][1].decode('utf-8', 'replace')}" if len(words) > 1 else "other"


def _of_line(words: Sequence[tuple[int, bytes]], meaning: str) -> Iterator[Reference]:
    searching = by_identity = False
    for n, (at, word) in enumerate(words):
        if word.startswith(b"search") or word in _SEARCHES:
            searching, by_identity = True, word in _SEARCHES
        elif searching and word in _BY_IDENTITY:
            by_identity = True
        elif searching and not word.startswith(b"-"):
            one = _plain(at, word, "volume", "search") if by_identity else None
            if one is not None:
                yield one
                by_identity = False
        keyed = _KEYED.match(word)
        if keyed is None or (meaning and n):
            continue
        kind: Kind = "partition" if b"part" in (keyed["sort"] or keyed["link"]).lower() else "volume"
        key = (keyed["key"] or b"").decode().casefold()
        means = meaning or (key if key in ("root", "resume") else "other")
        one = _plain(at + keyed.end(), word[keyed.end() :], kind, means)
        if one is not None:
            yield one


def _plain(at: int, word: bytes, kind: Kind, meaning: str) -> Reference | None:
    """An identity that is the whole of a word but for quotes."""
    inner = word.strip(b"\"'")
    start = at + (len(word) - len(word.lstrip(b"\"'")))
    if _IDENTITY.fullmatch(inner) is None:
        return None
    return Reference(start, start + len(inner), inner.decode(), kind, meaning)


def replaced(text: bytes, fresh: Callable[[Reference], str | None], is_fstab: bool = False) -> bytes:
    """The text with other identities where `fresh` gives one of the same length, in the letters that stand there."""
    new = bytearray(text)
    for one in references(text, is_fstab):
        value = fresh(one)
        if value is None or len(value) != len(one.value):
            continue
        new[one.start : one.end] = (value.upper() if one.value.isupper() else value.lower()).encode()
    return bytes(new)


# Files that hold such texts


def texts(drive: BootDrive, facts: PartitionFacts) -> Iterator[str]:
    """Menus, lists and entries of a volume, as they are spelled there."""
    for path in (*_MENUS, "loader/loader.conf"):
        spelled = drive.find(facts.number, path)
        if spelled is not None:
            yield spelled
    for name in drive.names(facts.number, "loader/entries"):
        if name.casefold().endswith(".conf"):
            yield f"loader/entries/{name}"
    yield from below(drive, facts, (".cfg", ".conf"))


def below(drive: BootDrive, facts: PartitionFacts, endings: tuple[str, ...]) -> Iterator[str]:
    """Files with such endings below the folder of loaders."""
    folders = [(found, 0)] if (found := drive.find(facts.number, "EFI")) is not None else []
    while folders:
        folder, depth = folders.pop()
        for name in drive.names(facts.number, folder):
            if name.casefold().endswith(endings):
                yield f"{folder}/{name}"
            elif depth < _DEEPEST and len(folders) < 2000:
                folders.append((f"{folder}/{name}", depth + 1))


def named_by(drive: BootDrive, kind: Kind) -> set[str]:
    """Identities of that kind which texts and hives of a drive name, in small letters."""
    found: set[str] = set()
    for facts in drive.survey.partitions:
        for path in texts(drive, facts):
            data = drive.read(facts.number, path, _LARGEST_TEXT) or b""
            found |= {r.value.casefold() for r in references(data, path.endswith("fstab")) if r.kind == kind}
    return found


def letters_of(drive: BootDrive) -> set[bytes]:
    """How the systems of a drive know the volumes that bear letters."""
    found: set[bytes] = set()
    for facts in drive.survey.partitions:
        tree, path = drive.tree(facts.number), drive.find(facts.number, LETTERS)
        if tree is not None and path is not None:
            devices = _keys(tree, path, "MountedDevices", 0)
            found |= {devices.raw(name) for name in devices.values} if devices is not None else set()
    return found - {b""}


def _keys(tree: object, path: str, name: str, depth: int) -> HiveKey | None:
    try:
        return tree.hive(path, [(name, depth)])[0]  # type: ignore[attr-defined, no-any-return]
    except Damaged:
        return None


# Writing


def closed_because(drive: BootDrive, facts: PartitionFacts) -> str:
    """Why nothing may be written into a volume now; empty where it may."""
    volume = facts.volume
    if volume.hibernated:
        return f"{facts.title} belongs to a system that sleeps"
    sleeping = any(p.volume.kind == "swap" and p.volume.hibernated for p in drive.survey.partitions)
    if sleeping and volume.kind in ("ext2", "ext3", "ext4", "btrfs", "xfs"):
        return f"{facts.title} belongs to a system that sleeps in its swap volume"
    if volume.dirty and volume.kind not in ("vfat", "exfat"):
        return f"{facts.title} was not shut down fully, and its journal is still open"
    return ""


def refuse_closed(drive: BootDrive, facts: PartitionFacts) -> None:
    """Raises Refused for a volume that nothing may be written into."""
    why = closed_because(drive, facts)
    if why:
        raise Refused("volume-open", f"{why}; nothing was written.", "Start that system once and shut it down fully.")


def rename(
    drive: BootDrive,
    store: WritableStore,
    names: Renaming,
    fresh: Callable[[Reference], str | None] | None = None,
) -> list[str]:
    """Every reference on the drive that has another identity now; returns the files that are changed.

    `fresh` gives it by the meaning of a reference in a text, where the identity alone does not. Raises Refused for one
    that cannot be changed where it stands.
    """
    of = fresh or names.of
    changed: list[str] = []
    for facts in drive.survey.partitions:
        for path in dict.fromkeys(texts(drive, facts)):
            data = drive.read(facts.number, path, _LARGEST_TEXT) or b""
            new = replaced(data, of, path.endswith("fstab"))
            changed += _changed(drive, facts, path, store, data, new)
        for path in below(drive, facts, (".efi",)):
            changed += _in_program(drive, facts, path, store, of)
        for path in (*STORES, LETTERS):
            spelled = drive.find(facts.number, path)
            if spelled is not None and (names.raw or names.signature):
                is_store = path in STORES
                pairs = {v: _renamed(v, names, is_store) for v in hive_values(drive, facts, spelled, is_store)}
                changed += rewrite_values(drive, facts, spelled, store, pairs)
    return changed


def _renamed(value: bytes, names: Renaming, is_store: bool) -> bytes:
    """A parsed value with other identities in its fields."""
    for old, new in names.raw.items():
        value = value.replace(old, new)
    if names.signature is not None:
        before, after = names.signature
        if is_store:
            named = partition_in(value)
            if len(named) == 28 and named[24:] == before:
                value = value[:0x38] + after + value[0x3C:]
        elif len(value) == 12 and value[:4] == before:
            value = after + value[4:]
    return value


def _in_program(
    drive: BootDrive,
    facts: PartitionFacts,
    path: str,
    store: WritableStore,
    of: Callable[[Reference], str | None],
) -> list[str]:
    """The scripts that are built into a loader, and the command line of a unified kernel."""
    there, program = drive.program(facts.number, path)
    if not there or program is None or not program.script_ranges:
        return []
    data = drive.read(facts.number, path) or b""
    new = bytearray(data)
    for start, end in program.script_ranges:
        new[start:end] = replaced(data[start:end], of)
    if bytes(new) != data and program.signed:
        text = f"{path} on {facts.title} names it, and is signed; nothing was written."
        raise Refused("signed", text, "Have the system make that program anew.")
    return _changed(drive, facts, path, store, data, bytes(new))


def hive_values(drive: BootDrive, facts: PartitionFacts, path: str, is_store: bool) -> list[bytes]:
    """Device elements of a boot store, or what letters stand for; raises Refused for a hive that is not closed."""
    tree = drive.tree(facts.number)
    if tree is None:
        return []
    if not is_store:
        devices = _keys(tree, path, "MountedDevices", 0)
        found = [devices.raw(name) for name in devices.values] if devices is not None else []
        return list(dict.fromkeys(v for v in found if v))
    objects = _keys(tree, path, "Objects", 3)
    values: list[bytes] = []
    for one in objects.keys if objects is not None else ():
        elements = next((k for k in one.keys if k.name.casefold() == "elements"), None)
        for element in elements.keys if elements is not None else ():
            raw = element.raw("Element")
            if element.name[:1] == _DEVICE_TYPE and len(raw) >= _LEAST_ELEMENT:
                values.append(raw)
    values += [e.raw("Element") for e in _system_devices(objects)]
    return list(dict.fromkeys(v for v in values if len(v) >= _LEAST_ELEMENT))


def _system_devices(objects: HiveKey | None) -> Iterator[HiveKey]:
    for one in objects.keys if objects is not None else ():
        for part in one.keys:
            if part.name.casefold() == "elements":
                yield from (k for k in part.keys if k.name[:1] == "2" and k.raw("Element"))


def rewrite_values(
    drive: BootDrive, facts: PartitionFacts, path: str, store: WritableStore, pairs: dict[bytes, bytes]
) -> list[str]:
    """Whole values of a hive in its own place. Raises Refused for one that is not closed, or does not hold them."""
    pairs = {old: new for old, new in pairs.items() if old != new}
    if not pairs:
        return []
    tree = drive.tree(facts.number)
    data = (tree.read(path, _LARGEST_STORE) if tree is not None else None) or b""
    if data[:4] != b"regf" or data[4:8] != data[8:12]:
        text = f"{path} on {facts.title} was not closed; nothing was written."
        raise Refused("volume-open", text, "Start that system once and shut it down fully.")
    new = data
    for old, value in pairs.items():
        if len(old) != len(value) or old not in new:
            raise Refused("changed", f"{path} on {facts.title} does not hold what was read.", "Look at it anew.")
        new = new.replace(old, value)
    return _changed(drive, facts, path, store, data, new)


def _changed(
    drive: BootDrive, facts: PartitionFacts, path: str, store: WritableStore, data: bytes, new: bytes
) -> list[str]:
    if new == data:
        return []
    rewrite(drive, facts, path, store, new)
    return [f"{facts.title}: {path}"]


def rewrite(drive: BootDrive, facts: PartitionFacts, path: str, store: WritableStore, new: bytes) -> None:
    """Other contents of the same length in a file's own place.

    Raises Refused where it has none of its own (packed, sealed, with holes, inside its record), or its volume is open.
    """
    refuse_closed(drive, facts)
    tree = drive.tree(facts.number)
    data = tree.read(path, len(new) + 1) if tree is not None else None
    runs = tree.runs_of(path) if tree is not None else []
    if data is None or len(data) != len(new) or sum(end - start for start, end in runs) < len(new):
        text = f"{path} on {facts.title} is not kept as it is there; it cannot be changed from outside."
        raise Refused("not-in-place", text, "Have its own system change it.")
    at = 0
    for start, end in runs:
        length = min(end - start, len(data) - at)
        if length > 0 and new[at : at + length] != data[at : at + length]:
            store.write(facts.start_bytes + start, new[at : at + length])
        at += max(0, length)

"""Volumes that are one of several: whose set they belong to, which of it they are, and who their fellows are.

Sources: the on-disk format of btrfs (its wiki, “On-disk Format”: superblock and dev_item), the md superblocks of the
kernel's `include/uapi/linux/raid/md_p.h`, and the label and text metadata of LVM2 (its `lib/format_text`).
"""

from __future__ import annotations

import re
import struct

from neogenesis.core.errors import ReadFailed
from neogenesis.core.record import Record
from neogenesis.core.store import ReadableStore

_MD_RAW_BYTES = 4096
_SPARE = 0xFFFE  # and above: spare, faulty or journal
_LVM_MARK = b" LVM2 x[5A%r0N*>"
_MOST_METADATA = 4 << 20
_MOST_FELLOWS = 1024
_ANOTHER = "another one"


class Member(Record, frozen=True, kw_only=True):
    """`own` names this one inside `set_id`; `everyone` names all that the set needs, this one with them.

    `unnamed` more belong to it whose names do not stand on this one; where its set cannot be told at all it is one.
    """

    kind: str
    set_id: str
    own: str
    everyone: tuple[str, ...]
    unnamed: int = 0
    label: str = ""

    @property
    def is_alone(self) -> bool:
        """Whether the set is complete with this one."""
        return not self.missing(frozenset())

    @property
    def count(self) -> int:
        """How many the set needs."""
        return len(self.everyone) + self.unnamed

    def missing(self, others: frozenset[str]) -> tuple[str, ...]:
        """Who of the set is neither this one nor one of the `others`, by their own names."""
        there = others | {self.own}
        named = tuple(one for one in self.everyone if one not in there)
        unnamed = self.unnamed - len(there.difference(self.everyone))
        return named + (_ANOTHER,) * max(0, unnamed)

    @property
    def fellows(self) -> tuple[str, ...]:
        """The others, in words."""
        name = f"“{self.label}”" if self.label else self.set_id
        return tuple(f"{one} of {name}" for one in self.missing(frozenset()))


def _unknown(kind: str, own: str) -> Member:
    """One whose set cannot be told: not to be taken for the whole of it."""
    return Member(kind=kind, set_id=own, own=own, everyone=(own,), unnamed=1)


def btrfs_member(superblock: bytes) -> Member:
    """By the superblock, its first 1,024 bytes. How many devices there are stands in it, but not their numbers."""
    count, own = struct.unpack_from("<Q", superblock, 0x88)[0], struct.unpack_from("<Q", superblock, 0xC9)[0]
    label = superblock[0x12B:0x22B].split(b"\0")[0].decode("utf-8", "replace")
    name = f"device {own}"
    unnamed = count - 1 if 1 <= count <= _MOST_FELLOWS else 1
    set_id = superblock[0x20:0x30].hex()
    return Member(kind="btrfs", set_id=set_id, own=name, everyone=(name,), unnamed=unnamed, label=label)


def raid_member(store: ReadableStore, at: int) -> Member:
    """By the superblock that stands at byte `at`."""
    try:
        return _raid(store.read(at, min(_MD_RAW_BYTES, store.size_bytes - at)))
    except (ReadFailed, struct.error):
        return _unknown("raid", "a drive")


def _raid(raw: bytes) -> Member:
    label = ""
    if struct.unpack_from("<I", raw, 4)[0] == 1:
        count, number = struct.unpack_from("<I", raw, 92)[0], struct.unpack_from("<I", raw, 160)[0]
        role = struct.unpack_from("<H", raw, 256 + 2 * number)[0] if number < _MOST_FELLOWS else _SPARE
        set_id, label = raw[16:32].hex(), raw[32:64].split(b"\0")[0].decode("utf-8", "replace")
    else:
        count, role = struct.unpack_from("<I", raw, 40)[0], struct.unpack_from("<I", raw, 992 * 4 + 12)[0] & 0xFFFF
        set_id = (raw[20:24] + raw[52:64]).hex()
    if not 1 <= count <= _MOST_FELLOWS:
        return _unknown("raid", set_id)
    own = "a spare drive" if role >= _SPARE else f"drive {role + 1}"
    return Member(
        kind="raid", set_id=set_id, own=own, everyone=tuple(f"drive {n + 1}" for n in range(count)), label=label
    )


def lvm_member(store: ReadableStore, label: bytes) -> Member:
    """By the label, a sector of 512 bytes, and the text metadata that it leads to."""
    own = _lvm_id(label[32:64].decode("ascii", "replace"))
    try:
        return _lvm(store, label, own)
    except (ReadFailed, struct.error, ValueError):
        return _unknown("lvm", own)


def _lvm(store: ReadableStore, label: bytes, own: str) -> Member:
    """Metadata without any text belong to no group yet. Raises ValueError for what makes no sense."""
    at = struct.unpack_from("<I", label, 20)[0] + 40
    while struct.unpack_from("<Q", label, at)[0]:  # areas of data, then those of metadata, each list ended by zeros
        at += 16
    area = struct.unpack_from("<QQ", label, at + 16)[0]
    header = store.read(area, 512)
    base, size = struct.unpack_from("<QQ", header, 24)
    offset, length = struct.unpack_from("<QQ", header, 40)
    if header[4:20] != _LVM_MARK or length > _MOST_METADATA:
        raise ValueError("no metadata")
    if not length:
        return Member(kind="lvm", set_id=own, own=own, everyone=(own,))
    first = min(length, size - offset)  # the text may go round to the beginning of its area, behind the header
    text = (store.read(base + offset, first) + store.read(base + 512, length - first)).decode("utf-8", "replace")
    group, ids = _group_of(text)
    return Member(kind="lvm", set_id=group[1], own=own, everyone=tuple(map(_lvm_id, ids)), label=group[0])


def _lvm_id(text: str) -> str:
    """As its utilities print it, without what only separates."""
    return f"volume {text.replace('-', '')[:6]}"


def _group_of(text: str) -> tuple[tuple[str, str], list[str]]:
    """((name, id) of the volume group, ids of its physical volumes). Raises ValueError for text that makes no sense."""
    name = re.match(r"\s*([\w.+-]+)\s*\{", text)
    own = re.search(r'\bid = "([\w-]+)"', text)
    part = text.find("physical_volumes {")
    if name is None or own is None or part < 0:
        raise ValueError("no volume group")
    depth, at = 1, part + len("physical_volumes {")
    while at < len(text) and depth:
        depth += {"{": 1, "}": -1}.get(text[at], 0)
        at += 1
    ids = re.findall(r'\bid = "([\w-]+)"', text[part:at])
    if not ids:
        raise ValueError("a volume group without volumes")
    return (name[1], own[1]), ids

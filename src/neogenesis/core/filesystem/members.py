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

_MD_MAGIC = 0xA92B4EFC
_MD_RAW_BYTES = 4096
_SPARE = 0xFFFE  # and above: spare, faulty or journal
_LVM_MARK = b" LVM2 x[5A%r0N*>"
_MOST_METADATA = 4 << 20
_MOST_FELLOWS = 64


class Member(Record, frozen=True, kw_only=True):
    """`own` names this one inside `set_id`; `everyone` names all that the set needs, this one with them."""

    kind: str
    set_id: str
    own: str
    everyone: tuple[str, ...]
    label: str = ""

    @property
    def is_alone(self) -> bool:
        """Whether the set is complete with this one."""
        return set(self.everyone) <= {self.own}

    @property
    def fellows(self) -> tuple[str, ...]:
        """The others, in words."""
        name = f"“{self.label}”" if self.label else self.set_id
        return tuple(f"{one} of {name}" for one in self.everyone if one != self.own)


def member_in(store: ReadableStore, kind: str) -> Member | None:
    """Of a volume that was recognised as btrfs, raid or lvm; None where its set cannot be told."""
    readers = {"btrfs": _btrfs, "raid": _raid, "lvm": _lvm}
    try:
        return readers[kind](store) if kind in readers else None
    except (ReadFailed, struct.error, ValueError, IndexError):
        return None


def _btrfs(store: ReadableStore) -> Member | None:
    raw = store.read(0x10000, 0x400)
    count = struct.unpack_from("<Q", raw, 0x88)[0]
    own = struct.unpack_from("<Q", raw, 0xC9)[0]
    label = raw[0x12B:0x22B].split(b"\0")[0].decode("utf-8", "replace")
    if not 1 <= count <= _MOST_FELLOWS:
        return None
    numbers = {own, *[n for n in range(1, count + 2) if n != own][: count - 1]}
    everyone = tuple(f"device {n}" for n in sorted(numbers))
    return Member(kind="btrfs", set_id=raw[0x20:0x30].hex(), own=f"device {own}", everyone=everyone, label=label)


def _raid(store: ReadableStore) -> Member | None:
    size = store.size_bytes
    for at in (4096, 0, (size - 8192) & ~4095, (size & ~65535) - 65536):
        if at < 0 or at + _MD_RAW_BYTES > size:
            continue
        raw = store.read(at, _MD_RAW_BYTES)
        magic, major = struct.unpack_from("<II", raw)
        if magic != _MD_MAGIC:
            continue
        if major == 1:
            number = struct.unpack_from("<I", raw, 160)[0]
            count = struct.unpack_from("<I", raw, 92)[0]
            role = struct.unpack_from("<H", raw, 256 + 2 * number)[0] if number < 1024 else 0xFFFF
            set_id, label = raw[16:32].hex(), raw[32:64].split(b"\0")[0].decode("utf-8", "replace")
        else:
            count = struct.unpack_from("<I", raw, 40)[0]
            role = struct.unpack_from("<I", raw, 992 * 4 + 12)[0] & 0xFFFF if major == 0 else 0xFFFF
            set_id = (raw[20:24] + raw[52:64]).hex()
            label = ""
        if not 1 <= count <= _MOST_FELLOWS:
            return None
        own = "a spare drive" if role >= _SPARE else f"drive {role + 1}"
        everyone = tuple(f"drive {n + 1}" for n in range(count))
        return Member(kind="raid", set_id=set_id, own=own, everyone=everyone, label=label)
    return None


def _lvm(store: ReadableStore) -> Member | None:
    """The text metadata names the group and all its physical volumes; one without any belongs to no group yet."""
    for sector in range(4):
        label = store.read(sector * 512, 512)
        if label[:8] == b"LABELONE" and label[24:32] == b"LVM2 001":
            break
    else:
        return None
    at = struct.unpack_from("<I", label, 20)[0]
    own = _lvm_id(label[at : at + 32].decode("ascii"))
    at += 40
    while struct.unpack_from("<Q", label, at)[0]:  # areas of data, then those of metadata, each list ended by zeros
        at += 16
    area = struct.unpack_from("<QQ", label, at + 16)[0]
    header = store.read(area, 512)
    if header[4:20] != _LVM_MARK:
        return None
    base = struct.unpack_from("<Q", header, 24)[0]
    offset, length = struct.unpack_from("<QQ", header, 40)
    if not length:
        return Member(kind="lvm", set_id=own, own=own, everyone=(own,))
    if length > _MOST_METADATA:
        return None
    size = struct.unpack_from("<Q", header, 32)[0]
    first = min(length, size - offset)  # the text may go round to the beginning of its area, behind the header
    text = (store.read(base + offset, first) + store.read(base + 512, length - first)).decode("utf-8", "replace")
    group, ids = _group_of(text)
    everyone = tuple(_lvm_id(one) for one in ids[:_MOST_FELLOWS])
    return Member(kind="lvm", set_id=group[1], own=own, everyone=everyone, label=group[0])


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

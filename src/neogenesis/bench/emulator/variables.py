"""Boot entries in the variable store of an emulated UEFI firmware: put in before a start, read back after it.

Source: EDK2 `MdeModulePkg/Include/Guid/VariableFormat.h` (authenticated variables) and UEFI 2.10, section 3.1.3
(EFI_LOAD_OPTION). Only a store without variables is written, as the distribution ships it.
"""

from __future__ import annotations

import re
import struct

from neogenesis.core.boot.devpath import HardDrive, OtherNode, decode_path, encode_path, parse_path, path_text
from neogenesis.core.boot.entries import BootList
from neogenesis.core.errors import BadRecord
from neogenesis.core.machine import Machine
from neogenesis.core.machine.model import BootEntry
from neogenesis.core.table.gpt import guid_bytes

_STORE = guid_bytes("AAF32C78-947B-439A-A180-2E144EC37792")
_GLOBAL = guid_bytes("8BE4DF61-93CA-11D2-AA0D-00E098032B8C")
_STORE_HEAD, _HEAD = struct.Struct("<16sIBBHI"), struct.Struct("<HBBIQ16sIII16s")
_NON_VOLATILE_BOOT_RUNTIME, _ACTIVE, _ADDED = 7, 1, 0x3F
_MOST_ENTRIES = 200
_BOOT = re.compile("Boot[0-9A-F]{4}")


def store_with(empty: bytes, machine: Machine) -> bytes:
    """The firmware's empty store with the machine's entries, order and next start; raises BadRecord."""
    at = empty.find(_STORE)
    if at < 0:
        raise BadRecord("The firmware's variable store is of another kind.", "Install the package ovmf anew.")
    size = _STORE_HEAD.unpack_from(empty, at)[1]
    made = bytearray()
    numbers = []
    for entry in machine.boot_entries[:_MOST_ENTRIES]:
        option = _option(entry)
        if option is not None:
            numbers.append(_number(entry.number))
            made += _variable(f"Boot{numbers[-1]:04X}", option)
    order = [n for text in machine.boot_order if (n := _number(text)) in numbers] if machine.boot_order else numbers
    if order:
        made += _variable("BootOrder", struct.pack(f"<{len(order)}H", *order))
    if machine.boot_next:
        made += _variable("BootNext", struct.pack("<H", _number(machine.boot_next)))
    room = size - _STORE_HEAD.size
    if len(made) > room:
        raise BadRecord("There are more boot entries than the firmware has room for.", "Leave some out.")
    start = at + _STORE_HEAD.size
    return empty[:start] + bytes(made) + empty[start + len(made) :]


def _number(text: str) -> int:
    try:
        return int(text, 16) & 0xFFFF
    except ValueError as error:
        raise BadRecord(f"“{text[:20]}” is no number of a boot entry.", "Four hexadecimal digits are.") from error


def _option(entry: BootEntry) -> bytes | None:
    """EFI_LOAD_OPTION; None for a path that only this machine's own firmware can follow."""
    nodes = parse_path(entry.device_path)
    hard = next((n for n, node in enumerate(nodes) if isinstance(node, HardDrive)), None)
    short = nodes[hard:] if hard is not None else tuple(n for n in nodes if not isinstance(n, OtherNode))
    if not short:
        return None
    path = encode_path(short)
    attributes = _ACTIVE if entry.active else 0
    return struct.pack("<IH", attributes, len(path)) + (entry.label[:120] + "\0").encode("utf-16-le") + path


def _variable(name: str, data: bytes) -> bytes:
    spelled = (name + "\0").encode("utf-16-le")
    head = _HEAD.pack(0x55AA, _ADDED, 0, _NON_VOLATILE_BOOT_RUNTIME, 0, bytes(16), 0, len(spelled), len(data), _GLOBAL)
    whole = head + spelled + data
    return whole + b"\xff" * (-len(whole) % 4)


def entries_in(store: bytes) -> BootList:
    """The entries that a store holds now; raises BadRecord for a file that is no such store."""
    at = store.find(_STORE)
    if at < 0 or at + _STORE_HEAD.size > len(store):
        raise BadRecord("This is no variable store of an emulated firmware.", "Give a text listing instead.")
    end = min(len(store), at + _STORE_HEAD.unpack_from(store, at)[1])
    found: dict[str, bytes] = {}
    at += _STORE_HEAD.size
    while at + _HEAD.size <= end:
        mark, state, _, _, _, _, _, long_name, long_data, vendor = _HEAD.unpack_from(store, at)
        start = at + _HEAD.size
        if mark != 0x55AA or start + long_name + long_data > end:
            break
        name = store[start : start + long_name].decode("utf-16-le", "replace").rstrip("\0")
        if state == _ADDED and vendor == _GLOBAL:
            found[name] = store[start + long_name : start + long_name + long_data]
        at = start + long_name + long_data
        at += -at % 4
    entries = [_entry(name[4:], data) for name, data in sorted(found.items()) if _BOOT.fullmatch(name)]
    order, following = found.get("BootOrder", b""), found.get("BootNext", b"")
    return BootList(
        boot_entries=tuple(e for e in entries if e is not None),
        boot_order=tuple(f"{n:04X}" for (n,) in struct.iter_unpack("<H", order[: len(order) & ~1])),
        boot_next=f"{int.from_bytes(following[:2], 'little'):04X}" if len(following) >= 2 else None,
    )


def _entry(number: str, option: bytes) -> BootEntry | None:
    """From EFI_LOAD_OPTION; None for one whose lengths cannot be."""
    if len(option) < 8:
        return None
    attributes, long_path = struct.unpack_from("<IH", option)
    words = (option[n : n + 2] for n in range(6, len(option) - 1, 2))
    label = b"".join(iter(lambda: next(words, b"\0\0"), b"\0\0"))
    start = 6 + len(label) + 2
    try:
        path = path_text(decode_path(option[start : start + long_path]))
    except BadRecord:
        return None
    active = bool(attributes & _ACTIVE)
    return BootEntry(number=number, label=label.decode("utf-16-le", "replace"), device_path=path, active=active)

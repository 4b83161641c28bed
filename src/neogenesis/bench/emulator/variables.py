"""Boot entries in the variable store of an emulated UEFI firmware.

Source: EDK2 `MdeModulePkg/Include/Guid/VariableFormat.h` (authenticated variables) and UEFI 2.10, section 3.1.3
(EFI_LOAD_OPTION). Only a store without variables is written, as the distribution ships it.
"""

from __future__ import annotations

import struct

from neogenesis.core.boot.devpath import HardDrive, OtherNode, encode_path, parse_path
from neogenesis.core.errors import BadRecord
from neogenesis.core.machine import Machine
from neogenesis.core.machine.model import BootEntry
from neogenesis.core.table.gpt import guid_bytes

_STORE = guid_bytes("AAF32C78-947B-439A-A180-2E144EC37792")
_GLOBAL = guid_bytes("8BE4DF61-93CA-11D2-AA0D-00E098032B8C")
_STORE_HEAD, _HEAD = struct.Struct("<16sIBBHI"), struct.Struct("<HBBIQ16sIII16s")
_NON_VOLATILE_BOOT_RUNTIME, _ACTIVE, _ADDED = 7, 1, 0x3F
_MOST_ENTRIES = 200


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

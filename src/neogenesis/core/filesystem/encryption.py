"""In which state an encrypted volume is: on, waiting, suspended, or on its way. Only what stands in the clear is read.

Sources: "BitLocker Drive Encryption (BDE) format" of the libbde documentation; the LUKS on-disk formats 1 and 2.
"""

from __future__ import annotations

import json
import struct
from typing import Literal

from neogenesis.core.filesystem.signature import peek
from neogenesis.core.record import Record
from neogenesis.core.store import ReadableStore

State = Literal["on", "suspended", "encrypting", "decrypting", "off", "unknown"]
_FVE = b"-FVE-FS-"
_FVE_OFFSETS = struct.Struct("<3Q")
_FVE_STATES: dict[int, State] = {1: "off", 2: "encrypting", 4: "on", 5: "decrypting"}
_VMK, _VMK_VALUE = 0x0002, 0x0008
_PROTECTORS = {
    0x0000: "clear-key",
    0x0100: "tpm",
    0x0200: "startup-key",
    0x0500: "tpm-and-pin",
    0x0800: "recovery-password",
    0x2000: "password",
}
_LUKS = b"LUKS\xba\xbe"
_LUKS1_ACTIVE = 0x00AC71F3
_LARGEST_METADATA = 1 << 20
_MOST_ENTRIES = 200


class Encryption(Record, frozen=True, kw_only=True):
    """`encrypted_bytes` is how far it has come where it is on its way; `protectors` say what opens it, never how."""

    kind: Literal["fve", "luks1", "luks2"]
    state: State
    protectors: tuple[str, ...] = ()
    encrypted_bytes: int | None = None


def encryption_of(store: ReadableStore) -> Encryption | None:
    """None for a volume that is not encrypted; damaged records give the state `unknown`."""
    head = peek(store, 0, 512)
    if head[3:11] == _FVE:
        return _fve(store, head)
    if head.startswith(_LUKS):
        return _luks(store, head)
    return None


def _fve(store: ReadableStore, head: bytes) -> Encryption:
    for offset in _FVE_OFFSETS.unpack_from(head, 176):
        if not 512 <= offset < store.size_bytes:
            continue
        block = peek(store, offset, 112)
        if len(block) < 112 or block[:8] != _FVE:
            continue
        state = struct.unpack_from("<H", block, 12)[0]
        encrypted = struct.unpack_from("<Q", block, 16)[0]
        length = struct.unpack_from("<I", block, 64)[0]
        if not 48 <= length <= _LARGEST_METADATA:
            continue
        protectors = _fve_protectors(peek(store, offset + 64, length))
        found = _FVE_STATES.get(state, "unknown")
        if found == "on" and "clear-key" in protectors:
            found = "suspended"
        moving = found in ("encrypting", "decrypting") and encrypted <= store.size_bytes
        return Encryption(
            kind="fve",
            state=found,
            protectors=tuple(dict.fromkeys(p for p in protectors if p)),
            encrypted_bytes=encrypted if moving else None,
        )
    return Encryption(kind="fve", state="unknown")


def _fve_protectors(metadata: bytes) -> list[str]:
    found, at = [], 48
    for _ in range(_MOST_ENTRIES):
        if at + 8 > len(metadata):
            break
        size, entry, value = struct.unpack_from("<HHH", metadata, at)
        if size < 8:
            break
        if (entry, value) == (_VMK, _VMK_VALUE) and size >= 36 and at + 36 <= len(metadata):
            found.append(_PROTECTORS.get(struct.unpack_from("<H", metadata, at + 8 + 26)[0], "other"))
        at += size
    return found


def _luks(store: ReadableStore, head: bytes) -> Encryption:
    version = int.from_bytes(head[6:8], "big")
    if version == 1:
        slots = peek(store, 208, 8 * 48)
        active = sum(int.from_bytes(slots[n : n + 4], "big") == _LUKS1_ACTIVE for n in range(0, len(slots), 48))
        return Encryption(kind="luks1", state="on", protectors=("passphrase",) * min(active, 1))
    size = int.from_bytes(head[8:16], "big")
    if not 16384 <= size <= 8 << 20:
        return Encryption(kind="luks2", state="unknown")
    text = peek(store, 4096, size - 4096).split(b"\0", 1)[0]
    try:
        raw = json.loads(text)
        slots2 = raw.get("keyslots", {})
        wants = raw.get("config", {}).get("requirements", {}).get("mandatory", [])
    except (ValueError, AttributeError, RecursionError):
        return Encryption(kind="luks2", state="unknown")
    moving = isinstance(wants, list) and any("reencrypt" in str(w) for w in wants)
    passphrase = ("passphrase",) if isinstance(slots2, dict) and slots2 else ()
    return Encryption(kind="luks2", state="encrypting" if moving else "on", protectors=passphrase)

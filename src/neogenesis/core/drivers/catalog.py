"""What a catalogue file lists: the digests of a driver package's files, as its signer saw them.

A catalogue is a PKCS #7 message (RFC 2315) around a certificate trust list (MS-CAESO 2.2.2, "Certificate Trust List"):
each member carries a digest as its identifier or as indirect data. Whose signature it is, nobody looks at here; whether
the files are those that were signed is what is told.
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterator
from typing import Any

from asn1crypto import cms, core

_TRUST_LIST = "1.3.6.1.4.1.311.10.1"
_INDIRECT_DATA = "1.3.6.1.4.1.311.2.1.4"
#: Bytes of a digest by SHA-1 and by SHA-256.
_LENGTHS = (20, 32)
_MAGICS = {0x10B: 128, 0x20B: 144}


class _Attribute(core.Sequence):  # type: ignore[misc]
    _fields = [("type", core.ObjectIdentifier), ("values", core.SetOf, {"spec": core.Any})]


class _Attributes(core.SetOf):  # type: ignore[misc]
    _child_spec = _Attribute


class _Member(core.Sequence):  # type: ignore[misc]
    _fields = [("identifier", core.OctetString), ("attributes", _Attributes, {"optional": True})]


class _Members(core.SequenceOf):  # type: ignore[misc]
    _child_spec = _Member


class _TrustList(core.Sequence):  # type: ignore[misc]
    _fields = [
        ("usage", core.SequenceOf, {"spec": core.ObjectIdentifier}),
        ("list_identifier", core.OctetString, {"optional": True}),
        ("number", core.Integer, {"optional": True}),
        ("this_update", core.UTCTime),
        ("algorithm", core.Sequence),
        ("members", _Members, {"optional": True}),
        ("extensions", core.Any, {"explicit": 0, "optional": True}),
    ]


def listed_digests(data: bytes) -> frozenset[bytes] | None:
    """All digests in a catalogue; None for what is no catalogue that can be read."""
    try:
        message = cms.ContentInfo.load(data)
        if message["content_type"].native != "signed_data":
            return None
        inner = message["content"]["encap_content_info"]
        if inner["content_type"].dotted != _TRUST_LIST:
            return None
        return frozenset(_digests(_TrustList.load(_inside(inner["content"]))))
    except (ValueError, TypeError, KeyError, AttributeError, IndexError, UnicodeError, RecursionError):
        return None


def _inside(content: Any) -> bytes:
    """The list itself: the message holds it as it is, and newer ones as octets."""
    parsed = content.parsed if hasattr(content, "parsed") else content
    return bytes(parsed.native) if isinstance(parsed, core.OctetString) else bytes(parsed.untag().dump())


def _digests(found: _TrustList) -> Iterator[bytes]:
    for member in found["members"]:
        raw = bytes(member["identifier"].native)
        if len(raw) in _LENGTHS:
            yield raw
        else:
            yield from _spelled(raw)
        for attribute in member["attributes"]:
            if attribute["type"].dotted == _INDIRECT_DATA:
                for value in attribute["values"]:
                    digest = core.Sequence.load(core.Sequence.load(value.dump())[1].dump())[1].native
                    if isinstance(digest, bytes) and len(digest) in _LENGTHS:
                        yield digest


def _spelled(identifier: bytes) -> Iterator[bytes]:
    """A digest that older catalogues spell in hexadecimal, in letters of 16 bits; nothing for another name."""
    try:
        digest = bytes.fromhex(identifier.decode("utf-16-le").rstrip("\0"))
    except ValueError:
        return
    if len(digest) in _LENGTHS:
        yield digest


def digests_of(data: bytes | memoryview) -> frozenset[bytes]:
    """By which a catalogue may list a file: of all of it, and for a program of what its signature covers."""
    found = {hashlib.sha1(data, usedforsecurity=False).digest(), hashlib.sha256(data).digest()}
    covered = _covered(data)
    if covered:
        for padding in {0, -len(data) % 8}:
            for made in (hashlib.sha1(usedforsecurity=False), hashlib.sha256()):
                for part in covered:
                    made.update(part)
                made.update(bytes(padding))
                found.add(made.digest())
    return frozenset(found)


def _covered(data: bytes | memoryview) -> list[memoryview]:
    """What the signature of a program covers: all but its checksum, and its place and the signature itself.

    Source: "Windows Authenticode Portable Executable Signature Format", version 1.0. Nothing for what is no program.
    """
    view = memoryview(data)

    def number(at: int, size: int) -> int:
        return int.from_bytes(view[at : at + size], "little") if at + size <= len(view) else 0

    header = number(0x3C, 4)
    optional = header + 24
    place = _MAGICS.get(number(optional, 2))
    if bytes(view[:2]) != b"MZ" or bytes(view[header : header + 4]) != b"PE\0\0" or place is None:
        return []
    checksum, entry = optional + 64, optional + place
    start, length = number(entry, 4), number(entry + 4, 4)
    end = start if length and entry + 8 <= start <= len(view) else len(view)
    rest = view[end + length :] if end != len(view) else view[:0]
    return [view[:checksum], view[checksum + 4 : entry], view[entry + 8 : end], rest]

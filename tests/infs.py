"""INF files of our own, in all the ways in which they are written."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

DEVICE = r"PCI\VEN_1D0A&DEV_0042"
SUBSYSTEM = DEVICE + "&SUBSYS_00071D0A"


def inf(
    models: dict[str, Sequence[str]],
    *,
    makers: str = "",
    date: str = "03/04/2021",
    version: str = "1.0.0.0",
    kind: str = "Net",
    catalog: str = "driver.cat",
    more: str = "",
) -> str:
    """`models` are the lines of each models section by its name, such as `Models.NTamd64`."""
    decorations = [name.partition(".")[2] for name in models]
    listed = makers or "%Maker% = " + ", ".join(["Models", *(d for d in decorations if d)])
    lines = [
        "; made for tests",
        "[Version]",
        'Signature = "$Windows NT$"',
        f"Class = {kind}",
        "ClassGuid = {00000000-0000-0000-0000-000000000000}",
        "Provider = %Maker%",
        *([f"CatalogFile = {catalog}"] if catalog else []),
        f"DriverVer = {date},{version}" if date else "",
        "",
        "[Manufacturer]",
        listed,
    ]
    for name, some in models.items():
        lines += ["", f"[{name}]", *some]
    lines += [
        "",
        "[Install]",
        "CopyFiles = @driver.sys",
        more,
        "",
        "[Strings]",
        'Maker = "Ostrel"',
        'Title = "Ostrel Link; 2"',
    ]
    return "\r\n".join(lines) + "\r\n"


def line(*ids: str, section: str = "Install") -> str:
    return f"%Title% = {section}, {', '.join(ids)}"


def package(folder: Path, name: str, text: str, encoding: str = "utf-8", catalog: bool = True) -> Path:
    """A package: the INF, a driver file, and its catalogue."""
    folder.mkdir(parents=True, exist_ok=True)
    marks = {"utf-16-le": b"\xff\xfe", "utf-16-be": b"\xfe\xff", "utf-8-sig": b""}
    path = folder / name
    path.write_bytes(marks.get(encoding, b"") + text.encode(encoding))
    (folder / "driver.sys").write_bytes(b"MZ" + name.encode() * 40)
    if catalog:
        (folder / "driver.cat").write_bytes(b"0\x82")
    return path


def der(tag: int, *parts: bytes) -> bytes:
    """One value in DER (X.690): its tag, its length, what it holds."""
    held = b"".join(parts)
    size = len(held)
    length = (
        bytes([size])
        if size < 128
        else (n := -(-size.bit_length() // 8), bytes([128 + n]) + size.to_bytes(n, "big"))[1]
    )
    return bytes([tag]) + length + held


def oid(dotted: str) -> bytes:
    first, second, *rest = map(int, dotted.split("."))
    found = [40 * first + second]
    for number in rest:
        digits = [number & 127]
        while number := number >> 7:
            digits.insert(0, 128 | number & 127)
        found += digits
    return der(6, bytes(found))


def catalogue(digests: Sequence[bytes], by_text: bool = False) -> bytes:
    """A catalogue that lists those digests, each as its member's identifier and as indirect data; nobody signed it.

    `by_text`: the identifier is the digest in hexadecimal, in 16-bit letters, as older ones have it.
    """
    members = []
    for one in digests:
        kind = oid("1.3.14.3.2.26") if len(one) == 20 else oid("2.16.840.1.101.3.4.2.1")
        info = der(0x30, der(0x30, kind, der(5)), der(4, one))
        about = der(0x30, oid("1.3.6.1.4.1.311.2.1.25"), der(0xA0, der(4, bytes(8))))
        held = der(0x31, der(0x30, about, info))
        name = der(4, one.hex().upper().encode("utf-16-le") + b"\0\0") if by_text else der(4, one)
        members.append(der(0x30, name, der(0x31, der(0x30, oid("1.3.6.1.4.1.311.2.1.4"), held))))
    listed = der(
        0x30,
        der(0x30, oid("1.3.6.1.4.1.311.12.1.1")),
        der(4, bytes(16)),
        der(0x17, b"261202120000Z"),
        der(0x30, oid("1.3.6.1.4.1.311.12.1.2"), der(5)),
        der(0x30, *members),
    )
    inner = der(0x30, oid("1.3.6.1.4.1.311.10.1"), der(0xA0, listed))
    signed = der(0x30, der(2, b"\1"), der(0x31), inner, der(0x31))
    return der(0x30, oid("1.2.840.113549.1.7.2"), der(0xA0, signed))


def corpus(folder: Path) -> int:
    """More than 200 packages for other devices than DEVICE, in every encoding and decoration; how many."""
    encodings = ("utf-8", "utf-8-sig", "utf-16-le", "utf-16-be", "cp1252")
    decorations = ("NTamd64", "NTx86", "NTarm64", "NTamd64.10.0", "NTamd64.6.1", "NTamd64.10.0...19041", "NT.5.1")
    count = 0
    for n in range(240):
        decoration = decorations[n % len(decorations)]
        ids = [rf"PCI\VEN_1D0B&DEV_{n:04X}&SUBSYS_{k:04X}1D0B" for k in range(6)]
        text = inf({f"Models.{decoration}": [line(one) for one in ids]}, version=f"1.{n}.0.0")
        package(folder / f"p{n:03d}", f"p{n:03d}.inf", text, encodings[n % len(encodings)], catalog=n % 3 != 0)
        count += 1
    return count

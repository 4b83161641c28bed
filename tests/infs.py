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

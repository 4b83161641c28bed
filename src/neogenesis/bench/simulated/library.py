"""The demo bench's own library: stand-in systems as images that really start, a hardware list, and driver packages."""

from __future__ import annotations

import io
import json
import tarfile
from pathlib import Path

import zstandard
from blake3 import blake3

from neogenesis.bench.simulated.loaders import loader_for

_SYSTEMS = {
    "meridian-desktop": ("Meridian Desktop", "meridian", "/Meridian/System/release", "Meridian Desktop 11.4"),
    "fathom-linux": ("Fathom Linux", "linux", "/etc/fathom-release", "Fathom Linux 7"),
}
_MADE = 1_760_000_000
_MAKER = "PCI\\VEN_1D0A"
_DEVICES = (
    ("Harbour link", "Net", f"{_MAKER}&DEV_0042&SUBSYS_00071D0A", "link", "2024-03-11", "4.2.0.118"),
    ("Drive controller", "SCSIAdapter", f"{_MAKER}&DEV_0106&SUBSYS_00071D0A", "store", "2023-09-02", "2.0.9.4"),
    ("Graphics", "Display", f"{_MAKER}&DEV_0300&SUBSYS_00071D0A", "view", "2024-06-20", "31.0.4.12"),
    ("Bridge", "System", f"{_MAKER}&DEV_0600&SUBSYS_00071D0A", "board", "2022-11-30", "10.1.1.7"),
    ("Sound", "MEDIA", "HDAUDIO\\FUNC_01&VEN_1D0A&DEV_0403", "", "", ""),
    ("Camera", "Camera", "USB\\VID_1D0A&PID_0E01", "", "", ""),
)


def make_library(folder: Path) -> None:
    """Fill a library; without the distribution's loader the systems are left out."""
    packages = folder / "packages"
    packages.mkdir(parents=True, exist_ok=True)
    for name, (title, family, release, text) in _SYSTEMS.items():
        loader = loader_for(release)
        if loader:
            _system(folder / f"{name}.tar.zst", title, family, release, text, loader)
    for name, kind, device, stem, date, version in _DEVICES:
        if stem:
            _package(packages / stem, name, kind, device, date, version)
    devices = [
        {"name": name, "class": kind, "hardware_ids": [device], "compatible_ids": [], "has_driver": False}
        for name, kind, device, *_ in _DEVICES
    ]
    record = {
        "schema": "neogenesis.hardware/1",
        "architecture": "amd64",
        "system_version": "10.0.22631",
        "devices": devices,
    }
    (folder / "ticket-desk.hardware.json").write_text(json.dumps(record, indent=2), "utf-8")
    _source(folder)


def _source(library: Path) -> None:
    """What the harbour offers: what is had, a newer one of it, something else. It has the pace of a line."""
    share = library / "harbour"
    share.mkdir(exist_ok=True)
    items = []
    for path in sorted(library.glob("*.tar.zst")):
        title = path.name.removesuffix(".tar.zst")
        data = path.read_bytes()
        items.append(_item(path.name, data, "system", title, "2026-03-02"))
        if title == "meridian-desktop":
            newer = data + zstandard.ZstdCompressor().compress(b"")
            (share / f"{title}-11.5.tar.zst").write_bytes(newer)
            items.append(_item(f"{title}-11.5.tar.zst", newer, "system", title, "2026-10-19"))
    drivers = b"PK\5\6" + bytes(18)  # an archive without files
    (share / "pane-24-packages.zip").write_bytes(drivers)
    items.append(_item("pane-24-packages.zip", drivers, "drivers", "pane-24", "2026-08-30"))
    catalogue = {"schema": "neogenesis.catalogue/1", "items": items}
    (share / "catalogue.json").write_text(json.dumps(catalogue, indent=2), "utf-8")
    source = {"schema": "neogenesis.simulated-source/1", "folder": "harbour", "bytes_per_s": 4e6}
    (library / "harbour.source.json").write_text(json.dumps(source, indent=2), "utf-8")


def _item(name: str, data: bytes, kind: str, title: str, date: str) -> dict[str, object]:
    digest = blake3(data).hexdigest()
    return {"name": name, "size_bytes": len(data), "blake3": digest, "kind": kind, "title": title, "date": date}


def _system(path: Path, title: str, family: str, release: str, text: str, loader: bytes) -> None:
    about = {
        "schema": "neogenesis.system/1",
        "name": title,
        "family": family,
        "drivers_to": "Drivers",
        "says": text,
        "recipes": ["linux-uefi", "linux-uefi-home"] if family == "linux" else ["nt-uefi"],
    }
    held = {
        "neogenesis.system.json": json.dumps(about, indent=2).encode(),
        "startup/EFI/BOOT/BOOTX64.EFI": loader,
        f"system{release}": f"{text}\n".encode(),
        "system/readme.txt": b"A stand-in that starts, says its release, and does nothing more.\n" * 40,
    }
    with (
        path.open("wb") as file,
        zstandard.ZstdCompressor(level=9).stream_writer(file) as stream,
        tarfile.open(fileobj=stream, mode="w|", format=tarfile.PAX_FORMAT) as archive,
    ):
        for name, data in held.items():
            entry = tarfile.TarInfo(name)
            entry.size, entry.mode, entry.mtime = len(data), 0o644, _MADE
            archive.addfile(entry, io.BytesIO(data))


def _package(folder: Path, name: str, kind: str, device: str, date: str, version: str) -> None:
    folder.mkdir(exist_ok=True)
    year, month, day = date.split("-")
    text = (
        f'[Version]\nSignature = "$Windows NT$"\nClass = {kind}\nProvider = %Maker%\nCatalogFile = {folder.name}.cat\n'
        f"DriverVer = {month}/{day}/{year},{version}\n\n[Manufacturer]\n%Maker% = Models, NTamd64\n\n[Models.NTamd64]\n"
        f"%Title% = Install, {device}\n\n[Install]\nCopyFiles = @{folder.name}.sys\n\n"
        "[SourceDisksNames]\n1 = %Title%\n\n"
        f'[SourceDisksFiles]\n{folder.name}.sys = 1\n\n[Strings]\nMaker = "Ostrel"\nTitle = "Ostrel {name}"\n'
    )
    (folder / f"{folder.name}.inf").write_text(text, "utf-8")
    (folder / f"{folder.name}.sys").write_bytes(b"MZ" + folder.name.encode() * 3000)
    (folder / f"{folder.name}.cat").write_bytes(b"0\x82")

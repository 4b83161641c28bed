"""Installer discs of our own, in the forms in which installers come."""

from __future__ import annotations

import io
from pathlib import Path

import pycdlib

from tests.boots import BY_FILE, loader
from tests.drives import run

EFI_SCRIPT = "echo DISC-STARTED\nsleep 30\n"


def disc(
    path: Path,
    files: dict[str, bytes],
    udf: bool = False,
    uefi: bytes | None = None,
    legacy: bytes | None = None,
    hybrid: bool = False,
    label: str = "FATHOM_7",
) -> Path:
    """`uefi` and `legacy` are El Torito images; names of files are upper case in the plainest directory."""
    made = pycdlib.PyCdlib()
    made.new(interchange_level=3, joliet=None if udf else 3, udf="2.60" if udf else None, vol_ident=label)
    folders: set[str] = set()
    for n, (name, data) in enumerate(files.items()):
        parts = name.split("/")
        for depth in range(1, len(parts)):
            folder = "/".join(parts[:depth])
            if folder not in folders:
                folders.add(folder)
                where = {"udf_path": f"/{folder}"} if udf else {"joliet_path": f"/{folder}"}
                made.add_directory(f"/D{len(folders)}", **where)
        inner = {"udf_path": f"/{name}"} if udf else {"joliet_path": f"/{name}"}
        made.add_fp(io.BytesIO(data), len(data), f"/F{n}.;1", **inner)
    _boots(made, uefi, legacy)
    made.write(str(path))
    made.close()
    if hybrid:
        with path.open("r+b") as file:
            sectors = path.stat().st_size // 512
            entry = b"\x80\0\1\0\x17\xfe\xff\xff" + (0).to_bytes(4, "little") + sectors.to_bytes(4, "little")
            file.seek(446)
            file.write(entry.ljust(64, b"\0") + b"\x55\xaa")
    return path


def _boots(made: pycdlib.PyCdlib, uefi: bytes | None, legacy: bytes | None) -> None:
    if legacy is not None:
        made.add_fp(io.BytesIO(legacy), len(legacy), "/BOOT.;1")
        made.add_eltorito("/BOOT.;1", "/BOOT.CAT;1", boot_load_size=4, platform_id=0)
    if uefi is not None:
        made.add_fp(io.BytesIO(uefi), len(uefi), "/EFIIMG.;1")
        made.add_eltorito("/EFIIMG.;1", "/BOOT.CAT;1", platform_id=0xEF, efi=legacy is not None)


def efi_image(folder: Path, script: str = EFI_SCRIPT) -> bytes:
    """A small FAT volume with a loader, as firmware finds it in a disc's catalogue."""
    image, held = folder / "efi.img", folder / "BOOTX64.EFI"
    with image.open("wb") as file:
        file.truncate(3 << 20)
    run("mkfs.fat", image)
    held.write_bytes(loader(script))
    run("mmd", "-i", image, "::EFI", "::EFI/BOOT")
    run("mcopy", "-i", image, held, "::EFI/BOOT/BOOTX64.EFI")
    data = image.read_bytes()
    image.unlink()
    held.unlink()
    return data


#: Stands for a legacy loader.
LEGACY = b"\xfa" + b"\0" * 2047

FILES = {
    "EFI/BOOT/BOOTX64.EFI": b"",
    "README.TXT": b"Fathom Linux 7, made for tests\n",
    "pool/package one.deb": b"package " * 40_000,
}


def installer_files() -> dict[str, bytes]:
    return {**FILES, "EFI/BOOT/BOOTX64.EFI": loader(BY_FILE), "token.txt": b"TOKEN-ONE\n"}

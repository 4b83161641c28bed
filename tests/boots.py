"""Drives that really start in an emulated machine: small free loaders of the distribution on real volumes."""

from __future__ import annotations

from collections.abc import Sequence
from functools import cache
from pathlib import Path
from shutil import rmtree
from tempfile import mkdtemp

from tests.drives import LINUX, MIB, NT_DATA, STARTUP, Part, make_drive, run, spans

_MODULES = (
    *("normal", "search", "search_fs_uuid", "search_fs_file", "search_label", "part_gpt", "part_msdos", "fat", "ntfs"),
    *("ext2", "cat", "echo", "halt", "test", "configfile", "sleep", "chain", "read"),
)
_BOOT = Path("/usr/lib/systemd/boot/efi")
#: What a menu does that looks for its system by a file.
BY_FILE = "search --no-floppy --file --set=root /token.txt\ncat ($root)/token.txt\nsleep 30\n"


def by_uuid(uuid: str) -> str:
    return f"search --no-floppy --fs-uuid --set=root {uuid}\ncat ($root)/token.txt\nsleep 30\n"


@cache
def loader(script: str = "", prefix: str = "/EFI/x", modules: tuple[str, ...] = ()) -> bytes:
    """A UEFI program; without a script it reads `grub.cfg` below its prefix on the volume that it stands on.

    `modules` are built in beside the usual ones.
    """
    folder = Path(mkdtemp(prefix="neogenesis-loader-"))
    out, config = folder / "loader.efi", folder / "early.cfg"
    config.write_text(script)
    early = ("-c", config) if script else ()
    run("grub-mkimage", "-O", "x86_64-efi", "-o", out, "-p", prefix, *early, *_MODULES, *modules)
    data = out.read_bytes()
    for path in (out, config):
        path.unlink()
    folder.rmdir()
    return data


def unified(options: str, script: str = BY_FILE) -> bytes:
    """A program that carries a kernel and its command line; the kernel is a loader that starts as one does."""
    folder = Path(mkdtemp(prefix="neogenesis-unified-"))
    kernel = bytearray(loader(script))
    head = int.from_bytes(kernel[0x3C:0x40], "little")
    kernel[head + 68 : head + 70] = b"\1\0"  # the stub asks for an image of version 1 or later
    pieces = {"osrel": b"ID=meridian\nVERSION_ID=11\n", "cmdline": options.encode(), "linux": bytes(kernel)}
    asked: list[str | Path] = []
    for name, place in (("osrel", 0x20000), ("cmdline", 0x30000), ("linux", 0x2000000)):
        (folder / name).write_bytes(pieces[name])
        asked += ["--add-section", f".{name}={folder / name}", "--change-section-vma", f".{name}={place:#x}"]
    run("objcopy", *asked, _BOOT / "linuxx64.efi.stub", folder / "unified.efi")
    data = (folder / "unified.efi").read_bytes()
    rmtree(folder)
    return data


def entry_loader() -> bytes:
    """A loader that starts what stands in `loader/entries` and `EFI/Linux`."""
    return (_BOOT / "systemd-bootx64.efi").read_bytes()


def system(token: str, kind: str = "ntfs") -> Part:
    """A system volume that says its token when it is reached."""
    more = {"padding.bin": token.encode() * 400}  # not a record that fits beside its name
    return Part(24, NT_DATA if kind == "ntfs" else LINUX, kind, "System", {"token.txt": f"{token}\n".encode(), **more})


def startup(files: dict[str, bytes]) -> Part:
    return Part(20, STARTUP, "fat16", "START", files)


def drive(
    image: Path, token: str, files: dict[str, bytes], kind: str = "ntfs", first: bool = True, mib: int = 50
) -> Path:
    """A start-up partition with these files and a system volume; the start-up comes first, or last."""
    parts = [startup(files), system(token, kind)]
    return make_drive(image, mib, parts if first else parts[::-1])


def said_otherwise(image: Path, before: str, after: str) -> None:
    """Change the token of a copied drive: all else stays byte for byte."""
    data = image.read_bytes()
    assert len(before) == len(after) and before.encode() in data
    image.write_bytes(data.replace(before.encode(), after.encode()))


def legacy_drive(image: Path, token: str, code: str = "grub", active: bool = True) -> Path:
    """An MBR drive. `code` is none, grub (a core in the gap), or generic (one that goes to the active partition)."""
    mark = ", bootable" if active else ""
    lines = f"label: dos\nstart=2048, size=16384, type=83{mark}\nsize=49152, type=83\n"
    with image.open("wb") as file:
        file.truncate(50 * MIB)
    run("sfdisk", "-q", image, text=lines)
    (_, _), (start, size) = spans(image)
    volume = image.with_name(image.name + ".volume")
    with volume.open("wb") as file:
        file.truncate(size)
    run("mke2fs", "-q", "-F", "-t", "ext2", "-L", "System", volume)
    host = image.with_name(image.name + ".token")
    host.write_text(f"{token}\n")
    run("debugfs", "-w", "-R", f"write {host} token.txt", volume)
    data = bytearray(image.read_bytes())
    data[start : start + size] = volume.read_bytes()
    if code != "none":
        first = Path("/usr/lib/grub/i386-pc/boot.img").read_bytes()
        if code == "generic":
            data[:440] = Path("/usr/lib/syslinux/mbr/mbr.bin").read_bytes()[:440]
            at = 1 * MIB
            data[at : at + 512] = _with_core(first, at // 512 + 1)
            _put_core(data, at + 512, at // 512 + 1)
        else:
            data[:440] = _with_core(first, 1)[:440]
            _put_core(data, 512, 1)
    image.write_bytes(data)
    for path in (volume, host):
        path.unlink()
    return image


def _with_core(first: bytes, sector: int) -> bytes:
    return first[:0x5C] + sector.to_bytes(8, "little") + first[0x64:512]


@cache
def _core() -> bytes:
    folder = Path(mkdtemp(prefix="neogenesis-core-"))
    config, out = folder / "early.cfg", folder / "core.img"
    config.write_text("serial\nterminal_output serial\n" + BY_FILE)
    modules: Sequence[str] = (
        *("biosdisk", "normal", "search", "search_fs_file", "part_gpt", "part_msdos", "ext2", "ntfs", "cat", "sleep"),
        *("echo", "serial", "terminal"),
    )
    run("grub-mkimage", "-O", "i386-pc", "-o", out, "-p", "/boot/grub", "-c", config, *modules)
    data = out.read_bytes()
    for path in (config, out):
        path.unlink()
    folder.rmdir()
    return data


def _put_core(data: bytearray, at: int, sector: int) -> None:
    """The core behind its boot code; its first sector says where the rest stands."""
    core = bytearray(_core())
    core[0x1F4:0x1FC] = (sector + 1).to_bytes(8, "little")
    data[at : at + len(core)] = core

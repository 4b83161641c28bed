"""Feeds damaged tables, volumes, images, journals, manifests, maps, archives and what starts a machine to their readers.

`python -m tests.fuzz [SECONDS]`. A crash is any exception that is not one of ours, or a hang; the input that made it is
left in the folder that is printed. Starts from a corpus of real volumes made by the distribution's utilities.
"""

from __future__ import annotations

import io
import shutil
import sys
import tempfile
from contextlib import suppress
from pathlib import Path

import atheris

with atheris.instrument_imports(include=["neogenesis"]):
    from neogenesis.bench.inside.system_image import inspect_system, lay_out
    from neogenesis.bench.processes.reader import open_tree
    from neogenesis.core.boot.devpath import decode_path, parse_path
    from neogenesis.core.boot.drives import BootDrive
    from neogenesis.core.boot.entries import read_listing
    from neogenesis.core.boot.forecast import forecast
    from neogenesis.core.boot.grub import GrubRun
    from neogenesis.core.boot.program import read_core, read_program
    from neogenesis.core.boot.references import references
    from neogenesis.core.boot.remedies import remedies_for
    from neogenesis.core.boot.root import system_of
    from neogenesis.core.drive import Drive
    from neogenesis.core.errors import NeogenesisError
    from neogenesis.core.filesystem import read_volume
    from neogenesis.core.image import Qcow2Store
    from neogenesis.core.plan import Plan, check_plan
    from neogenesis.core.record import from_json
    from neogenesis.core.store import MemoryStore
    from neogenesis.core.survey import survey_drive
    from neogenesis.core.table import read_table
    from neogenesis.core.transfer.manifest import load_manifest
    from neogenesis.core.transfer.regions import RegionMap
    from neogenesis.core.work.journal import read_state

from tests.boots import BY_FILE, loader
from tests.boots import _core as legacy_core
from tests.drives import LINUX, MIB, NT_DATA, STARTUP, Part, make_drive, make_volume, run
from tests.hives import make_hive

_FOLDER = Path(tempfile.mkdtemp(prefix="neogenesis-fuzz-"))
_START_KINDS = ("start", "store", "script", "path", "program", "core", "texts", "listing")
_KINDS = ("ext4", "ntfs", "fat12", "exfat", "table", "drive", "qcow2", "journal", "records", "archive", *_START_KINDS)
_BASES: dict[str, bytes] = {}


def corpus() -> None:
    """Real things to damage: an input is patches upon one of them."""
    for kind, mib in (("ext4", 2), ("ntfs", 2), ("fat12", 1), ("exfat", 4)):
        make_volume(_FOLDER / kind, Part(mib, "", kind, "x"), mib * MIB)
        _BASES[kind] = (_FOLDER / kind).read_bytes()
    image = make_drive(_FOLDER / "drive", 8, [Part(2, NT_DATA, "ntfs", "a"), Part(2, LINUX, "ext4", "b")])
    _BASES["drive"] = image.read_bytes()
    _BASES["table"] = _BASES["drive"][: 64 * 1024]
    run("qemu-img", "create", "-q", "-f", "qcow2", "-o", "cluster_size=4096", _FOLDER / "q", "64K")
    _BASES["qcow2"] = (_FOLDER / "q").read_bytes()
    _BASES["journal"] = _BASES["records"] = _BASES["path"] = b""
    menu = "set timeout=5\nmenuentry 'A' {\n if [ -d /EFI ]; then\n" + BY_FILE + " fi\n}\n"
    files = {"EFI/BOOT/BOOTX64.EFI": loader(), "EFI/x/grub.cfg": menu.encode()}
    parts = [Part(4, STARTUP, "fat12", "START", files), Part(2, LINUX, "ext4", "b", {"token.txt": b"TOKEN"})]
    _BASES["start"] = make_drive(_FOLDER / "start", 8, parts).read_bytes()
    _BASES["script"], _BASES["program"], _BASES["core"] = menu.encode(), loader(), legacy_core()[512:]
    _BASES["texts"] = f"UUID=ABCD-1234 / ext4 x 0 1\nsearch --fs-uuid --set=root ABCD-1234\n{menu}".encode()
    _BASES["listing"] = (
        b"BootOrder: 0001\nBoot0001* A\tHD(1,GPT,11111111-2222-3333-4444-555555555555,0x800,0x1)/File(\\a)\n"
    )
    device = bytes(16) + (6).to_bytes(4, "little") + bytes(0x44)
    entry = "Objects\\{11111111-2222-3333-4444-555555555555}\\Elements\\"
    manager = "Objects\\{9dea862c-5cdd-4e70-acc1-f32b344d4795}\\Elements\\23000003"
    keys = {
        manager: {"Element": "{11111111-2222-3333-4444-555555555555}"},
        f"{entry}12000002": {"Element": "\\token.txt"},
        f"{entry}21000001": {"Element": device},
    }
    manages = {
        "EFI/Microsoft/Boot/bootmgfw.efi": loader().replace(b"mimg", bytes(4)),
        "EFI/Microsoft/Boot/BCD": make_hive(_FOLDER / "BCD", keys),
    }
    manages["EFI/BOOT/BOOTX64.EFI"] = manages["EFI/Microsoft/Boot/bootmgfw.efi"]
    managed = [Part(5, STARTUP, "fat12", "START", manages), Part(2, NT_DATA, "ntfs", "b", {"token.txt": b"TOKEN"})]
    _BASES["store"] = make_drive(_FOLDER / "store", 9, managed).read_bytes()
    _BASES["archive"] = archive()


def archive() -> bytes:
    """A small system image, not packed, with links, holes and attributes."""
    root = _FOLDER / "root"
    for name, data in {"startup/EFI/x/grub.cfg": b"@@DISK_ID@@", "system/etc/motd": b"hello" * 300}.items():
        (root / name).parent.mkdir(parents=True, exist_ok=True)
        (root / name).write_bytes(data)
    (root / "system.json").write_text('{"schema": "neogenesis.system/1", "name": "x", "family": "linux"}')
    with (root / "system/hole").open("wb") as file:
        file.truncate(1 << 20)
        file.seek(500_000)
        file.write(b"x")
    (root / "system/way").symlink_to("etc/motd")
    (root / "system/again").hardlink_to(root / "system/etc/motd")
    run("tar", "--sparse", "--format=posix", "-C", root, "-cf", _FOLDER / "archive.tar", ".")
    return (_FOLDER / "archive.tar").read_bytes()


def of_archive(raw: bytearray) -> None:
    """Headers get their checksums again, so that what is damaged in them is read."""
    for at in range(0, len(raw) - 511, 512):
        if raw[at + 257 : at + 262] == b"ustar":
            total = sum(raw[at : at + 148]) + sum(raw[at + 156 : at + 512]) + 8 * 32
            raw[at + 148 : at + 156] = b"%06o\0 " % total
    path, into = _FOLDER / "input.tar", _FOLDER / "into"
    path.write_bytes(raw)
    shutil.rmtree(into, ignore_errors=True)
    into.mkdir()
    lay_out(inspect_system(path), "system", into, {}, lambda count: None, lambda: None)


def patched(base: bytes, provider: atheris.FuzzedDataProvider) -> bytearray:
    raw = bytearray(base)
    for _ in range(provider.ConsumeIntInRange(0, 8)):
        at = provider.ConsumeIntInRange(0, max(0, len(raw) - 1))
        if provider.ConsumeBool():
            at %= 8192
        data = provider.ConsumeBytes(provider.ConsumeIntInRange(1, 16))
        raw[at : at + len(data)] = data[: max(0, len(raw) - at)]
    return raw


def in_memory(raw: bytes) -> MemoryStore:
    memory = MemoryStore(len(raw))
    memory.data[:] = raw
    return memory


def boot_drive(raw: bytes) -> BootDrive:
    store = in_memory(raw)
    survey = survey_drive(store, Drive(path="x", size_bytes=len(raw), sector_size=512), open_tree).survey
    return BootDrive("x", survey, store, open_tree)


def what_starts(kind: str, provider: atheris.FuzzedDataProvider) -> None:
    if kind == "path":
        data = provider.ConsumeBytes(2048)
        with suppress(NeogenesisError):
            decode_path(data)
        parse_path(data.decode("latin-1"))
        return
    raw = bytes(patched(_BASES[kind], provider))
    if kind in ("program", "core"):
        read_program(raw) if kind == "program" else read_core(raw)
        return
    if kind == "listing":
        read_listing(raw.decode("utf-8", "replace"))
        return
    if kind == "texts":
        references(raw)
        references(raw, True)
    drive = boot_drive(raw if kind in ("start", "store") else _BASES["start"])
    try:
        if kind in ("start", "store"):
            forecast([drive])
            for remedy in remedies_for([drive], None, lambda one: lambda: "11111111-2222-3333-4444-555555555555"):
                assert remedy.text
        elif kind == "texts":
            system_of([drive], raw.decode("utf-8", "replace"), (drive, drive.survey.partitions[0]), True)
        else:
            run_of = GrubRun([drive], (drive, drive.survey.partitions[0]))
            run_of.run(raw.decode("utf-8", "replace"))
    finally:
        drive.close()


def one(data: bytes) -> None:
    provider = atheris.FuzzedDataProvider(data)
    kind = _KINDS[provider.ConsumeIntInRange(0, len(_KINDS) - 1)]
    try:
        if kind == "journal":
            read_state(io.BytesIO(provider.ConsumeBytes(4096)), "j")
        elif kind == "records":
            text = provider.ConsumeBytes(4096)
            page = _FOLDER / "input.manifest.json"
            page.write_bytes(text)
            with suppress(NeogenesisError):
                load_manifest(page)
            for record in (Plan, RegionMap):
                try:
                    found = from_json(text, record, "record")
                    if record is Plan:
                        check_plan(found, "p")
                except NeogenesisError:
                    continue
        elif kind in _START_KINDS:
            what_starts(kind, provider)
        elif kind == "archive":
            of_archive(patched(_BASES[kind], provider))
        elif kind == "qcow2":
            path = _FOLDER / "input.qcow2"
            path.write_bytes(patched(_BASES[kind], provider))
            store = Qcow2Store(path)
            try:
                store.extents_with_data()
                store.read(0, min(store.size_bytes, 65_536))
            finally:
                store.close()
        else:
            raw = patched(_BASES[kind], provider)
            memory = in_memory(raw)
            if kind == "table":
                read_table(memory, 512)
                read_table(memory, 4096)
            elif kind == "drive":
                survey_drive(memory, Drive(path="x", size_bytes=len(raw), sector_size=512), open_tree)
            else:
                read_volume(memory)
    except NeogenesisError:
        pass


def main() -> None:
    seconds = sys.argv[1] if len(sys.argv) > 1 else "1800"
    corpus()
    print(f"inputs that fail are kept in {_FOLDER}")  # noqa: T201
    options = [
        f"-max_total_time={seconds}",
        "-timeout=20",
        "-rss_limit_mb=4096",
        f"-artifact_prefix={_FOLDER}/",
        "-print_final_stats=1",
    ]
    atheris.Setup([sys.argv[0], *options], one)
    atheris.Fuzz()


if __name__ == "__main__":
    main()

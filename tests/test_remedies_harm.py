"""No remedy leaves a drive worse than before: what is damaged, open, packed, twice there or half done is refused."""

from __future__ import annotations

import os
import random
import shutil
import struct
import subprocess
import zlib
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from neogenesis.bench.inside.booting import forecast_drives
from neogenesis.bench.register import Consent
from neogenesis.bench.works import mending
from neogenesis.bench.works.mending import apply_remedy, remedies_of, undo_remedy
from neogenesis.core.boot.references import references, replaced
from neogenesis.core.boot.remedy import CODES, RemedyRow, rank
from neogenesis.core.errors import NeogenesisError, Refused
from tests.boots import BY_FILE, drive, legacy_drive, loader, startup
from tests.drives import LINUX, NT_DATA, RECOVERY, SWAP, Part, make_drive, make_volume, place, run, spans, table_of
from tests.test_boot import FALLBACK, entry, machine_file, volume_id, with_startup
from tests.test_remedies import nt_drive

GONE = "11111111-2222-3333-4444-555555555555"


def offered(*drives: Path, machine: Path | None = None) -> dict[str, RemedyRow]:
    return {row.code: row for row in remedies_of([str(d) for d in drives], machine).remedies}


def volume_of(image: Path, number: int) -> Path:
    start, size = spans(image)[number]
    path = image.with_name("one-volume.img")
    path.write_bytes(image.read_bytes()[start : start + size])
    return path


def refuses(code: str, image: Path, why: str, tmp_path: Path) -> None:
    before = image.read_bytes()
    with pytest.raises(Refused, match=why):
        apply_remedy(code, str(image), Consent(image.stem[-4:]), tmp_path / f"{code}.undo")
    assert image.read_bytes() == before and not (tmp_path / f"{code}.undo").exists()


def with_tables(image: Path, edit: Callable[[bytearray, bytearray], None]) -> None:
    """`edit(entries, header)` in both copies, with their checks made right."""
    data = bytearray(image.read_bytes())
    for lba in (1, len(data) // 512 - 1):
        head = data[lba * 512 : lba * 512 + 512]
        at, count, length = struct.unpack_from("<QII", head, 72)
        array = bytearray(data[at * 512 : at * 512 + count * length])
        edit(array, head)
        struct.pack_into("<I", head, 88, zlib.crc32(array))
        head[16:20] = bytes(4)
        struct.pack_into("<I", head, 16, zlib.crc32(bytes(head[:92])))
        data[lba * 512 : lba * 512 + 512] = head
        data[at * 512 : at * 512 + count * length] = array
    image.write_bytes(data)


def linux(
    folder: Path, menu: str, files: dict[str, bytes] | None = None, more: tuple[Part, ...] = (), name: str = "disk-one"
) -> Path:
    """A start-up partition with a loader that goes to the menu on the system's own volume."""
    folder.mkdir(exist_ok=True)
    held = {"etc/os-release": b"NAME=Fathom\n", "token.txt": b"TOKEN-ONE\n", "boot/grub/grub.cfg": menu.encode()}
    one = make_drive(
        folder / f"{name}.img", 70, [startup({}), Part(24, LINUX, "ext4", "root", held | (files or {})), *more]
    )
    first = f"search.fs_uuid {volume_id(one, 2)} root\nset prefix=($root)/boot/grub\nconfigfile $prefix/grub.cfg\n"
    return with_startup(one, {FALLBACK: loader(), "EFI/x/grub.cfg": first.encode()})


SHOWS = 'set timeout=0\nmenuentry "F" {\n cat /token.txt\n sleep 20\n}\n'


# Tables


def test_an_identity_of_zeros_names_nothing(tmp_path: Path) -> None:
    one = drive(tmp_path / "disk-one.img", "TOKEN-ONE", {FALLBACK: loader(BY_FILE)})

    def zeros(array: bytearray, head: bytearray) -> None:
        array[128 + 16 : 128 + 32] = bytes(16)
        head[56:72] = bytes(16)

    with_tables(one, zeros)
    managed = nt_drive(tmp_path / "disk-two.img")

    def no_disk(array: bytearray, head: bytearray) -> None:
        head[56:72] = bytes(16)

    with_tables(managed, no_disk)  # zeros stand everywhere in its store
    head = bytes(16) + struct.pack("<IIII", 6, 0, 0x48, 0)
    heads = managed.read_bytes().count(head)
    apply_remedy("restamp-table", str(managed), Consent("-two"), tmp_path / "z.undo")
    again = forecast_drives([str(managed)], None)
    assert again.starts and again.chain[-1].step == "system", again.chain
    assert managed.read_bytes().count(head) == heads > 0
    before = one.read_bytes()
    made = apply_remedy("restamp-table", str(one), Consent("-one"), tmp_path / "t.undo")
    touched = {c.start // 512 for c in made.changes}
    assert max(t for t in touched if t < 1000) < 34 and not any(34 <= t < len(before) // 512 - 33 for t in touched)
    assert forecast_drives([str(one)], None).starts
    assert len({p["uuid"] for p in table_of(one)["partitions"]}) == 2


@pytest.mark.parametrize("lba", [1, -1])
def test_a_table_of_which_one_copy_is_damaged_is_not_stamped(tmp_path: Path, lba: int) -> None:
    one = drive(tmp_path / "disk-one.img", "TOKEN-ONE", {FALLBACK: loader(BY_FILE)})
    data = bytearray(one.read_bytes())
    at = (lba * 512) % len(data)
    data[at + 60] ^= 0xFF
    one.write_bytes(data)
    refuses("restamp-table", one, "not sound", tmp_path)


def test_a_gpt_that_is_left_over_does_not_count(tmp_path: Path, survey_json: Any) -> None:
    one = legacy_drive(tmp_path / "disk-one.img", "TOKEN-ONE", "generic")
    left = make_drive(tmp_path / "left.img", 50, [startup({}), Part(24, LINUX, "ext2", "x")]).read_bytes()
    data = bytearray(one.read_bytes())
    data[512 : 34 * 512], data[-33 * 512 :] = left[512 : 34 * 512], left[-33 * 512 :]
    one.write_bytes(data)
    seen = survey_json(one)
    assert seen["table"]["kind"] == "mbr" and "gpt-stale" in {f["code"] for f in seen["findings"]}
    assert forecast_drives([str(one)], machine_file(tmp_path, {"firmware": "legacy"})).starts
    refuses("protective-sector", one, "nothing to mend", tmp_path)


# Files and volumes that are not changed from outside


def test_a_packed_file_is_left_alone(tmp_path: Path) -> None:
    record = (
        b'<?xml version="1.0" encoding="utf-8"?>\r\n<WindowsRE version="2.0">\r\n'
        b'  <WinreLocation path="\\Recovery" id="0" offset="11111111" guid="{AAAAAAAA-BBBB-CCCC-DDDD-EEEEEEEEEEEE}"/>\r\n'
        + b"".join(b'  <Entry%05d state="0"/>   \r\n' % n for n in range(4000))
        + b"</WindowsRE>\r\n"
    )
    parts = [startup({FALLBACK: loader(BY_FILE)}), Part(32, NT_DATA, "ntfs", "System", {"token.txt": b"x"})]
    one = make_drive(tmp_path / "disk-one.img", 90, [*parts, Part(16, RECOVERY, "ntfs", "Recovery")])
    volume, mount = volume_of(one, 1), tmp_path / "mount"
    mount.mkdir()
    run("ntfs-3g", "-o", "compression", volume, mount)
    try:
        folder = mount / "Windows/System32/Recovery"
        folder.mkdir(parents=True)
        os.setxattr(folder, "system.ntfs_attrib", (0x810).to_bytes(4, "little"))
        (folder / "ReAgent.xml").write_bytes(record)
    finally:
        run("fusermount3", "-u", mount)
    place(one, volume, spans(one)[1][0])
    refuses("recovery-record", one, "not kept as it is", tmp_path)
    assert "not kept as it is" in offered(one)["recovery-record"].cannot


def test_a_journal_that_was_not_replayed_closes_the_volume(tmp_path: Path) -> None:
    menu = f"search --no-floppy --fs-uuid --set=root {GONE}\n{SHOWS}"
    one = linux(tmp_path / "j", menu)
    volume = volume_of(one, 1)
    run("debugfs", "-w", "-R", "feature needs_recovery", volume)
    place(one, volume, spans(one)[1][0])
    for code in ("menu-identity", "restamp-volume"):
        refuses(code, one, "journal is still open", tmp_path)


def test_a_system_that_sleeps_is_not_written_into(tmp_path: Path) -> None:
    one = nt_drive(tmp_path / "disk-one.img", other=True)
    volume, mount = volume_of(one, 1), tmp_path / "mount"
    mount.mkdir()
    run("ntfs-3g", volume, mount)
    (mount / "hiberfil.sys").write_bytes(b"hibr" + bytes(8192))
    run("fusermount3", "-u", mount)
    place(one, volume, spans(one)[1][0])
    refuses("drive-letters", one, "sleeps", tmp_path)
    assert "sleeps" in offered(one)["drive-letters"].cannot


def test_a_system_that_sleeps_in_its_swap_is_not_written_into(tmp_path: Path) -> None:
    one = linux(tmp_path / "s", f"search --fs-uuid --set=root {GONE}\n{SHOWS}", more=(Part(8, SWAP, "swap", "swap"),))
    data = bytearray(one.read_bytes())
    start = spans(one)[2][0]
    data[start + 4086 : start + 4096] = b"S1SUSPEND\0"
    one.write_bytes(data)
    refuses("menu-identity", one, "sleeps in its swap", tmp_path)


def open_log(image: Path) -> None:
    """Mark an NTFS volume for a check, with a log in which work waits."""
    volume = volume_of(image, 1)
    data = bytearray(volume.read_bytes())
    cluster = data[13] * 512
    mft, mirror = (int.from_bytes(data[at : at + 8], "little") * cluster for at in (0x30, 0x38))

    def attribute(number: int, kind: int) -> int:
        record = mft + number * 1024
        at = record + int.from_bytes(data[record + 20 : record + 22], "little")
        while int.from_bytes(data[at : at + 4], "little") not in (kind, 0xFFFFFFFF):
            at += int.from_bytes(data[at + 4 : at + 8], "little")
        return at

    at = attribute(3, 0x70)
    flags = at + int.from_bytes(data[at + 20 : at + 22], "little") + 10
    data[flags] |= 1
    data[mirror + flags - mft] |= 1
    at = attribute(2, 0x80)
    runs = at + int.from_bytes(data[at + 32 : at + 34], "little")
    lengths = data[runs] & 15
    log = int.from_bytes(data[runs + 1 + lengths : runs + 1 + lengths + (data[runs] >> 4)], "little") * cluster
    page = bytearray(4096)
    struct.pack_into("<4sHHQIIHhH", page, 0, b"RSTR", 0x1E, 9, 0, 4096, 4096, 0x30, 1, 1)
    struct.pack_into("<QHHHH", page, 0x30, 0x1000, 1, 0xFFFF, 0, 0)
    data[log : log + 4096] = page
    data[log + 16384 : log + 16384 + 22] = b"RCRD-not-yet-done-work"
    volume.write_bytes(data)
    place(image, volume, spans(image)[1][0])


def test_the_mark_for_a_check_stays_where_the_journal_is_open(tmp_path: Path) -> None:
    one = make_drive(
        tmp_path / "disk-one.img", 70, [startup({}), Part(40, NT_DATA, "ntfs", "System", {"a": b"x" * 9000})]
    )
    open_log(one)
    refuses("check-flag", one, "still open", tmp_path)


def test_taking_the_mark_off_changes_the_mark_and_nothing_else(tmp_path: Path) -> None:
    one = make_drive(
        tmp_path / "disk-one.img", 70, [startup({}), Part(40, NT_DATA, "ntfs", "System", {"a": b"x" * 9000})]
    )
    volume = volume_of(one, 1)
    run("ntfsresize", "--force", "--force", "--size", str(32 << 20), volume, text="y\n")
    place(one, volume, spans(one)[1][0])
    before = one.read_bytes()
    apply_remedy("check-flag", str(one), Consent("-one"), tmp_path / "c.undo")
    after = one.read_bytes()
    assert sum(a != b for a, b in zip(before, after, strict=True)) <= 2


# References by their meaning


def test_every_reference_is_read_with_what_it_means() -> None:
    text = (
        f"search --no-floppy --fs-uuid --set=root --hint-bios=hd0,gpt2 {GONE}\n"
        f"  linux /vmlinuz root=UUID={GONE} ro resume=UUID={GONE}\n"
        f"# root=UUID={GONE}\n"
        f"options root=PARTUUID={GONE} rd.luks.uuid=luks-{GONE}\n"
        f"search.fs_uuid ABCD-1234 root hd0,gpt1\nif [ x = y ]; then search -u {GONE}; fi\n"
        f"linux /v root=/dev/disk/by-uuid/{GONE} quiet\necho {GONE}\n"
    ).encode()
    found = [(r.kind, r.meaning, r.value) for r in references(text)]
    assert found == [
        ("volume", "search", GONE),
        ("volume", "root", GONE),
        ("volume", "resume", GONE),
        ("partition", "root", GONE),
        ("volume", "search", "ABCD-1234"),
        ("volume", "search", GONE),
        ("volume", "root", GONE),
    ]
    fstab = f"UUID={GONE} /home ext4 defaults 0 2\n/dev/sda1 / ext4 x 0 1\nUUID={GONE} none swap sw 0 0\n".encode()
    assert [r.meaning for r in references(fstab, True)] == ["mount:/home", "swap"]
    assert replaced(text, lambda one: None) == text
    assert len(references(b"--fs-uuid " * 40_000)) == 0


def test_a_menu_is_pointed_only_at_what_each_reference_means(tmp_path: Path) -> None:
    home, swap = "aaaaaaaa-bbbb-cccc-dddd-eeeeeeeeeeee", "99999999-8888-7777-6666-555555555555"
    fstab = f"UUID={GONE} / ext4 defaults 0 1\nUUID={home} /home ext4 nofail 0 2\nUUID={swap} none swap nofail 0 0\n"
    fstab += "UUID=77777777-8888-7777-6666-555555555555 /srv ext4 nofail 0 2\n"
    menu = f'set timeout=0\nmenuentry "F" {{\nlinux /vmlinuz root=UUID={GONE} resume=UUID={swap}\n}}\n'
    one = linux(tmp_path / "m", menu, {"etc/fstab": fstab.encode(), "vmlinuz": b"k" * 5000})
    other = make_drive(tmp_path / "disk-two.img", 60, [Part(20, LINUX, "ext4", "home", options=("-U", home))])
    row = offered(one, other)["menu-identity"]
    with pytest.raises(Refused, match="not what was shown"):
        apply_remedy("menu-identity", str(one), Consent("-one"), tmp_path / "x.undo", changes="0" * 64)
    names = [str(one), str(other)]
    apply_remedy("menu-identity", str(one), Consent("-one"), tmp_path / "m.undo", changes=row.changes, beside=names)
    own, volume = volume_id(one, 2), volume_of(one, 1)
    assert run("debugfs", "-R", "cat /etc/fstab", volume) == fstab.replace(GONE, own)
    assert f"root=UUID={own} resume=UUID={swap}" in run("debugfs", "-R", "cat /boot/grub/grub.cfg", volume)


def test_a_partition_is_named_by_its_own_identity(tmp_path: Path) -> None:
    menu = f'set timeout=0\nmenuentry "F" {{\nlinux /vmlinuz root=PARTUUID={GONE}\n}}\n'
    one = linux(tmp_path / "p", menu, {"vmlinuz": b"k" * 5000})
    assert forecast_drives([str(one)], None).breaks_at == "system"
    apply_remedy("menu-identity", str(one), Consent("-one"), tmp_path / "m.undo")
    text = run("debugfs", "-R", "cat /boot/grub/grub.cfg", volume_of(one, 1))
    assert f"root=PARTUUID={table_of(one)['partitions'][1]['uuid'].lower()}" in text
    assert forecast_drives([str(one)], None).breaks_at is None and "menu-identity" not in offered(one)


def test_beside_other_drives_only_what_is_there_twice_gets_another_identity(tmp_path: Path) -> None:
    """After a split: the data that stays on the old drive is what the new system mounts."""
    old = linux(tmp_path / "old", SHOWS, more=(Part(16, LINUX, "ext4", "home", {"ann": b"1"}),), name="disk-old")
    home = volume_id(old, 3)
    (tmp_path / "new").mkdir()
    new = Path(shutil.copy(old, tmp_path / "new/disk-new.img"))
    volume = volume_of(new, 2)  # the new drive has no such volume: something else stands there
    run("tune2fs", "-f", "-U", "random", volume)
    place(new, volume, spans(new)[2][0])
    row = offered(new, old)["restamp-volume"]
    apply_remedy("restamp-volume", str(old), Consent("-old"), tmp_path / "v.undo", beside=[str(new), str(old)])
    assert volume_id(old, 3) == home and volume_id(old, 2) != volume_id(new, 2)
    assert row.drive == str(old) and forecast_drives([str(new), str(old)], None).starts


# Start-up partitions


@pytest.mark.parametrize(
    "files",
    [
        {"EFI/fathom-12.1/grubx64.efi": loader(BY_FILE)},
        {"vmlinuz-customer": b"kernel" * 1000},
        {"EFI/BOOT/BOOTIA32.EFI": b"MZ of another machine"},
        {"EFI/a/b/c/d/e/f.efi": b"MZ"},
    ],
)
def test_a_start_up_partition_that_holds_something_is_not_made_anew(tmp_path: Path, files: dict[str, bytes]) -> None:
    kept = {"boot/grub/x86_64-efi/core.efi": loader(BY_FILE), "etc/os-release": b"NAME=F\n"}
    one = make_drive(tmp_path / "disk-one.img", 90, [startup(files), Part(40, LINUX, "ext4", "root", kept)])
    refuses("startup-partition", one, "nothing to mend|holds other things", tmp_path)


def test_a_start_up_partition_keeps_the_identity_that_is_mounted(tmp_path: Path) -> None:
    fstab = b"UUID=ABCD-1234 /boot/efi vfat umask=0077 0 1\n"
    kept = {"boot/grub/x86_64-efi/core.efi": loader(BY_FILE), "etc/fstab": fstab, "token.txt": b"TOKEN-ONE\n"}
    one = make_drive(tmp_path / "disk-one.img", 90, [startup({}), Part(40, LINUX, "ext4", "root", kept)])
    data = bytearray(one.read_bytes())
    start = spans(one)[0][0]
    data[start : start + (1 << 20)] = bytes(1 << 20)
    one.write_bytes(data)
    apply_remedy("startup-partition", str(one), Consent("-one"), tmp_path / "s.undo")
    assert volume_id(one, 1) == "ABCD-1234"


def test_a_makers_tool_is_not_taken_for_a_loader(tmp_path: Path) -> None:
    tool = Path("/usr/lib/systemd/boot/efi/linuxx64.efi.stub").read_bytes()
    files = {"EFI/Brightwell/diag.efi": tool, "EFI/fathom/grubx64.efi": loader(BY_FILE)}
    one = drive(tmp_path / "disk-one.img", "TOKEN-ONE", files)
    assert "EFI/fathom/grubx64.efi" in offered(one)["fallback-loader"].text
    alone = drive(tmp_path / "disk-two.img", "TOKEN-ONE", {"EFI/Brightwell/diag.efi": tool})
    assert not offered(alone)


def test_code_that_only_says_no_is_not_made_active(tmp_path: Path) -> None:
    one = legacy_drive(tmp_path / "disk-one.img", "TOKEN-ONE", "generic", active=False)
    data, volume = bytearray(one.read_bytes()), tmp_path / "f.img"
    make_volume(volume, Part(8, "", "fat12", "TOOLS"), 8 << 20)
    start, first = (50 << 20) - (9 << 20), spans(one)[0][0]
    data[start : start + (8 << 20)] = volume.read_bytes()
    mine, other = bytes(data[446:462]), bytearray(data[462:478])
    other[12:16] = ((start - spans(one)[1][0]) // 512).to_bytes(4, "little")
    tools = bytearray(16)
    tools[4], tools[8:12], tools[12:16] = 0x0C, (start // 512).to_bytes(4, "little"), (16384).to_bytes(4, "little")
    data[446:462], data[462:478], data[478:494] = tools, mine, other
    one.write_bytes(data)
    machine = machine_file(tmp_path, {"firmware": "legacy"})
    apply_remedy("active-partition", str(one), Consent("-one"), tmp_path / "a.undo", machine)
    assert [p["start"] * 512 for p in table_of(one)["partitions"] if p.get("bootable")] == [first]


# What was cut off


@pytest.mark.parametrize("code", ["restamp-table", "restamp-volume"])
def test_what_was_cut_off_is_finished_or_put_back_and_never_begun_anew(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, code: str
) -> None:
    one = linux(tmp_path / "c", SHOWS)
    before = one.read_bytes()

    def cut(store: Any, pieces: Any, *told: Any) -> None:
        for at, data in pieces[: len(pieces) // 2]:
            store.write(at, data)
        store.sync()
        raise KeyboardInterrupt

    monkeypatch.setattr(mending, "_write", cut)
    with pytest.raises(KeyboardInterrupt):
        apply_remedy(code, str(one), Consent("-one"), tmp_path / "a.undo")
    monkeypatch.undo()
    half = one.read_bytes()
    for other in ("restamp-table", "restamp-volume"):
        with pytest.raises(Refused, match="was cut off"):
            apply_remedy(other, str(one), Consent("-one"), tmp_path / "b.undo")
    with pytest.raises(Refused, match="which was cut off"):
        apply_remedy("fallback-loader", str(one), Consent("-one"), tmp_path / "a.undo")
    with pytest.raises(Refused, match="not what was shown"):
        apply_remedy(code, str(one), Consent("-one"), tmp_path / "a.undo", changes="0" * 64)
    assert one.read_bytes() == half != before
    made = apply_remedy(code, str(one), Consent("-one"), tmp_path / "a.undo")
    assert made.state == "finished" and forecast_drives([str(one)], None).starts
    after = bytearray(before)
    for change in made.changes:
        after[change.start : change.start + len(change.after) // 2] = bytes.fromhex(change.after)
    assert one.read_bytes() == after
    undo_remedy(tmp_path / "a.undo", str(one), Consent("-one"))
    assert one.read_bytes() == before
    with pytest.raises(Refused, match="nothing to put back"):
        undo_remedy(tmp_path / "a.undo", str(one), Consent("-one"))


def _cases(folder: Path) -> dict[str, tuple[Path, Path | None]]:
    """For every remedy a drive that it helps, and the machine."""
    menu = f"search.fs_uuid {GONE} root\ncat ($root)/token.txt\nsleep 30\n"
    legacy = machine_file(folder, {"firmware": "legacy"})
    broken = drive(folder / "disk-pro.img", "TOKEN-ONE", {FALLBACK: loader(BY_FILE)})
    data = bytearray(broken.read_bytes())
    data[446:512] = bytes(66)
    broken.write_bytes(data)
    menus = {FALLBACK: loader(), "EFI/x/grub.cfg": menu.encode()}
    return {
        "fallback-loader": (drive(folder / "disk-fal.img", "TOKEN-ONE", {"EFI/f/l.efi": loader(BY_FILE)}), None),
        "active-partition": (legacy_drive(folder / "disk-act.img", "TOKEN-ONE", "generic", active=False), legacy),
        "restamp-table": (nt_drive(folder / "disk-tab.img"), None),
        "restamp-volume": (linux(folder / "v", SHOWS, name="disk-vol"), None),
        "store-identity": (nt_drive(folder / "disk-sto.img", other=True), None),
        "menu-identity": (drive(folder / "disk-men.img", "TOKEN-ONE", menus, "ext4"), None),
        "drive-letters": (nt_drive(folder / "disk-let.img", other=True), None),
        "protective-sector": (broken, None),
    }


def test_cut_at_every_write_it_is_finished_or_put_back(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """For every remedy: redo gives what was announced, undo what was there, nothing else changes, and no start is lost."""
    write = mending._write
    for code, (one, machine) in _cases(tmp_path).items():
        before, tail = one.read_bytes(), one.stem[-4:]
        first = forecast_drives([str(one)], machine)
        apply_remedy(code, str(one), Consent(tail), tmp_path / f"{code}.undo", machine)
        after = one.read_bytes()
        assert after != before and rank(forecast_drives([str(one)], machine)) >= rank(first), code
        undo_remedy(tmp_path / f"{code}.undo", str(one), Consent(tail))
        assert one.read_bytes() == before, code
        record = mending.load(tmp_path / f"{code}.undo", mending.UndoRecord, "record")
        places = [(c.start, c.start + len(c.before) // 2) for c in record.changes]
        kept = bytearray(after)
        for start, end in places:
            kept[start:end] = before[start:end]
        assert kept == before, code
        every = range(len(places))
        for at in every if os.environ.get("NEOGENESIS_LONG") else sorted({0, every[-1]}):

            def cut(store: Any, pieces: Any, *told: Any, stop: int = at) -> None:
                for start, data in pieces[:stop]:
                    store.write(start, data)
                start, data = pieces[stop]
                store.write(start, data[: len(data) // 1024 * 512])  # in the middle of a piece, at a sector
                store.sync()
                raise KeyboardInterrupt

            place_ = tmp_path / f"{code}-{at}.undo"
            monkeypatch.setattr(mending, "_write", cut)
            with pytest.raises(KeyboardInterrupt):
                apply_remedy(code, str(one), Consent(tail), place_, machine)
            monkeypatch.setattr(mending, "_write", write)
            if at:
                apply_remedy(code, str(one), Consent(tail), place_, machine)
                assert one.read_bytes() == after, (code, at)
            if one.read_bytes() != before:
                undo_remedy(place_, str(one), Consent(tail))
            assert one.read_bytes() == before, (code, at)


_MANY = range(40) if os.environ.get("NEOGENESIS_LONG") else range(2)


def any_drive(image: Path, seed: int) -> Path:
    """A drive of chance: a table, volumes, things of a start here and there, and some bytes that are damaged."""
    chance = random.Random(seed)
    table = chance.choice(("gpt", "gpt", "mbr"))
    things = {
        FALLBACK: loader(BY_FILE),
        "EFI/f/l.efi": loader(),
        "EFI/x/grub.cfg": f"search --fs-uuid --set=root {GONE}\n{SHOWS}".encode(),
        "etc/fstab": f"UUID={GONE} / ext4 x 0 1\nUUID=ABCD-1234 /boot/efi vfat x 0 1\n".encode(),
        "boot/grub/grub.cfg": f"linux /v root=UUID={GONE}\n".encode(),
        "Windows/System32/winload.efi": b"w" * 3000,
        "token.txt": b"TOKEN-ONE\n",
    }
    types = {"gpt": (LINUX, NT_DATA, RECOVERY), "mbr": ("83", "7", "ef")}[table]
    parts = [startup(dict(chance.sample(sorted(things.items()), 2)))] if table == "gpt" else []
    for _ in range(chance.randint(1, 3)):
        kind = chance.choice(("ext4", "ntfs", "fat16", "ext2", "swap"))
        held = {} if kind == "swap" else dict(chance.sample(sorted(things.items()), chance.randint(0, 4)))
        parts.append(Part(16, chance.choice(types), kind, f"V{len(parts)}", held))
    make_drive(image, 80, parts, table=table)
    data = bytearray(image.read_bytes())
    for _ in range(chance.choice((0, 0, 1, 3))):
        at = chance.choice(
            (chance.randrange(2048), len(data) - 1 - chance.randrange(17000), chance.randrange(len(data)))
        )
        data[at] ^= 1 << chance.randrange(8)
    image.write_bytes(data)
    return image


@pytest.mark.parametrize("seed", _MANY)
def test_on_any_drive_a_remedy_changes_what_it_announced_and_can_be_put_back(tmp_path: Path, seed: int) -> None:
    one = any_drive(tmp_path / "disk-any.img", seed)
    before, first = one.read_bytes(), forecast_drives([str(one)], None)
    rows = offered(one)
    assert one.read_bytes() == before
    for code in CODES:
        record = tmp_path / f"{code}.undo"
        try:
            made = apply_remedy(code, str(one), Consent("-any"), record)
        except NeogenesisError:
            assert one.read_bytes() == before and not record.exists(), code
            assert code not in rows or rows[code].cannot
            continue
        after = bytearray(one.read_bytes())
        assert rank(forecast_drives([str(one)], None)) >= rank(first), code
        for change in made.changes:
            length = len(change.before) // 2
            assert after[change.start : change.start + length] == bytes.fromhex(change.after)
            after[change.start : change.start + length] = bytes.fromhex(change.before)
        assert after == before, code
        if code in rows:
            assert rows[code].writes == tuple((c.start, c.start + len(c.before) // 2) for c in made.changes)
        undo_remedy(record, str(one), Consent("-any"))
        assert one.read_bytes() == before, code


# Said beforehand


def test_one_remedy_that_fails_hides_no_other(tmp_path: Path, neogenesis: Any) -> None:
    full = {"EFI/fathom/grubx64.efi": loader(BY_FILE), "fill.bin": os.urandom((20 << 20) - 1_000_000)}
    one = drive(tmp_path / "disk-one.img", "TOKEN-ONE", full)
    row = offered(one)["fallback-loader"]
    assert row.cannot and not row.writes and not row.undo and row.after is None
    assert "cannot be done" in neogenesis("remedies", one).stdout


def test_what_would_start_afterwards_and_which_entries_are_lost_is_said(tmp_path: Path, neogenesis: Any) -> None:
    one = drive(tmp_path / "disk-one.img", "TOKEN-ONE", {FALLBACK: loader(BY_FILE), "EFI/f/l.efi": loader(BY_FILE)})
    two = Path(shutil.copy(one, tmp_path / "disk-two.img"))
    entries = {"boot_entries": [entry("0001", one, 1, "\\EFI\\f\\l.efi")], "boot_order": ["0001"]}
    machine = machine_file(tmp_path, entries)
    row = offered(two, one, machine=machine)["restamp-table"]
    assert row.after is not None and row.after.starts and not row.entries_lost  # the twin has that partition still
    alone = remedies_of([str(one)], machine)
    assert not alone.remedies
    made = apply_remedy("restamp-table", str(one), Consent("-one"), tmp_path / "t.undo", machine)
    assert made.changes and forecast_drives([str(one)], machine).starts
    assert "entry-dead" in {f.code for f in forecast_drives([str(one)], machine).findings}
    assert "It starts." in neogenesis("forecast", one).stdout


def test_ordinary_ext4_that_was_in_use_gets_a_new_identity(tmp_path: Path) -> None:
    """The utility wants it checked since; that is done beforehand, on the overlay."""
    one = linux(tmp_path / "e", SHOWS)
    volume = volume_of(one, 1)
    run("debugfs", "-w", "-R", "set_super_value mtime 20300101000000", volume)
    place(one, volume, spans(one)[1][0])
    old = volume_id(one, 2)
    apply_remedy("restamp-volume", str(one), Consent("-one"), tmp_path / "v.undo")
    assert volume_id(one, 2) != old and forecast_drives([str(one)], None).starts
    done = subprocess.run(["e2fsck", "-fn", volume_of(one, 1)], capture_output=True, check=False)
    assert done.returncode == 0


def test_a_tail_that_several_drives_have_names_none(tmp_path: Path, neogenesis: Any) -> None:
    one = drive(tmp_path / "a-disk.img", "TOKEN-ONE", {"EFI/f/l.efi": loader(BY_FILE)})
    two = Path(shutil.copy(one, tmp_path / "b-disk.img"))
    told = neogenesis("remedy", "fallback-loader", one, two, "--confirm", "disk", status=3)
    assert "2 of the drives" in told.stderr
    with pytest.raises(NeogenesisError):
        apply_remedy("pray", str(one), Consent("disk"), None)

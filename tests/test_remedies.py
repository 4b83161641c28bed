"""Mending what does not start, and putting it back byte for byte."""

from __future__ import annotations

import json
import re
import shutil
import struct
import uuid
from pathlib import Path
from typing import Any

import pytest

from neogenesis.bench.emulator import Trial, run_trial
from neogenesis.bench.inside.booting import forecast_drives
from neogenesis.bench.register import Consent
from neogenesis.bench.works import mending
from neogenesis.bench.works.mending import apply_remedy, remedies_of, undo_remedy
from neogenesis.core.errors import BadArgument, BadRecord, Refused
from tests.boots import BY_FILE, by_uuid, drive, legacy_drive, loader, startup, system
from tests.drives import LINUX, NT_DATA, RECOVERY, Part, check_volume, make_drive, make_volume, run, spans, table_of
from tests.hives import make_hive
from tests.test_boot import FALLBACK, machine_file, volume_id

LEGACY = {"firmware": "legacy"}


def put_back(image: Path, record: Path, before: bytes, tail: str) -> None:
    undo_remedy(record, str(image), Consent(tail))
    assert image.read_bytes() == before


def covered(before: bytes, after: bytes, writes: Any) -> bool:
    """Whether nothing differs outside of what was said to be written."""
    kept = bytearray(after)
    for start, end in writes:
        kept[start:end] = before[start:end]
    return bytes(kept) == before


def test_a_fallback_loader_makes_it_start_and_can_be_taken_away(tmp_path: Path, neogenesis: Any) -> None:
    one = drive(tmp_path / "disk-one.img", "TOKEN-ONE", {"EFI/system/loader.efi": loader(BY_FILE)})
    before = one.read_bytes()
    assert not forecast_drives([str(one)], None).starts
    listed = json.loads(neogenesis("remedies", one, "--json").stdout)
    row = next(r for r in listed["remedies"] if r["code"] == "fallback-loader")
    assert row["undo"] and row["drive"] == str(one) and row["writes"] and one.read_bytes() == before
    record = tmp_path / "it.undo"
    neogenesis("remedy", "fallback-loader", one, "--confirm", "nope", "--record", record, status=3)
    assert one.read_bytes() == before and not record.exists()
    neogenesis("remedy", "fallback-loader", one, "--confirm", "-one", "--record", record)
    after = one.read_bytes()
    assert covered(before, after, row["writes"]) and after != before
    start, size = spans(one)[0]
    check_volume(one, start, size, "vfat", tmp_path)
    assert forecast_drives([str(one)], None).starts
    assert run_trial(Trial([str(one)], expect="TOKEN-ONE", seconds=40)).seen == "TOKEN-ONE"
    neogenesis("remedy", "fallback-loader", one, "--confirm", "-one", "--record", tmp_path / "b.undo", status=3)
    put_back(one, record, before, "-one")
    assert "has changed" in neogenesis("undo", record, make_other(one), "--confirm", "ther", status=3).stderr


def make_other(image: Path) -> Path:
    """The same size, and something else where the remedy wrote."""
    other = image.with_name("an-other.img")
    other.write_bytes(bytes(image.stat().st_size))
    return other


def test_an_active_partition_makes_it_start(tmp_path: Path) -> None:
    one = legacy_drive(tmp_path / "disk-one.img", "TOKEN-ONE", "generic", active=False)
    before, machine = one.read_bytes(), machine_file(tmp_path, LEGACY)
    found = remedies_of([str(one)], machine)
    assert [(r.code, r.writes) for r in found.remedies] == [("active-partition", ((0, 512),))]
    record = tmp_path / "r.undo"
    apply_remedy("active-partition", str(one), Consent("-one"), record, machine)
    assert forecast_drives([str(one)], machine).starts and table_of(one)["partitions"][0]["bootable"]
    assert run_trial(Trial([str(one)], legacy=True, expect="TOKEN-ONE", seconds=20)).seen
    put_back(one, record, before, "-one")


@pytest.mark.parametrize("kind", ["ntfs", "ext4"])
def test_new_identities_tell_a_copy_from_its_original(tmp_path: Path, kind: str) -> None:
    one = drive(tmp_path / "disk-one.img", "TOKEN-ONE", {}, kind)
    script = by_uuid(volume_id(one, 2))
    again = drive(tmp_path / "again.img", "TOKEN-ONE", {FALLBACK: loader(script)}, kind)
    data = bytearray(again.read_bytes())
    start, size = spans(one)[1]
    data[start : start + size] = one.read_bytes()[start : start + size]
    again.write_bytes(data)
    two = Path(shutil.copy(again, tmp_path / "disk-two.img"))
    codes = {f.code for f in forecast_drives([str(again), str(two)], None).findings}
    assert {"same-identity", "ambiguous"} <= codes
    assert {(r.code, r.drive) for r in remedies_of([str(again), str(two)], None).remedies} >= {
        ("restamp-table", str(two)),
        ("restamp-volume", str(two)),
    }
    before = two.read_bytes()
    apply_remedy("restamp-table", str(two), Consent("-two"), tmp_path / "t.undo")
    run("sfdisk", "--verify", two)
    assert table_of(two)["id"] != table_of(again)["id"]
    assert all(
        p["uuid"] != q["uuid"] for p, q in zip(table_of(two)["partitions"], table_of(again)["partitions"], strict=True)
    )
    middle = two.read_bytes()
    apply_remedy("restamp-volume", str(two), Consent("-two"), tmp_path / "v.undo")
    assert volume_id(two, 2) != volume_id(again, 2)
    for number, what in ((0, "vfat"), (1, kind)):
        check_volume(two, *spans(two)[number], what, tmp_path)
    both = forecast_drives([str(two), str(again)], None)
    assert both.starts and not {f.code for f in both.findings} & {"same-identity", "ambiguous"}
    assert [link.drive for link in both.chain if link.step == "system"] == [str(two)]
    assert run_trial(Trial([str(two), str(again)], expect="TOKEN-ONE", seconds=40)).started == str(two)
    put_back(two, tmp_path / "v.undo", middle, "-two")
    put_back(two, tmp_path / "t.undo", before, "-two")


def test_a_menu_that_looks_for_what_is_gone_is_pointed_at_its_own_system(tmp_path: Path) -> None:
    menu = f"search.fs_uuid 01234567-89ab-cdef-0123-456789abcdef root\n{BY_FILE.splitlines()[1]}\nsleep 30\n"
    one = drive(tmp_path / "disk-one.img", "TOKEN-ONE", {FALLBACK: loader(), "EFI/x/grub.cfg": menu.encode()}, "ext4")
    before = one.read_bytes()
    assert forecast_drives([str(one)], None).breaks_at == "system"
    apply_remedy("menu-identity", str(one), Consent("-one"), tmp_path / "m.undo")
    assert forecast_drives([str(one)], None).starts
    assert run_trial(Trial([str(one)], expect="TOKEN-ONE", seconds=40)).seen
    put_back(one, tmp_path / "m.undo", before, "-one")


def test_the_mark_for_a_check_is_taken_off(tmp_path: Path, survey_json: Any) -> None:
    one = drive(tmp_path / "disk-one.img", "TOKEN-ONE", {})
    start, size = spans(one)[1]
    part = tmp_path / "part.img"
    data = bytearray(one.read_bytes())
    part.write_bytes(data[start : start + size])
    run("ntfsresize", "--force", "--force", "--size", str(size - (8 << 20)), part, text="y\n")
    data[start : start + size] = part.read_bytes()
    one.write_bytes(data)
    assert survey_json(one)["partitions"][1]["volume"]["dirty"]
    before = one.read_bytes()
    apply_remedy("check-flag", str(one), Consent("-one"), tmp_path / "c.undo")
    assert not survey_json(one)["partitions"][1]["volume"]["dirty"]
    put_back(one, tmp_path / "c.undo", before, "-one")


@pytest.mark.parametrize("after", [0, 1, 2])
def test_a_remedy_that_was_cut_off_is_put_back(tmp_path: Path, monkeypatch: pytest.MonkeyPatch, after: int) -> None:
    one = drive(tmp_path / "disk-one.img", "TOKEN-ONE", {})
    before, record = one.read_bytes(), tmp_path / "t.undo"

    def cut(store: Any, pieces: Any, *told: Any) -> None:
        for at, data in pieces[:after]:
            store.write(at, data)
        store.sync()
        raise KeyboardInterrupt

    monkeypatch.setattr(mending, "_write", cut)
    with pytest.raises(KeyboardInterrupt):
        apply_remedy("restamp-table", str(one), Consent("-one"), record)
    assert record.exists() and (one.read_bytes() != before) == (after > 0)
    monkeypatch.undo()
    if after:
        put_back(one, record, before, "-one")
    else:
        with pytest.raises(Refused, match="nothing to put back"):
            undo_remedy(record, str(one), Consent("-one"))
    assert one.read_bytes() == before


def test_records_that_do_not_hold_together_and_wrong_words(tmp_path: Path, neogenesis: Any) -> None:
    one = drive(tmp_path / "disk-one.img", "TOKEN-ONE", {})
    record = tmp_path / "t.undo"
    apply_remedy("restamp-table", str(one), Consent("-one"), record)
    after = one.read_bytes()
    damaged = tmp_path / "d.undo"
    damaged.write_text(re.sub(r'("before": ?")45', r"\g<1>46", record.read_text(), count=1))
    with pytest.raises(BadRecord, match="damaged"):
        undo_remedy(damaged, str(one), Consent("-one"))
    other = make_drive(tmp_path / "disk-two.img", 60, [startup({}), system("T")])
    with pytest.raises(Refused, match="another drive"):
        undo_remedy(record, str(other), Consent("-two"))
    data = bytearray(after)
    data[600] ^= 1
    one.write_bytes(data)
    with pytest.raises(Refused, match="has changed"):
        undo_remedy(record, str(one), Consent("-one"))
    one.write_bytes(after)
    with pytest.raises(BadArgument, match="is there already"):
        apply_remedy("restamp-table", str(one), Consent("-one"), record)
    assert "no remedy" in neogenesis("remedy", "pray", one, "--confirm", "-one", status=2).stderr
    order = ["remedy", "startup-partition", one, "--confirm", "-one", "--record", tmp_path / "s.undo"]
    assert "nothing to mend" in neogenesis(*order, status=3).stderr
    assert one.read_bytes() == after and "nothing to mend" in neogenesis("remedies", one).stdout.lower()


def device_element(partition: str, disk: str) -> bytes:
    """A boot store's reference to a partition of a GPT disk."""
    head = bytes(16) + struct.pack("<IIII", 6, 0, 0x48, 0) + uuid.UUID(partition).bytes_le
    return (head + struct.pack("<II", 0, 0) + uuid.UUID(disk).bytes_le).ljust(0x58, b"\0")


def nt_drive(image: Path, other: bool = False) -> Path:
    """A manager that reads a real hive; with `other`, store and letters mean a drive that is not there."""
    plain = loader(BY_FILE).replace(b"mimg", b"\0\0\0\0")
    drive(image, "TOKEN-ONE", {})
    table = table_of(image)
    ids = [p["uuid"] for p in table["partitions"]]
    mine = (ids[1], table["id"]) if not other else (str(uuid.uuid4()), str(uuid.uuid4()))
    entry, manager = "{11111111-2222-3333-4444-555555555555}", "{9dea862c-5cdd-4e70-acc1-f32b344d4795}"
    store = make_hive(
        image.with_name("BCD"),
        {
            f"Objects\\{manager}\\Elements\\23000003": {"Element": entry},
            f"Objects\\{manager}\\Elements\\24000001": {"Element": [entry]},
            f"Objects\\{entry}\\Elements\\12000002": {
                "Element": "\\\\Windows\\\\system32\\\\winload.efi".replace("\\\\", "\\")
            },
            f"Objects\\{entry}\\Elements\\12000004": {"Element": "Meridian"},
            f"Objects\\{entry}\\Elements\\11000001": {"Element": device_element(*mine)},
            f"Objects\\{entry}\\Elements\\21000001": {"Element": device_element(*mine)},
        },
    )
    letter = b"DMIO:ID:" + uuid.UUID(str(uuid.uuid4()) if other else mine[0]).bytes_le
    records = make_hive(image.with_name("SYSTEM"), {"MountedDevices": {"\\\\DosDevices\\\\C:": letter}})
    files = {"Windows/System32/winload.efi": b"winload" * 500, "Windows/System32/config/SYSTEM": records}
    parts = (
        startup({"EFI/Microsoft/Boot/bootmgfw.efi": plain, "EFI/Microsoft/Boot/BCD": store, FALLBACK: plain}),
        Part(24, NT_DATA, "ntfs", "System", files),
    )
    for part, (start, size) in zip(parts, spans(image), strict=True):
        volume = image.with_name("volume")
        make_volume(volume, part, size)
        data = bytearray(image.read_bytes())
        data[start : start + size] = volume.read_bytes()
        image.write_bytes(data)
    return image


def test_a_boot_store_is_read_and_follows_new_identities(tmp_path: Path) -> None:
    one = nt_drive(tmp_path / "disk-one.img")
    before = one.read_bytes()
    entry = {"number": "0001", "label": "Manager", "active": True}
    path = f"HD(1,GPT,{table_of(one)['partitions'][0]['uuid']},0x800,0xa000)/File(\\EFI\\Microsoft\\Boot\\bootmgfw.efi)"
    machine = machine_file(tmp_path, {"boot_entries": [entry | {"device_path": path}], "boot_order": ["0001"]})
    found = forecast_drives([str(one)], machine)
    assert found.starts and [link.step for link in found.chain][-2:] == ["store", "system"]
    assert "Meridian" in found.chain[-2].text and found.chain[-1].partition == 2
    assert not remedies_of([str(one)], machine).remedies
    apply_remedy("restamp-table", str(one), Consent("-one"), tmp_path / "t.undo")
    again = forecast_drives([str(one)], None)
    assert again.starts and again.chain[-1].step == "system" and again.chain[-1].partition == 2
    assert not {r.code for r in remedies_of([str(one)], None).remedies} & {"store-identity", "drive-letters"}
    check_volume(one, *spans(one)[1], "ntfs", tmp_path)
    put_back(one, tmp_path / "t.undo", before, "-one")


def test_a_store_and_letters_that_mean_another_drive_are_pointed_at_their_own(tmp_path: Path) -> None:
    one = nt_drive(tmp_path / "disk-one.img", other=True)
    before = one.read_bytes()
    assert forecast_drives([str(one)], None).breaks_at == "system"
    assert {r.code for r in remedies_of([str(one)], None).remedies} == {"store-identity", "drive-letters"}
    apply_remedy("store-identity", str(one), Consent("-one"), tmp_path / "s.undo")
    assert forecast_drives([str(one)], None).starts
    middle = one.read_bytes()
    apply_remedy("drive-letters", str(one), Consent("-one"), tmp_path / "l.undo")
    assert not remedies_of([str(one)], None).remedies
    for number, kind in ((0, "vfat"), (1, "ntfs")):
        check_volume(one, *spans(one)[number], kind, tmp_path)
    put_back(one, tmp_path / "l.undo", middle, "-one")
    put_back(one, tmp_path / "s.undo", before, "-one")


def legacy_element(start: int, signature: bytes) -> bytes:
    """A boot store's reference to a partition of an MBR disk: by its place, and the signature of the disk."""
    head = bytes(16) + struct.pack("<IIII", 6, 0, 0x48, 0) + struct.pack("<QQ", start, 0)
    return (head + struct.pack("<II", 0, 1) + signature).ljust(0x58, b"\0")


def legacy_nt_drive(image: Path, other: bool = False) -> Path:
    """An MBR drive whose active volume has a manager and its store; with `other` it means a disk that is gone."""
    lines = "label: dos\nlabel-id: 0x5a17c0de\nstart=2048, size=98304, type=7, bootable\n"
    with image.open("wb") as file:
        file.truncate(50 << 20)
    run("sfdisk", "-q", image, text=lines)
    start, size = spans(image)[0]
    signature = bytes.fromhex("5a17c0de")[::-1]
    mine = (start, signature) if not other else (63 * 512, b"\1\2\3\4")
    entry, manager = "{11111111-2222-3333-4444-555555555555}", "{9dea862c-5cdd-4e70-acc1-f32b344d4795}"
    store = make_hive(
        image.with_name("BCD"),
        {
            f"Objects\\{manager}\\Elements\\23000003": {"Element": entry},
            f"Objects\\{entry}\\Elements\\12000002": {"Element": "\\Windows\\system32\\winload.exe"},
            f"Objects\\{entry}\\Elements\\11000001": {"Element": legacy_element(*mine)},
            f"Objects\\{entry}\\Elements\\21000001": {"Element": legacy_element(*mine)},
        },
    )
    letter = mine[1] + mine[0].to_bytes(8, "little")
    records = make_hive(image.with_name("SYSTEM"), {"MountedDevices": {"\\\\DosDevices\\\\C:": letter}})
    files = {
        "bootmgr": b"manager" * 300,
        "Boot/BCD": store,
        "Windows/System32/winload.exe": b"winload" * 500,
        "Windows/System32/config/SYSTEM": records,
    }
    make_volume(image.with_name("volume"), Part(48, "7", "ntfs", "System", files), size)
    data = bytearray(image.read_bytes())
    data[start : start + size] = image.with_name("volume").read_bytes()
    for sector in (start, start + size - 512):  # the volume's own copy stands in its last one
        data[sector + 90 : sector + 190] = b"\x90" * 93 + b"BOOTMGR"
    data[:40] = b"\x90" * 16 + b"Missing operating system"
    image.write_bytes(data)
    return image


def test_on_an_old_table_store_and_letters_follow_a_new_signature(tmp_path: Path) -> None:
    one = legacy_nt_drive(tmp_path / "disk-one.img")
    before, machine = one.read_bytes(), machine_file(tmp_path, {"firmware": "legacy"})
    found = forecast_drives([str(one)], machine)
    assert found.starts and found.chain[-1].partition == 1, found
    assert not remedies_of([str(one)], machine).remedies
    apply_remedy("restamp-table", str(one), Consent("-one"), tmp_path / "t.undo")
    assert table_of(one)["id"] != "0x5a17c0de"
    assert forecast_drives([str(one)], machine).starts
    assert not remedies_of([str(one)], machine).remedies, "the letter is still that of its own volume"
    check_volume(one, *spans(one)[0], "ntfs", tmp_path)
    put_back(one, tmp_path / "t.undo", before, "-one")


def test_on_an_old_table_a_store_that_means_another_disk_is_pointed_at_its_own(tmp_path: Path) -> None:
    one = legacy_nt_drive(tmp_path / "disk-one.img", other=True)
    before, machine = one.read_bytes(), machine_file(tmp_path, {"firmware": "legacy"})
    assert forecast_drives([str(one)], machine).breaks_at == "system"
    assert {r.code for r in remedies_of([str(one)], machine).remedies} == {"store-identity", "drive-letters"}
    apply_remedy("store-identity", str(one), Consent("-one"), tmp_path / "s.undo")
    assert forecast_drives([str(one)], machine).starts
    apply_remedy("drive-letters", str(one), Consent("-one"), tmp_path / "l.undo")
    assert not remedies_of([str(one)], machine).remedies
    check_volume(one, *spans(one)[0], "ntfs", tmp_path)
    undo_remedy(tmp_path / "l.undo", str(one), Consent("-one"))
    put_back(one, tmp_path / "s.undo", before, "-one")


def test_a_protective_sector_is_written_anew_and_the_firmware_believes_the_table(tmp_path: Path) -> None:
    one = drive(tmp_path / "disk-one.img", "TOKEN-ONE", {FALLBACK: loader(BY_FILE)})
    data = bytearray(one.read_bytes())
    data[:446] = b"own boot code".ljust(446, b"\x90")
    data[440:512] = bytes(72)
    one.write_bytes(data)
    assert not forecast_drives([str(one)], None).starts
    row = next(r for r in remedies_of([str(one)], None).remedies if r.code == "protective-sector")
    assert row.writes == ((0, 512),)
    apply_remedy("protective-sector", str(one), Consent("-one"), tmp_path / "p.undo")
    after = one.read_bytes()
    assert after[:440] == data[:440] and after[512:] == data[512:] and after[450] == 0xEE
    assert "No errors detected" in run("sfdisk", "--verify", one)
    assert forecast_drives([str(one)], None).starts
    assert run_trial(Trial([str(one)], expect="TOKEN-ONE", seconds=40)).seen
    assert "protective-sector" not in {r.code for r in remedies_of([str(one)], None).remedies}
    put_back(one, tmp_path / "p.undo", bytes(data), "-one")


def test_a_hidden_volume_is_shown_again_when_it_is_made_active(tmp_path: Path) -> None:
    one = legacy_nt_drive(tmp_path / "disk-one.img")
    data = bytearray(one.read_bytes())
    data[446], data[450] = 0, 0x17
    one.write_bytes(data)
    machine = machine_file(tmp_path, {"firmware": "legacy"})
    assert forecast_drives([str(one)], machine).breaks_at == "active-partition"
    row = next(r for r in remedies_of([str(one)], machine).remedies if r.code == "active-partition")
    assert "no longer hidden" in row.text
    apply_remedy("active-partition", str(one), Consent("-one"), tmp_path / "a.undo", machine)
    after = one.read_bytes()
    assert (after[446], after[450]) == (0x80, 7) and forecast_drives([str(one)], machine).starts
    put_back(one, tmp_path / "a.undo", bytes(data), "-one")


def test_a_table_without_a_signature_gets_one_and_nothing_else_changes(tmp_path: Path) -> None:
    """Four zero bytes are no identity: they stand everywhere."""
    one = legacy_nt_drive(tmp_path / "disk-one.img")
    data = bytearray(one.read_bytes())
    data[440:444] = bytes(4)
    one.write_bytes(data)
    apply_remedy("restamp-table", str(one), Consent("-one"), tmp_path / "t.undo")
    after = bytearray(one.read_bytes())
    assert any(after[440:444])
    after[440:444] = bytes(4)
    assert after == data


def test_the_record_of_recovery_says_where_it_stands_now(tmp_path: Path) -> None:
    """As after a transfer that moved it to the end."""
    image = tmp_path / "disk-one.img"
    record = (
        b'<?xml version="1.0" encoding="utf-8"?>\r\n\r\n<WindowsRE version="2.0">\r\n'
        b'  <WinreLocation path="\\Recovery\\WindowsRE" id="0" offset="99" guid="{%s}"/>\r\n'
        + b'  <ImageLocation path="" id="0"/>\r\n' * 60
        + b"</WindowsRE>\r\n"
    ) % str(uuid.uuid4()).encode()
    system_part = Part(24, NT_DATA, "ntfs", "System", {"Windows/System32/Recovery/ReAgent.xml": record})
    make_drive(image, 70, [startup({}), system_part, Part(16, RECOVERY, "ntfs", "Recovery")])
    before = image.read_bytes()
    assert "recovery-record" in {r.code for r in remedies_of([str(image)], None).remedies}
    apply_remedy("recovery-record", str(image), Consent("-one"), tmp_path / "r.undo")
    start, size = spans(image)[1]
    check_volume(image, start, size, "ntfs", tmp_path)
    text = image.read_bytes()[start : start + size]
    wanted = f'offset="{spans(image)[2][0]}" guid="{{{table_of(image)["id"].lower()}}}"'.encode()
    assert text.count(wanted) == 1 and b'offset="99"' not in text
    assert "recovery-record" not in {r.code for r in remedies_of([str(image)], None).remedies}
    put_back(image, tmp_path / "r.undo", before, "-one")


def test_a_start_up_partition_is_made_anew_from_the_systems_own_loader(tmp_path: Path) -> None:
    image = tmp_path / "disk-one.img"
    files = {"boot/grub/x86_64-efi/core.efi": loader(BY_FILE), "token.txt": b"TOKEN-ONE\n"}
    make_drive(image, 80, [startup({}), Part(40, LINUX, "ext4", "root", files)])
    start, size = spans(image)[0]
    data = bytearray(image.read_bytes())
    data[start : start + (1 << 20)] = bytes(1 << 20)
    image.write_bytes(data)
    before = image.read_bytes()
    assert forecast_drives([str(image)], None).breaks_at == "loader"
    row = next(r for r in remedies_of([str(image)], None).remedies if r.code == "startup-partition")
    assert row.risk == "high"
    apply_remedy("startup-partition", str(image), Consent("-one"), tmp_path / "s.undo")
    assert covered(before, image.read_bytes(), [(start, start + size)])
    check_volume(image, start, size, "vfat", tmp_path)
    assert forecast_drives([str(image)], None).starts
    assert run_trial(Trial([str(image)], expect="TOKEN-ONE", seconds=40)).seen
    put_back(image, tmp_path / "s.undo", before, "-one")

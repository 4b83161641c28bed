"""A machine's own list of boot entries: listings, variable stores before and after a start, and the emulated keyboard."""

from __future__ import annotations

import threading
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from neogenesis.bench.emulator import Trial, run_trial
from neogenesis.bench.emulator.monitor import KEY_NAMES
from neogenesis.bench.emulator.variables import entries_in, store_with
from neogenesis.bench.inside.booting import forecast_drives, read_entries
from neogenesis.core.boot.entries import (
    BootList,
    faults_of,
    free_number,
    made_by_hand,
    read_listing,
    target_text,
    with_entries,
)
from neogenesis.core.errors import BadRecord
from neogenesis.core.machine.model import BootEntry
from tests.boots import BY_FILE, drive, loader
from tests.drives import table_of

FALLBACK = "EFI/BOOT/BOOTX64.EFI"
LISTING = """BootCurrent: 0003
Timeout: 1 seconds
BootOrder: 0003,0000,2001
BootNext: 0000
Boot0000* Old system\tHD(1,GPT,1b1f3a1c-0000-4000-8000-00000000000a,0x800,0x32000)/File(\\EFI\\OLD\\LOADER.EFI)57494e4441
      dp: 04 01 2a 00 01 00 00 00 / 7f ff 04 00
    data: 57 49
Boot0003* New system HD(2,GPT,1b1f3a1c-0000-4000-8000-00000000000b,0x800,0x32000)/\\EFI\\NEW\\LOADER.EFI
Boot2001  USB stick\tRC
MirroredPercentageAbove4G: 0.00
"""


def test_a_listing_as_a_linux_start_prints_it() -> None:
    found = read_listing(LISTING)
    assert [(e.number, e.label, e.active) for e in found.boot_entries] == [
        ("0000", "Old system", True),
        ("0003", "New system", True),
        ("2001", "USB stick", False),
    ]
    assert found.boot_order == ("0003", "0000", "2001") and found.boot_next == "0000"
    assert target_text(found.boot_entries[0]) == "GPT 1 1b1f3a1c \\EFI\\OLD\\LOADER.EFI"
    assert target_text(found.boot_entries[1]) == "GPT 2 1b1f3a1c \\EFI\\NEW\\LOADER.EFI"
    assert target_text(found.boot_entries[2]) == "" and not faults_of(found) and free_number(found) == "0001"


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("", "no boot entry"),
        ("nothing of the kind", "no boot entry"),
        ("x" * (5 << 20), "too long"),
        ("Boot0000* A\tRC\nBoot0000* B\tRC\n", "2 times"),
    ],
)
def test_what_is_no_listing_is_said(text: str, says: str) -> None:
    with pytest.raises(BadRecord, match=says):
        read_listing(text)


@given(st.text(alphabet="Bot0123ABF*: \t\n()HDGPT,\\-", max_size=400))
def test_any_text_is_a_listing_or_is_refused(text: str) -> None:
    try:
        found = read_listing(text)
    except BadRecord:
        return
    assert found.boot_entries and not faults_of(found)


def test_a_machine_that_nobody_knows_starts_by_its_list() -> None:
    known = read_listing(LISTING)
    machine = with_entries(None, known)
    assert machine is not None and machine.firmware == "uefi" and machine.boot_next == "0000"
    assert with_entries(machine, None) is machine


def test_the_listing_decides_which_drive_is_forecast_and_started(tmp_path: Path, neogenesis: Any) -> None:
    one = drive(tmp_path / "one.img", "TOKEN-ONE", {FALLBACK: loader(BY_FILE)})
    two = drive(tmp_path / "two.img", "TOKEN-TWO", {"EFI/other/start.efi": loader(BY_FILE)})
    unique = table_of(two)["partitions"][0]["uuid"].lower()
    listing = tmp_path / "listing.txt"
    listing.write_text(
        f"BootOrder: 0007\nBoot0007* Other\tHD(1,GPT,{unique},0x800,0xa000)/File(\\EFI\\other\\start.efi)\n"
    )
    names = [str(one), str(two)]
    assert forecast_drives(names, None).chain[-1].drive == str(one)
    found = forecast_drives(names, None, listing)
    assert found.starts and any(link.drive == str(two) for link in found.chain if link.step == "loader")
    machine = with_entries(None, read_entries(listing))
    trial = run_trial(Trial(names, machine, expect="TOKEN-", seconds=40))
    assert trial.seen and trial.started == str(two)
    listed = trial.firmware_list
    assert listed is not None and listed.boot_order[0] == "0007"
    assert [e.label for e in listed.boot_entries if e.number == "0007"] == ["Other"]
    assert unique in next(e for e in listed.boot_entries if e.number == "0007").device_path.lower()
    said = neogenesis("forecast", one, two, "--entries", listing).stdout
    assert "It starts." in said and str(two) in said
    assert neogenesis("forecast", one, "--entries", tmp_path / "gone", status=2).stderr.count("\n") == 1
    listing.write_text("hello")
    assert neogenesis("forecast", one, "--entries", listing, status=3).stderr.count("\n") == 1


def test_a_store_gives_back_what_was_put_into_it() -> None:
    firmware = next(
        p for p in map(Path, ("/usr/share/OVMF/OVMF_VARS_4M.fd", "/usr/share/OVMF/OVMF_VARS.fd")) if p.is_file()
    )
    empty = firmware.read_bytes()
    assert entries_in(empty) == BootList()
    hand = made_by_hand("0001", "Made by hand", "1B1F3A1C-0000-4000-8000-00000000000B", 2, "\\EFI\\x.efi")
    off = BootEntry(number="0002", label="Off", device_path="Path(3,18,00000000ffff)/File(\\a)", active=False)
    known = BootList(boot_entries=(hand, off), boot_order=("0002", "0001"), boot_next="0001")
    machine = with_entries(None, known)
    assert machine is not None
    filled = store_with(empty, machine)
    back = entries_in(filled)
    assert back.boot_order == known.boot_order and back.boot_next == "0001"
    assert [(e.number, e.label, e.active) for e in back.boot_entries] == [
        ("0001", "Made by hand", True),
        ("0002", "Off", False),
    ]
    assert target_text(back.boot_entries[0]) == target_text(hand)
    with pytest.raises(BadRecord):
        entries_in(b"\0" * 4096)
    at = next(n for n, (a, b) in enumerate(zip(empty, filled, strict=True)) if a != b)
    for place in range(at, at + 400, 3):  # damage never does more than lose entries
        torn = bytearray(filled)
        torn[place] ^= 0xFF
        assert len(entries_in(bytes(torn)).boot_entries) <= 2
        entries_in(bytes(torn[:place]))


def test_keys_reach_the_emulated_machine_and_its_screen_is_seen(tmp_path: Path) -> None:
    asks = "echo WHAT-IS-IT\nread answer\necho ANSWER-$answer\nsleep 30\n"
    image = drive(tmp_path / "one.img", "TOKEN-ONE", {FALLBACK: loader(asks)})
    keys, picture = tmp_path / "keys", tmp_path / "screen.png"
    heard: list[str] = []

    typing = threading.Timer(0.5, lambda: keys.write_text("f\nnonsense\nshift-f\n7\nret\n"))

    def tell(text: str) -> None:
        heard.append(text)
        if "WHAT-IS-IT" in "".join(heard) and not typing.is_alive() and not keys.exists():
            typing.start()

    trial = Trial([str(image)], expect="ANSWER-fF7", seconds=60, screenshot=picture, live=True, keys=keys, tell=tell)
    found = run_trial(trial)
    typing.join(5)
    assert found.seen == "ANSWER-fF7", found.serial
    assert "" in heard and picture.read_bytes()[:4] == b"\x89PNG" and {"ret", "esc", "f12", "a"} <= KEY_NAMES

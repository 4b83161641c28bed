"""What fills a volume, how fast a drive reads, why a machine is slow, in which state an encryption is."""

from __future__ import annotations

import csv
import json
import struct
from collections.abc import Callable
from pathlib import Path

import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st

from neogenesis.bench.inside import looking, surveying
from neogenesis.bench.inside.looking import Counted
from neogenesis.core.drive import Health, HealthReading, Reason
from neogenesis.core.drive.history import HealthEntry, add_to_history, endurance_of, load_history, trends, worsening
from neogenesis.core.errors import BadArgument, BadRecord, Refused
from neogenesis.core.filesystem.encryption import Encryption, encryption_of
from neogenesis.core.store import MemoryStore
from neogenesis.core.survey import Survey
from neogenesis.core.survey.decrypt import decryption_guide
from neogenesis.core.survey.filling import FillCount, Filling, kind_of_path, kinds
from neogenesis.core.survey.profile import SpeedProfile, Zone, profile_drive
from neogenesis.core.survey.speech import speed_sentences
from neogenesis.core.survey.together import changes, together
from neogenesis.core.survey.why import AtTheMachine, explanations
from neogenesis.core.system.inside import Inside, Program
from tests.drives import LINUX, NT_DATA, STARTUP, Part, make_drive, run, simulated, standard_parts

# What fills it


@pytest.mark.parametrize(
    ("path", "kind"),
    [
        ("hiberfil.sys", "sleep"),
        ("pagefile.sys", "paging"),
        ("Windows.old/Windows/x.dll", "old-system"),
        ("$Recycle.Bin/S-1/x", "trash"),
        ("home/keeper/.local/share/Trash/files/x", "trash"),
        ("Users/berth/AppData/Local/Temp/x", "caches"),
        ("Users/berth/AppData/Local/Browser/Cache/x", "caches"),
        ("Users/berth/AppData/Roaming/x", "people"),
        ("Users/berth/Pictures/x.jpg", "people"),
        ("home/keeper/.cache/x", "caches"),
        ("var/lib/db/x", "programs"),
        ("var/log/x", "logs"),
        ("var/mail/x", "system"),
        ("Program Files (x86)/x/y.exe", "programs"),
        ("Windows/System32/x", "system"),
        ("Scans/2019/x.tif", "elsewhere"),
        ("x.txt", "elsewhere"),
    ],
)
def test_kinds_by_place(path: str, kind: str) -> None:
    assert kind_of_path(path) == kind


def filled(files: dict[str, int], used: int | None = None) -> Filling:
    count = FillCount()
    for path, size in files.items():
        count.add(path, size)
    total = sum(files.values())
    return count.filling("f", 3, 10 * total + 1, total if used is None else used, True, 1.0)


def test_kinds_people_folders_and_largest_files_add_up() -> None:
    files = {"Users/a/x": 500, "Users/a/b/c/y": 300, "Users/b/z": 100, "Scans/1/s": 90, "r": 9, "pagefile.sys": 1}
    found = filled(files, used=1200)
    assert sum(s.bytes for s in found.kinds) == found.bytes == 1000 and found.files == 6
    assert [(p.name, p.bytes, p.files) for p in found.people] == [("a", 800, 2), ("b", 100, 1)]
    tree = {f.name: (f.bytes, f.files) for f in found.folders}
    assert tree[""] == (1000, 6) and tree["Users"] == (900, 3) and tree["Users/a/b"] == (300, 1)
    assert [f.path for f in found.largest][:2] == ["Users/a/x", "Users/a/b/c/y"]
    assert found.beyond_bytes == 200


@given(st.dictionaries(st.from_regex(r"[a-d](/[a-d]){0,4}", fullmatch=True), st.integers(0, 10**12), max_size=40))
def test_a_folder_holds_what_is_below_it(files: dict[str, int]) -> None:
    found = filled(files)
    tree = {f.name: f for f in found.folders}
    for name, share in tree.items():
        inside = [s for p, s in files.items() if not name or p.startswith(f"{name}/")]
        assert (share.bytes, share.files) == (sum(inside), len(inside))


def test_many_folders_do_not_take_more_memory(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("neogenesis.core.survey.filling._MOST_FOLDERS", 100)
    count = FillCount()
    for n in range(3000):
        count.add(f"Users/a/deep/deeper/{n}/x", 10)
    assert len(count._folders) <= 101 and count.bytes == 30_000
    tree = {f.name: f.bytes for f in count.filling("f", 1, 1, 1, True, 0).folders}
    assert tree["Users/a/deep/deeper"] == 30_000


def test_kinds_that_ship_say_why_and_have_distinct_codes() -> None:
    assert len({k.code for k in kinds()}) == len(kinds()) and all(k.because for k in kinds())


def test_a_real_drive_is_counted_cut_off_and_exported(tmp_path: Path, neogenesis: Callable) -> None:
    image = make_drive(tmp_path / "old.img", 640, standard_parts())
    survey = surveying.survey(str(image)).survey
    assert looking.fillable(survey)[:2] in ([5, 3], [3, 5])
    told: list[Counted] = []
    found = looking.what_fills(str(image), survey, 3, told.append)
    assert found.complete and found.people[0].name == "berth" and found.people[0].files == 42
    assert found.metadata_runs >= 1
    cut = looking.what_fills(str(image), survey, 3, most_files=10)
    assert not cut.complete and cut.files == 10
    with pytest.raises(BadArgument, match="has no files"):
        looking.what_fills(str(image), survey, 2)
    said = json.loads(neogenesis("fills", image, "--volume", "3", "--json", "--csv", tmp_path / "f.csv").stdout)
    assert said["schema"] == "neogenesis.filling/1" and said["bytes"] == found.bytes
    with (tmp_path / "f.csv").open(newline="") as file:
        rows = list(csv.DictReader(file))
    assert {r["what"] for r in rows} == {"kind", "person", "folder", "file"}
    assert any(r["name"] == "Users/berth/zeros.bin" and r["bytes"] == "3000000" for r in rows)
    assert "people's files" in neogenesis("fills", image, "--volume", "3").stdout
    neogenesis("fills", image, "--volume", "9", status=2)
    neogenesis("fills", image, "--csv", tmp_path / "no/f.csv", status=3)


def test_a_drive_without_files_says_so(tmp_path: Path, neogenesis: Callable) -> None:
    (tmp_path / "empty.img").write_bytes(bytes(1 << 20))
    neogenesis("fills", tmp_path / "empty.img", status=2)


# How fast it reads


def drive(tmp_path: Path, **traits: object) -> tuple[str, Survey]:
    image = tmp_path / "old.img"
    if not image.exists():
        make_drive(image, 640, [Part(200, NT_DATA, "ntfs", "Main"), Part(300, LINUX, "ext4", "papers")])
    path = simulated(tmp_path / "old.drive.json", "old.img", **traits)
    return str(path), surveying.survey(str(path)).survey


def speed(tmp_path: Path, **traits: object) -> tuple[SpeedProfile, Survey]:
    name, survey = drive(tmp_path, **traits)
    return looking.read_speed(name, survey), survey


def test_a_mechanical_drive_is_known_by_its_seeks(tmp_path: Path) -> None:
    found, survey = speed(tmp_path, read={"bytes_per_s": 1.1e8, "seek_ms": 9})
    assert found.mechanical and found.ended == "whole" and not found.zones and not found.link
    assert found.median_bytes_per_s == pytest.approx(1.1e8, rel=0.02) and len(found.soundings) == 96
    assert "So it is mechanical." in speed_sentences(found, survey)


def test_a_slow_zone_is_found_and_named_by_partition(tmp_path: Path) -> None:
    found, survey = speed(tmp_path, read={"bytes_per_s": 4e8, "slow": [[300 << 20, 400 << 20, 60]]})
    assert len(found.zones) == 1 and found.zones[0].partitions == (2,) and not found.mechanical
    assert found.zones[0].start_bytes == pytest.approx(300 << 20, abs=8 << 20)
    assert any(line.startswith("Slow from") and "papers" in line for line in speed_sentences(found, survey))
    assert found.slow_share == pytest.approx(100 / 640, abs=0.03)


@pytest.mark.parametrize(("rate", "link"), [(4.1e7, "USB 2"), (5.4e8, "SATA 6 Gbit/s"), (1.1e8, ""), (9e9, "")])
def test_a_flat_rate_below_a_ceiling_is_the_links(tmp_path: Path, rate: float, link: str) -> None:
    assert speed(tmp_path, read={"bytes_per_s": rate})[0].link == link


def test_a_failing_drive_is_never_stressed(tmp_path: Path, neogenesis: Callable) -> None:
    with pytest.raises(Refused, match="not to be stressed"):
        speed(tmp_path, health={"pending_sectors": 3})
    neogenesis("speed", tmp_path / "old.drive.json", status=3)
    simulated(tmp_path / "old.drive.json", "old.img", read={"bytes_per_s": 1e8})
    assert "No part of it is slow." in neogenesis("speed", tmp_path / "old.drive.json").stdout
    assert json.loads(neogenesis("speed", tmp_path / "old.drive.json", "--json").stdout)["ended"] == "whole"


def test_it_ends_at_stalls_errors_and_when_its_time_is_up(tmp_path: Path) -> None:
    assert speed(tmp_path, read={"slow": [[100 << 20, 110 << 20, 5000]]})[0].ended == "stalls"
    found, survey = speed(tmp_path, read={"unreadable": [[200 << 20, 300 << 20]]})
    assert found.ended == "errors" and len([s for s in found.soundings if s.bytes_per_s is None]) == 3
    assert any("left alone" in line for line in speed_sentences(found, survey))
    assert speed(tmp_path, read={"bytes_per_s": 5e6})[0].ended == "time"
    stopped = profile_drive(MemoryStore(64 << 20), lambda: 0.0, (), "f", goes_on=lambda: False)
    assert stopped.ended == "stopped" and stopped.median_bytes_per_s is None
    assert speed_sentences(stopped, survey)[0] == "Nothing of the drive could be read."


@pytest.mark.parametrize("size", [0, 512, 4096, 5 << 20])
def test_small_drives_are_sampled_too(size: int) -> None:
    found = profile_drive(MemoryStore(size), lambda: 0.0, (), "f")
    assert found.ended == "whole" and all(s.offset_bytes < size for s in found.soundings)


# Why


@pytest.fixture(scope="module")
def sound(tmp_path_factory: pytest.TempPathFactory) -> Survey:
    image = make_drive(tmp_path_factory.mktemp("why") / "old.img", 320, [Part(300, LINUX, "ext4", "papers")])
    return surveying.survey(str(image)).survey


def codes(survey: Survey, **more: object) -> list[str]:
    known = {"profile": None, "fillings": (), "inside": (), "machine": AtTheMachine()} | more
    return [e.code for e in explanations(survey, **known)]  # type: ignore[arg-type]


def with_volume(survey: Survey, **fields: object) -> Survey:
    one = survey.partitions[0]
    volume = msgspec.structs.replace(one.volume, **fields)
    return msgspec.structs.replace(survey, partitions=(msgspec.structs.replace(one, volume=volume),))


def test_nothing_explains_a_sound_empty_machine(sound: Survey) -> None:
    assert codes(sound) == []


@pytest.mark.parametrize(
    ("machine", "code", "inside"),
    [
        ({"memory_gb": 4.0}, "little-memory", {"memory_gb": 4.1}),
        ({"hottest_c": 85.0}, "hot", {"hottest_c": 84.9}),
        ({"battery_wear_percent": 50.0}, "worn-battery", {"battery_wear_percent": 49.0}),
        ({"symptoms": ("malware",)}, "malware", {"symptoms": ("slow",)}),
    ],
)
def test_each_rule_of_the_machine_at_its_boundary(sound: Survey, machine: dict, code: str, inside: dict) -> None:
    assert codes(sound, machine=AtTheMachine(**machine)) == [code]
    assert codes(sound, machine=AtTheMachine(**inside)) == []


def test_each_rule_of_the_drive_at_its_boundary(sound: Survey) -> None:
    size = sound.partitions[0].volume.size_bytes
    assert codes(with_volume(sound, used_bytes=-(-size * 9 // 10))) == ["nearly-full"]
    assert codes(with_volume(sound, used_bytes=size * 9 // 10 - 4096)) == []
    assert codes(with_volume(sound, dirty=True)) == ["unclean"]
    failing = msgspec.structs.replace(
        sound, health=Health(verdict="copy-now", image_first=True, reasons=(Reason(code="pending", text="3 sectors"),))
    )
    assert codes(failing) == ["failing"]
    many = Inside(programs=tuple(Program(name=str(n)) for n in range(150)))
    assert codes(sound, inside=(many,)) == ["many-programs"]
    fewer = msgspec.structs.replace(many, programs=many.programs[1:])
    assert codes(sound, inside=(fewer,)) == []


def test_a_slow_zone_counts_from_one_per_cent_on(sound: Survey, tmp_path: Path) -> None:
    profile = speed(tmp_path, read={"bytes_per_s": 4e8})[0]

    def with_zone(share: float) -> SpeedProfile:
        zone = Zone(start_bytes=0, end_bytes=round(profile.size_bytes * share), bytes_per_s=1e6)
        return msgspec.structs.replace(profile, zones=(zone,), mechanical=False, link="")

    assert codes(sound, profile=with_zone(0.0101)) == ["slow-zone"] and codes(sound, profile=with_zone(0.0099)) == []


def test_what_can_be_cleared_is_said_with_what_it_costs(sound: Survey) -> None:
    filling = replace_size(filled({"Windows.old/x": 60, "Users/a/x": 40}), 1000)
    found = explanations(sound, None, (filling,), (), AtTheMachine())
    assert [e.code for e in found] == ["clear-old-system"] and "way back" in found[0].takes
    assert codes(sound, fillings=(replace_size(filling, 1300),)) == []


def test_a_list_of_files_in_many_pieces_is_told(sound: Survey) -> None:
    def pieces(count: int) -> Filling:
        return msgspec.structs.replace(filled({"Users/a/x": 1}), metadata_runs=count)

    assert codes(sound, fillings=(pieces(200),)) == ["fragmented"] and codes(sound, fillings=(pieces(199),)) == []


def replace_size(filling: Filling, size: int) -> Filling:
    return msgspec.structs.replace(filling, size_bytes=size)


def test_the_strongest_explanation_comes_first(sound: Survey, tmp_path: Path) -> None:
    profile = speed(tmp_path, read={"bytes_per_s": 1e8, "seek_ms": 9, "slow": [[300 << 20, 400 << 20, 300]]})[0]
    machine = AtTheMachine(memory_gb=2, battery_wear_percent=80)
    assert codes(sound, profile=profile, machine=machine) == [
        "slow-zone",
        "mechanical",
        "little-memory",
        "worn-battery",
    ]


# Encryption


def fve(state: int, protectors: tuple[int, ...], encrypted: int = 5 << 20, size: int = 8 << 20) -> bytes:
    raw = bytearray(size)
    raw[3:11] = b"-FVE-FS-"
    struct.pack_into("<3Q", raw, 176, 1 << 20, 2 << 20, 3 << 20)
    entries = b"".join(
        struct.pack("<HHHH", 36 + 8, 2, 8, 1) + bytes(26) + struct.pack("<H", p) + bytes(8) for p in protectors
    )
    block = bytearray(64) + struct.pack("<IIII", 48 + len(entries), 1, 48, 48) + bytes(32) + entries
    block[:8] = b"-FVE-FS-"
    struct.pack_into("<HH", block, 12, state, state)
    struct.pack_into("<Q", block, 16, encrypted)
    raw[1 << 20 : (1 << 20) + len(block)] = block
    return bytes(raw)


def store_of(data: bytes) -> MemoryStore:
    store = MemoryStore(len(data))
    store.write(0, data)
    return store


@pytest.mark.parametrize(
    ("state", "protectors", "expected"),
    [
        (4, (0x100, 0x800), Encryption(kind="fve", state="on", protectors=("tpm", "recovery-password"))),
        (4, (0x0, 0x800), Encryption(kind="fve", state="suspended", protectors=("clear-key", "recovery-password"))),
        (2, (0x2000,), Encryption(kind="fve", state="encrypting", protectors=("password",), encrypted_bytes=5 << 20)),
        (5, (), Encryption(kind="fve", state="decrypting", encrypted_bytes=5 << 20)),
        (1, (), Encryption(kind="fve", state="off")),
        (77, (0x7,), Encryption(kind="fve", state="unknown", protectors=("other",))),
    ],
)
def test_states_of_an_encrypted_volume(state: int, protectors: tuple[int, ...], expected: Encryption) -> None:
    assert encryption_of(store_of(fve(state, protectors))) == expected


def test_damaged_records_of_an_encryption_are_unknown() -> None:
    raw = bytearray(fve(4, (0x100,)))
    raw[1 << 20 : (1 << 20) + 8] = bytes(8)
    assert encryption_of(store_of(bytes(raw))) == Encryption(kind="fve", state="unknown")
    struct.pack_into("<3Q", raw, 176, 1 << 60, 0, 2**64 - 1)
    assert encryption_of(store_of(bytes(raw))) == Encryption(kind="fve", state="unknown")
    raw = bytearray(fve(4, (0x100,)))
    struct.pack_into("<H", raw, (1 << 20) + 112, 0)
    assert encryption_of(store_of(bytes(raw))) == Encryption(kind="fve", state="on")
    assert encryption_of(store_of(bytes(4096))) is None


@pytest.mark.parametrize("kind", ["luks1", "luks2"])
def test_real_volumes_of_the_distribution(tmp_path: Path, kind: str) -> None:
    image = tmp_path / "v.img"
    with image.open("wb") as file:
        file.truncate(32 << 20)
    run(
        "cryptsetup",
        "luksFormat",
        "-q",
        "--type",
        kind,
        "--pbkdf",
        "pbkdf2",
        "--iter-time",
        "1",
        image,
        "-",
        text="x" * 20,
    )
    found = encryption_of(store_of(image.read_bytes()))
    assert found == Encryption(kind=kind, state="on", protectors=("passphrase",))  # type: ignore[arg-type]
    lies = bytearray(image.read_bytes())
    lies[4096:4100] = b"{{{{"
    assert encryption_of(store_of(bytes(lies))) is not None


def test_the_guide_says_what_to_do_and_how_long_it_takes(tmp_path: Path, sound: Survey) -> None:
    image = tmp_path / "fve.img"
    image.write_bytes(fve(4, (0x100, 0x800)))
    survey = surveying.survey(str(image)).survey
    one = survey.partitions[0]
    assert one.volume.encryption is not None and one.volume.encryption.state == "on"
    guide = decryption_guide(msgspec.structs.replace(one, size_bytes=90 * 10**9))
    assert guide is not None and guide.seconds_p10 == 600 and guide.seconds_p90 == 1800
    assert "10 min to 30 min" in " ".join(guide.steps) and "recovery key" in guide.steps[0]
    assert decryption_guide(sound.partitions[0]) is None
    done = msgspec.structs.replace(one.volume, encryption=Encryption(kind="fve", state="off"))
    off = decryption_guide(msgspec.structs.replace(one, volume=done))
    assert off is not None and off.seconds_p10 is None
    luks = msgspec.structs.replace(one.volume, encryption=Encryption(kind="luks2", state="on"))
    assert "passphrase" in decryption_guide(msgspec.structs.replace(one, volume=luks)).steps[1]


# A drive that stalls, and readings over time


def test_a_drive_that_stalls_is_left_alone_and_imaged_first(tmp_path: Path, neogenesis: Callable) -> None:
    image = make_drive(
        tmp_path / "old.img", 640, [Part(200, NT_DATA, "ntfs", "Main"), Part(300, LINUX, "ext4", "papers")]
    )
    start = json.loads(neogenesis("survey", image, "--json").stdout)["partitions"][0]["start_bytes"]
    path = simulated(tmp_path / "old.drive.json", "old.img", read={"slow": [[start, start + (64 << 20), 9000]]})
    survey = surveying.survey(str(path), inside=True).survey
    assert survey.health.verdict == "copy-now" and survey.health.image_first
    assert [r.code for r in survey.health.reasons] == ["stalls"]
    assert any(f.code == "health-failing" and "stood still for 9 s" in f.text for f in survey.findings)
    assert [p.volume.kind for p in survey.partitions] == ["none", "none"], "nothing more was read after the stall"
    quick = simulated(tmp_path / "old.drive.json", "old.img", read={"slow": [[start, start + (64 << 20), 20]]})
    assert surveying.survey(str(quick)).survey.health.verdict != "copy-now"


def test_a_stall_inside_the_second_volume_keeps_what_is_known_of_the_first(
    tmp_path: Path, neogenesis: Callable
) -> None:
    image = make_drive(
        tmp_path / "old.img", 640, [Part(200, NT_DATA, "ntfs", "Main"), Part(300, LINUX, "ext4", "papers")]
    )
    start = json.loads(neogenesis("survey", image, "--json").stdout)["partitions"][1]["start_bytes"]
    path = simulated(tmp_path / "old.drive.json", "old.img", read={"slow": [[start + 5000, start + (300 << 20), 9000]]})
    survey = surveying.survey(str(path)).survey
    assert [p.volume.kind for p in survey.partitions] == ["ntfs", "none"] and survey.health.image_first


def entry(at: str, **reading: object) -> HealthEntry:
    return HealthEntry(at=at, reading=HealthReading(**reading))  # type: ignore[arg-type]


def test_readings_over_time_tell_what_got_worse(tmp_path: Path) -> None:
    path = tmp_path / "health.jsonl"
    first = entry("2026-11-20", pending_sectors=3, power_on_hours=100, written_bytes=10)
    last = entry("2026-11-26", pending_sectors=9, power_on_hours=104, written_bytes=12, cable_errors=2)
    assert load_history(path) == () and add_to_history(path, first)
    assert not add_to_history(path, entry("later", pending_sectors=3, power_on_hours=100, written_bytes=10))
    assert not add_to_history(path, entry("later", pending_sectors=3, power_on_hours=100, written_bytes=99))
    warm = tmp_path / "warm.jsonl"
    taken = [add_to_history(warm, entry("x", temperature_c=t)) for t in (30, 31, 31.9, 32, 30.5, 30)]
    assert taken == [True, False, False, True, False, True], "a degree more or less is nothing new"
    with path.open("ab") as file:
        file.write(b'{"at": "cut in the mid')
        file.write(b"\n")
    assert add_to_history(path, last) and load_history(path) == (first, last)
    found = {t.name: (t.first, t.last, t.worse) for t in trends((first, last))}
    assert found["pending_sectors"] == (3, 9, True) and found["power_on_hours"] == (100, 104, False)
    assert found["cable_errors"] == (0, 2, False), "a cable is no fault of the drive"
    assert worsening((first, last)) == "It got worse while it was here: sectors waiting to be reallocated 3 → 9."
    assert worsening((first,)) == "" and trends((last, first))[0].worse is False
    with pytest.raises(BadRecord):
        add_to_history(tmp_path / "no/health.jsonl", first)


def test_endurance_from_wear_hours_and_bytes() -> None:
    found = endurance_of(HealthReading(wear_percent=20, power_on_hours=5000, written_bytes=10**13))
    assert found is not None and found.hours_left == 20_000 and found.bytes_left == 4 * 10**13
    assert found.years_of_running == pytest.approx(2.28, abs=0.01)
    assert endurance_of(HealthReading(wear_percent=0)) is None and endurance_of(HealthReading()) is None
    few = HealthReading(wear_percent=1, power_on_hours=9000)
    assert endurance_of(few) is None, "a count of one says nothing of a pace"
    young = endurance_of(HealthReading(wear_percent=5, power_on_hours=50))
    assert young is not None and young.hours_left is None and young.years_of_running is None
    assert endurance_of(HealthReading(wear_percent=130, power_on_hours=500)).hours_left == 0


# Several drives, and one drive at two times


def changed(survey: Survey, **fields: object) -> Survey:
    return msgspec.structs.replace(survey, **fields)


def test_drives_of_one_machine(sound: Survey, tmp_path: Path) -> None:
    other = surveying.survey(
        str(
            make_drive(tmp_path / "o.img", 320, [Part(40, STARTUP, "fat32", "START"), Part(200, LINUX, "ext4", "root")])
        )
    ).survey
    found = together((sound, other))
    assert found.starts == (1,) and found.holds_data == (0, 1) and found.findings == ()
    twice = together((other, other))
    assert {f.code for f in twice.findings} == {"two-alike", "several-start"}
    assert [f.code for f in together((sound, changed(sound, table=other.table, partitions=()))).findings] == [
        "none-starts"
    ]
    assert together((sound,)).findings == ()


def test_what_a_later_survey_shows(sound: Survey) -> None:
    assert changes(sound, sound) == ()
    used = sound.partitions[0].volume.used_bytes
    assert changes(sound, with_volume(sound, used_bytes=used + (5 << 30))) == (
        "papers holds 5.37 GB (5 GiB) more than before.",
    )
    assert changes(with_volume(sound, encrypted=True), sound) == ("papers is no longer encrypted.",)
    assert changes(sound, with_volume(sound, dirty=True, hibernated=True)) == (
        "papers holds a sleeping system now.",
        "papers is unclean now.",
    )
    assert changes(sound, changed(sound, partitions=())) == ("papers is gone.",)
    assert changes(changed(sound, partitions=()), sound)[0].startswith("papers is new")
    one = sound.partitions[0]
    grown = msgspec.structs.replace(one, size_bytes=one.size_bytes + 512)
    assert "another place or size" in changes(sound, changed(sound, partitions=(grown,)))[0]
    worse = changed(sound, health=Health(verdict="copy-now"))
    assert "failing now" in changes(sound, worse)[0]
    assert changes(sound, with_volume(sound, kind="none"))[0] == "papers holds another kind of volume."

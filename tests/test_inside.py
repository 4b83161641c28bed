"""What systems say of themselves: real hives, a real package database, and both with lies in them."""

from __future__ import annotations

import json
import random
import struct
import subprocess
from collections.abc import Callable
from pathlib import Path

import pytest

from neogenesis.bench.inside.surveying import survey
from neogenesis.core.system.inside import Inside, look_inside
from neogenesis.core.system.tree import FileTree, HiveKey
from tests.drives import LINUX, NT_DATA, Part, make_drive, run
from tests.hives import Value, empty_hive, make_hive

SOFTWARE: dict[str, dict[str, Value]] = {
    "Microsoft\\Windows NT\\CurrentVersion": {
        "ProductName": "Meridian Desktop 7",
        "DisplayVersion": "26H1",
        "CurrentBuild": "22631",
        "InstallDate": 1_700_000_000,
    },
    "Microsoft\\Windows NT\\CurrentVersion\\SoftwareProtectionPlatform": {"BackupProductKeyDefault": "never read out"},
    "Microsoft\\Windows NT\\CurrentVersion\\ProfileList\\S-1-5-18": {"ProfileImagePath": "C:\\Windows\\system"},
    "Microsoft\\Windows NT\\CurrentVersion\\ProfileList\\S-1-5-21-1-2-3-1001": {"ProfileImagePath": "C:\\Users\\berth"},
    "Microsoft\\Windows NT\\CurrentVersion\\ProfileList\\S-1-5-21-1-2-3-1002": {
        "ProfileImagePath": "C:\\Users\\Ægir 港"
    },
    "Microsoft\\Windows\\CurrentVersion\\Uninstall\\Tide": {
        "DisplayName": "Tide Tables",
        "DisplayVersion": "3.1",
        "Publisher": "Saltmarsh",
        "EstimatedSize": 2048,
    },
    "Microsoft\\Windows\\CurrentVersion\\Uninstall\\Update": {"DisplayName": "Fix 9", "ParentKeyName": "Tide"},
    "Microsoft\\Windows\\CurrentVersion\\Uninstall\\Part": {"DisplayName": "Part", "SystemComponent": 1},
    "Microsoft\\Windows\\CurrentVersion\\Uninstall\\Nameless": {"DisplayVersion": "1"},
    "WOW6432Node\\Microsoft\\Windows\\CurrentVersion\\Uninstall\\Chart": {"DisplayName": "Chart Reader"},
    "WOW6432Node\\Microsoft\\Windows\\CurrentVersion\\Uninstall\\Tide": {
        "DisplayName": "Tide Tables",
        "DisplayVersion": "3.1",
    },
}
STOPPED = ((1_700_100_000 + 11_644_473_600) * 10_000_000).to_bytes(8, "little")
SYSTEM: dict[str, dict[str, Value]] = {
    "Select": {"Current": 2},
    "ControlSet001\\Control\\ComputerName\\ComputerName": {"ComputerName": "NOT-THIS-ONE"},
    "ControlSet002\\Control": {"PEFirmwareType": 2},
    "ControlSet002\\Control\\Windows": {"ShutdownTime": STOPPED},
    "ControlSet002\\Control\\ComputerName\\ComputerName": {"ComputerName": "TICKET-DESK"},
    "ControlSet002\\Control\\Nls\\Language": {"InstallLanguage": "0809"},
    "ControlSet002\\Control\\Session Manager\\Power": {"HiberbootEnabled": 1},
    "ControlSet002\\Enum\\PCI\\VEN_1B36&DEV_0010\\3&1": {
        "DeviceDesc": "@oem1.inf,%x%;Storage controller",
        "Class": "SCSIAdapter",
        "HardwareID": ["PCI\\VEN_1B36&DEV_0010&REV_02", "PCI\\VEN_1B36&DEV_0010"],
        "CompatibleIDs": ["PCI\\CC_010802"],
        "Service": "stornvme",
    },
    "ControlSet002\\Enum\\USB\\VID_0001&PID_0002\\5&2": {
        "FriendlyName": "Card reader",
        "HardwareID": ["USB\\VID_0001"],
    },
}


@pytest.fixture(scope="module")
def hives(tmp_path_factory: pytest.TempPathFactory) -> dict[str, bytes]:
    folder = tmp_path_factory.mktemp("hives")
    return {name: make_hive(folder / name, keys) for name, keys in (("SOFTWARE", SOFTWARE), ("SYSTEM", SYSTEM))}


def nt_drive(image: Path, hives: dict[str, bytes]) -> Path:
    files = {f"Windows/System32/config/{name}": data for name, data in hives.items()}
    files["Windows/System32/ntoskrnl.exe"] = b"MZ"
    return make_drive(image, 96, [Part(80, NT_DATA, "ntfs", "Main", files)])


def inside_of(image: Path) -> Inside:
    return survey(str(image), inside=True).inside.get(1, Inside())


def test_real_hives_tell_release_people_programs_devices_and_shutdown(
    tmp_path: Path, hives: dict[str, bytes], neogenesis: Callable
) -> None:
    image = nt_drive(tmp_path / "old.img", hives)
    found = inside_of(image)
    assert (found.name, found.release, found.build) == ("Meridian Desktop 7", "26H1", "22631")
    assert (found.computer, found.language, found.firmware_mode) == ("TICKET-DESK", "0809", "uefi")
    assert found.installed == "2023-11-14T22:13:20+00:00" and found.last_shutdown == "2023-11-16T02:00:00+00:00"
    assert found.fast_start is True and found.licence_on_drive is True and found.trouble == ()
    assert [(p.name, p.folder) for p in found.people] == [("berth", "Users/berth"), ("Ægir 港", "Users/Ægir 港")]
    assert [(p.name, p.version, p.size_bytes) for p in found.programs] == [
        ("Tide Tables", "3.1", 2 << 20),
        ("Chart Reader", "", None),
    ]
    devices = {d.name: d for d in found.devices}
    assert devices["Storage controller"].compatible_ids == ("PCI\\CC_010802",)
    assert devices["Storage controller"].has_driver and not devices["Card reader"].has_driver
    told = json.loads(neogenesis("survey", image, "--json").stdout)["partitions"][0]["volume"]["inside"]
    assert told["computer"] == "TICKET-DESK" and len(told["programs"]) == 2
    assert "never read out" not in json.dumps(told)
    assert not survey(str(image)).inside, "only asked for when wanted"


def test_hives_that_are_cut_or_lie_become_a_line_and_never_a_failure(tmp_path: Path, hives: dict[str, bytes]) -> None:
    rng = random.Random(5)
    broken = dict(hives)
    broken["SYSTEM"] = hives["SYSTEM"][:5000]
    found = inside_of(nt_drive(tmp_path / "cut.img", broken))
    assert found.name == "Meridian Desktop 7" and found.computer == ""
    found = inside_of(nt_drive(tmp_path / "noise.img", {"SYSTEM": rng.randbytes(30_000), "SOFTWARE": b""}))
    assert any("SYSTEM" in line for line in found.trouble) and found.programs == ()


def test_a_hive_whose_keys_form_a_loop_ends(tmp_path: Path) -> None:
    """The root is made a child of itself: every list of keys below it goes on for ever."""
    data = bytearray(make_hive(tmp_path / "LOOP", {"Select": {"Current": 1}}))
    bins = 4096
    root = bins + struct.unpack_from("<I", data, 36)[0] + 4
    listed = bins + struct.unpack_from("<I", data, root + 28)[0] + 4
    struct.pack_into("<I", data, listed + 4, root - 4 - bins)
    found = inside_of(nt_drive(tmp_path / "loop.img", {"SYSTEM": bytes(data), "SOFTWARE": bytes(data)}))
    assert found.computer == ""


@pytest.mark.parametrize("seed", range(6))
def test_random_damage_in_hives_is_borne(tmp_path: Path, hives: dict[str, bytes], seed: int) -> None:
    rng, broken = random.Random(seed), {}
    for name, data in hives.items():
        raw = bytearray(data)
        for _ in range(40):
            raw[rng.randrange(4096, len(raw))] = rng.randrange(256)
        broken[name] = bytes(raw)
    assert isinstance(inside_of(nt_drive(tmp_path / "old.img", broken)), Inside)


def test_an_empty_hive_says_nothing(tmp_path: Path) -> None:
    found = inside_of(nt_drive(tmp_path / "old.img", {"SYSTEM": empty_hive(), "SOFTWARE": empty_hive()}))
    assert found == Inside() or (found.name, found.trouble) == ("", ())


def wtmp(*entries: tuple[int, bytes, int]) -> bytes:
    return b"".join(
        struct.pack("<h2xi32s4s32s256shhi2i16x20x", kind, 1, b"", b"", user, b"", 0, 0, 0, seconds, 0)
        for kind, user, seconds in entries
    )


def linux_drive(image: Path, files: dict[str, bytes]) -> Path:
    base = {
        "etc/os-release": b'NAME="Fathom Linux"\nVERSION_ID="7"\nPRETTY_NAME="Fathom Linux 7"\n',
        "etc/fstab": b"\n",
    }
    return make_drive(image, 96, [Part(80, LINUX, "ext4", "root", base | files)])


def test_a_real_package_database(tmp_path: Path) -> None:
    """Two packages installed by the distribution's own tool into a folder of its own, one removed again."""
    root = tmp_path / "root"
    for folder in ("var/lib/dpkg/info", "var/lib/dpkg/updates", "var/log"):
        (root / folder).mkdir(parents=True)
    (root / "var/lib/dpkg/status").touch()
    for name in ("tide-tables", "chart-reader"):
        build = tmp_path / name
        (build / "DEBIAN").mkdir(parents=True)
        (build / "usr").mkdir()
        (build / "usr" / name).write_text("x")
        (build / "DEBIAN/control").write_text(
            f"Package: {name}\nVersion: 1.2-3\nArchitecture: all\nMaintainer: Bench <b@example.org>\n"
            f"Installed-Size: 40\nDescription: made for a test\n with a second line: and a colon\n"
        )
        run("dpkg-deb", "--build", build, tmp_path / f"{name}.deb")
        run("dpkg", "--root", root, "--force-not-root", "-i", tmp_path / f"{name}.deb")
    run("dpkg", "--root", root, "--force-not-root", "-r", "chart-reader")
    files = {
        "var/lib/dpkg/status": (root / "var/lib/dpkg/status").read_bytes(),
        "etc/passwd": b"root:x:0:0::/root:/bin/sh\nkeeper:x:1000:1000:K:/home/keeper:/bin/sh\nnobody:x:65534:1::/:/x\nbad\n",
        "etc/hostname": b"lamp-room\n",
        "etc/default/locale": b'LANG="de_DE.UTF-8"\n',
        "etc/fstab": b"UUID=1 / ext4 defaults 0 1\nUUID=2 /boot/efi vfat umask=0077 0 1\n",
        "var/log/wtmp": wtmp((2, b"reboot", 1_699_999_000), (1, b"shutdown", 1_700_100_000)),
    }
    found = inside_of(linux_drive(tmp_path / "old.img", files))
    assert [(p.name, p.version, p.size_bytes) for p in found.programs] == [("tide-tables", "1.2-3", 40 * 1024)]
    assert [p.name for p in found.people] == ["keeper"] and found.people[0].folder == "home/keeper"
    assert (found.name, found.release, found.computer) == ("Fathom Linux", "7", "lamp-room")
    assert (found.language, found.firmware_mode) == ("de_DE.UTF-8", "uefi")
    assert found.last_shutdown == "2023-11-16T02:00:00+00:00"


def test_other_package_databases_and_a_machine_that_was_switched_off(tmp_path: Path) -> None:
    alpine = {"lib/apk/db/installed": b"C:x\nP:busy\nV:1.36\nI:8192\n\nP:tide\nV:2\nI:zz\n\nbroken"}
    log = {"var/log/wtmp": wtmp((1, b"shutdown", 100), (2, b"reboot", 200)) + b"half a rec"}
    found = inside_of(linux_drive(tmp_path / "a.img", alpine | log))
    assert [(p.name, p.size_bytes) for p in found.programs] == [("busy", 8192), ("tide", None)]
    assert found.last_shutdown == ""
    arch = {f"var/lib/pacman/local/{n}/desc": b"" for n in ("tide-tables-1.2-3", "ALPM_DB_VERSION", "x-1-1")}
    found = inside_of(linux_drive(tmp_path / "b.img", arch))
    assert [(p.name, p.version) for p in found.programs] == [("tide-tables", "1.2-3"), ("x", "1-1")]


def test_package_databases_with_lies_are_borne(tmp_path: Path) -> None:
    rng = random.Random(3)
    lies = {
        "var/lib/dpkg/status": rng.randbytes(200_000)
        + b"\n\nPackage: x\nStatus: install ok installed\nInstalled-Size: 9"
        + b"9" * 400,
        "etc/passwd": rng.randbytes(3000),
        "var/log/wtmp": rng.randbytes(10_000),
        "etc/default/locale": b'LANG="never closed\n',
    }
    found = inside_of(linux_drive(tmp_path / "old.img", lies))
    assert [p.name for p in found.programs] == ["x"] and found.programs[0].size_bytes is None


def test_a_volume_without_such_a_system_has_nothing_inside() -> None:
    tree = FileTree.__new__(FileTree)
    assert look_inside(tree, None) is None


def test_values_of_a_key() -> None:
    key = HiveKey("k", {"a": " x ", "b": 3, "c": ["1", "2"], "d": "hex:0a0b"}, ())
    assert key.text("A") == "x" and key.text("b") == "" and key.text("d") == "" and key.number("B") == 3
    assert key.texts("c") == ("1", "2") and key.texts("a") == (" x ",) and key.raw("d") == b"\n\x0b"
    assert key.raw("a") == b"" and key.number("zz") is None


def test_the_hives_are_those_of_the_distribution(tmp_path: Path) -> None:
    """The distribution's own reader finds in them what was put there."""
    make_hive(tmp_path / "S", {"Select": {"Current": 2}})
    told = subprocess.run(
        ["hivexregedit", "--export", "--prefix", "", tmp_path / "S", "\\Select"],
        capture_output=True,
        text=True,
        check=True,
    ).stdout
    assert '"Current"=dword:00000002' in told

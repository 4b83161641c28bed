"""A case book of driver packages: what lies in the folder, which is taken for the device, and how sure that is."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import pytest

from neogenesis.bench.inside.driver_store import find_drivers
from neogenesis.core.drivers.hardware import Device, Hardware, read_hardware
from neogenesis.core.drivers.modules import alias_of, built_in_aliases
from tests.infs import DEVICE, SUBSYSTEM, inf, line

AMD, X86, ARM = "Models.NTamd64", "Models.NTx86", "Models.NTarm64"
CLASS = r"PCI\CC_0280"
OTHER = r"PCI\VEN_1D0A&DEV_0099"
FILES = "[SourceDisksNames]\n1 = disk,,,\n[SourceDisksFiles]\n{0} = 1\n"
BY_FOLDER = (
    "[SourceDisksNames.x86]\n1 = disk,,,\\i386\n[SourceDisksNames.amd64]\n1 = disk,,,\\x64\n"
    "[SourceDisksFiles]\ndriver.sys = 1\n"
)
ADDS = {"kind": "Extension"}


@dataclass(frozen=True)
class Package:
    """An INF with its models, and the files beside it but for the catalogue."""

    name: str
    models: dict[str, Sequence[str]]
    more: dict[str, Any] = field(default_factory=dict)
    files: tuple[str, ...] = ("driver.sys",)
    catalog: bool = True
    cut: str = ""

    def put(self, folder: Path) -> None:
        place = folder / self.name
        place.parent.mkdir(parents=True, exist_ok=True)
        text = inf(self.models, **self.more)
        place.write_text(text[: text.index(self.cut)] if self.cut else text)
        for one in (*self.files, *(["driver.cat"] if self.catalog else [])):
            (place.parent / one).parent.mkdir(parents=True, exist_ok=True)
            (place.parent / one).write_bytes(one.encode())


def plain(name: str, *ids: str, section: str = AMD, **more: Any) -> Package:
    beside = {key: more.pop(key) for key in ("files", "catalog", "cut") if key in more}
    return Package(name, {section: [line(*(ids or (DEVICE,)))]}, more, **beside)


def files(*names: str) -> dict[str, Any]:
    return {"more": "".join(FILES.format(name) for name in names)}


#: Name, packages, what is expected: the INF and the status, then the whole order, then changes of the machine.
CASES: list[tuple[str, list[Package], tuple[str, str], tuple[str, ...] | None, dict[str, Any]]] = [
    ("one that fits", [plain("a.inf")], ("a.inf", "covered"), ("a.inf",), {}),
    ("none that fits", [plain("a.inf", OTHER)], ("", "missing"), (), {}),
    ("none, and the system has one", [plain("a.inf", OTHER)], ("", "system"), (), {"has_driver": True}),
    (
        "by its subsystem before its device",
        [plain("a.inf"), plain("b.inf", SUBSYSTEM)],
        ("b.inf", "covered"),
        ("b.inf",),
        {},
    ),
    (
        "newer, less exact",
        [plain("a.inf", date="01/01/2025"), plain("b.inf", SUBSYSTEM)],
        ("b.inf", "covered"),
        None,
        {},
    ),
    (
        "newer date",
        [plain("a.inf", date="01/01/2020"), plain("b.inf", date="01/02/2020")],
        ("b.inf", "covered"),
        None,
        {},
    ),
    ("higher version", [plain("a.inf", version="9.9"), plain("b.inf", version="10.0")], ("b.inf", "covered"), None, {}),
    ("same in all", [plain("b.inf"), plain("a.inf")], ("a.inf", "covered"), None, {}),
    ("no date", [plain("a.inf", date=""), plain("b.inf", date="01/01/1999")], ("b.inf", "covered"), None, {}),
    ("no catalogue named", [plain("a.inf", catalog="")], ("a.inf", "doubtful"), ("a.inf",), {}),
    ("catalogue not there", [plain("a.inf", catalog=False)], ("a.inf", "doubtful"), None, {}),
    ("only of its class", [plain("a.inf", CLASS)], ("a.inf", "doubtful"), None, {}),
    ("of its class, and the system has one", [plain("a.inf", CLASS)], ("a.inf", "system"), (), {"has_driver": True}),
    ("class before nothing", [plain("a.inf", CLASS), plain("b.inf", OTHER)], ("a.inf", "doubtful"), None, {}),
    (
        "its own before its class",
        [plain("a.inf", CLASS, date="01/01/2026"), plain("b.inf")],
        ("b.inf", "covered"),
        None,
        {},
    ),
    ("second id of a line", [plain("a.inf", OTHER, DEVICE)], ("a.inf", "covered"), None, {}),
    (
        "first id before second",
        [plain("a.inf", OTHER, DEVICE, date="01/01/2026"), plain("b.inf")],
        ("b.inf", "covered"),
        None,
        {},
    ),
    ("ids in small letters", [plain("a.inf", DEVICE.lower())], ("a.inf", "covered"), None, {}),
    # Extensions
    ("an extension alone", [plain("e.inf", **ADDS)], ("", "missing"), (), {}),
    ("an extension over the system's own", [plain("e.inf", **ADDS)], ("", "system"), ("e.inf",), {"has_driver": True}),
    (
        "an extension and its base",
        [plain("e.inf", SUBSYSTEM, **ADDS), plain("b.inf")],
        ("b.inf", "covered"),
        ("b.inf", "e.inf"),
        {},
    ),
    (
        "two extensions",
        [plain("d.inf", **ADDS), plain("e.inf", **ADDS), plain("z.inf")],
        ("z.inf", "covered"),
        ("z.inf", "d.inf", "e.inf"),
        {},
    ),
    (
        "an extension of another device",
        [plain("e.inf", OTHER, **ADDS), plain("b.inf")],
        ("b.inf", "covered"),
        ("b.inf",),
        {},
    ),
    (
        "extension and doubtful base",
        [plain("e.inf", **ADDS), plain("b.inf", CLASS)],
        ("b.inf", "doubtful"),
        ("b.inf", "e.inf"),
        {},
    ),
    # Files that are named
    ("its file is there", [plain("a.inf", **files("driver.sys"))], ("a.inf", "covered"), None, {}),
    ("its file is not there", [plain("a.inf", files=(), **files("driver.sys"))], ("a.inf", "doubtful"), None, {}),
    ("one of two is not there", [plain("a.inf", **files("driver.sys", "more.dll"))], ("a.inf", "doubtful"), None, {}),
    (
        "in other letters",
        [plain("a.inf", files=("DRIVER.SYS",), **files("driver.sys"))],
        ("a.inf", "covered"),
        None,
        {},
    ),
    ("packed", [plain("a.inf", files=("driver.sy_",), **files("driver.sys"))], ("a.inf", "covered"), None, {}),
    (
        "whole before newer and not whole",
        [plain("x/a.inf", files=(), date="01/01/2026", **files("driver.sys")), plain("y/b.inf")],
        ("y/b.inf", "covered"),
        None,
        {},
    ),
    (
        "a folder for each architecture",
        [plain("a.inf", files=("i386/driver.sys", "x64/driver.sys"), more=BY_FOLDER)],
        ("a.inf", "covered"),
        None,
        {},
    ),
    (
        "only the folder of another one",
        [plain("a.inf", files=("i386/driver.sys",), more=BY_FOLDER)],
        ("a.inf", "doubtful"),
        None,
        {},
    ),
    (
        "that folder, for that one",
        [plain("a.inf", section=X86, files=("i386/driver.sys",), more=BY_FOLDER)],
        ("a.inf", "covered"),
        None,
        {"architecture": "x86"},
    ),
    # Architectures
    ("for another architecture", [plain("a.inf", section=X86)], ("", "missing"), (), {}),
    ("for arm", [plain("a.inf", section=ARM), plain("b.inf")], ("a.inf", "covered"), None, {"architecture": "arm64"}),
    (
        "undecorated, where another is bound",
        [Package("a.inf", {"Models": [line(DEVICE)], X86: [line(OTHER)]})],
        ("", "missing"),
        (),
        {},
    ),
    (
        "undecorated alone",
        [Package("a.inf", {"Models": [line(DEVICE)]}, {"makers": "%Maker% = Models"})],
        ("a.inf", "covered"),
        None,
        {},
    ),
    (
        "undecorated on x86",
        [Package("a.inf", {"Models": [line(DEVICE)], AMD: [line(OTHER)]})],
        ("a.inf", "covered"),
        None,
        {"architecture": "x86"},
    ),
    # Versions and builds
    ("for a newer system", [plain("a.inf", section=f"{AMD}.11.0")], ("", "missing"), (), {}),
    ("for an older one as well", [plain("a.inf", section=f"{AMD}.6.1")], ("a.inf", "covered"), None, {}),
    (
        "the newest section counts",
        [Package("a.inf", {f"{AMD}.6.1": [line(DEVICE)], f"{AMD}.10.0": [line(OTHER)]})],
        ("", "missing"),
        (),
        {},
    ),
    (
        "the newest one that applies",
        [Package("a.inf", {f"{AMD}.6.1": [line(DEVICE)], f"{AMD}.11.0": [line(OTHER)]})],
        ("a.inf", "covered"),
        None,
        {},
    ),
    ("a build that is older", [plain("a.inf", section=f"{AMD}.10.0...16299")], ("a.inf", "covered"), None, {}),
    ("a build that is newer", [plain("a.inf", section=f"{AMD}.10.0...22000")], ("", "missing"), (), {}),
    (
        "a build, none is named",
        [plain("a.inf", section=f"{AMD}.10.0...22000")],
        ("a.inf", "covered"),
        None,
        {"system_version": "10.0"},
    ),
    ("a build of an older version", [plain("a.inf", section=f"{AMD}.6.1...7601")], ("a.inf", "covered"), None, {}),
    (
        "two builds, the newer applies",
        [Package("a.inf", {f"{AMD}.10.0...16299": [line(OTHER)], f"{AMD}.10.0...19041": [line(DEVICE)]})],
        ("a.inf", "covered"),
        None,
        {},
    ),
    ("for servers only", [plain("a.inf", section=f"{AMD}.10.0.3")], ("", "missing"), (), {}),
    ("for work stations", [plain("a.inf", section=f"{AMD}.10.0.1")], ("a.inf", "covered"), None, {}),
    ("for one edition only", [plain("a.inf", section=f"{AMD}.10.0.1.0x200")], ("a.inf", "doubtful"), None, {}),
    (
        "for all before one edition",
        [Package("a.inf", {f"{AMD}.10.0..0x200": [line(OTHER)], f"{AMD}.10.0": [line(DEVICE)]})],
        ("a.inf", "covered"),
        None,
        {},
    ),
    # What is damaged
    ("cut short in its models", [plain("a.inf", cut="[Models")], ("", "missing"), (), {}),
    (
        "cut short, another is whole",
        [plain("a.inf", cut="[Models"), plain("b.inf")],
        ("b.inf", "covered"),
        ("b.inf",),
        {},
    ),
    (
        "a section that is not there",
        [Package("a.inf", {AMD: [line(DEVICE)]}, {"makers": "%Maker% = Nothing"})],
        ("", "missing"),
        (),
        {},
    ),
    (
        "two makers, one without devices",
        [Package("a.inf", {AMD: [line(DEVICE)]}, {"makers": "%Maker% = Models, NTamd64\nOther = Nothing"})],
        ("a.inf", "covered"),
        None,
        {},
    ),
    (
        "a maker that is its own section",
        [Package("a.inf", {"Models": [line(DEVICE)]}, {"makers": "Models"})],
        ("a.inf", "covered"),
        ("a.inf",),
        {},
    ),
    ("an empty list of devices", [Package("a.inf", {AMD: []}), plain("b.inf")], ("b.inf", "covered"), ("b.inf",), {}),
    ("in a folder below", [plain("deep/er/a.inf")], ("deep/er/a.inf", "covered"), None, {}),
    (
        "two devices of one line",
        [Package("a.inf", {AMD: [line(OTHER), line(DEVICE)]})],
        ("a.inf", "covered"),
        ("a.inf",),
        {},
    ),
    (
        "a version that is none",
        [plain("a.inf", version="new"), plain("b.inf", version="0.1")],
        ("b.inf", "covered"),
        None,
        {},
    ),
    (
        "a date that is none",
        [plain("a.inf", date="31/31/2025"), plain("b.inf", date="01/01/2001")],
        ("b.inf", "covered"),
        None,
        {},
    ),
]


@pytest.mark.parametrize(("name", "packages", "wanted", "order", "more"), CASES, ids=[one[0] for one in CASES])
def test_the_case_book(
    name: str,
    packages: list[Package],
    wanted: tuple[str, str],
    order: tuple[str, ...] | None,
    more: dict[str, Any],
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    for one in packages:
        one.put(tmp_path / "packages")
    device = Device(
        name="Link",
        class_name="Net",
        hardware_ids=(f"{SUBSYSTEM}&REV_01", SUBSYSTEM, DEVICE),
        compatible_ids=(r"PCI\VEN_1D0A&CC_0280", CLASS),
        has_driver=more.get("has_driver", False),
    )
    machine = Hardware(
        devices=(device,),
        architecture=more.get("architecture", "amd64"),
        system_version=more.get("system_version", "10.0.19045"),
    )
    found = find_drivers(machine, tmp_path / "packages").answer
    [seen] = found.devices
    assert (seen.best.inf if seen.best is not None else "", seen.status) == wanted
    if order is not None:
        assert found.order == order
    if name.startswith("cut short"):
        assert "cut short" in found.skipped[0].text
    if name == "an extension alone":
        assert "only adds to a driver" in found.skipped[0].text
    if "not there" in name and "file" in name:
        assert seen.absent == ("driver.sys",)


def test_there_are_sixty_cases() -> None:
    assert len(CASES) >= 60 and len({one[0] for one in CASES}) == len(CASES)


def test_what_is_packed_has_the_files_of_its_architecture(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    plain("a.inf", files=("i386/driver.sys", "x64/driver.sys"), more=BY_FOLDER).put(tmp_path / "p")
    plain("c.inf", OTHER, files=(), **files("gone.sys")).put(tmp_path / "q")
    (tmp_path / "q").rename(tmp_path / "p/q")
    devices = (Device(name="Link", hardware_ids=(DEVICE,)), Device(name="Other", hardware_ids=(OTHER,)))
    find_drivers(Hardware(devices=devices), tmp_path / "p", tmp_path / "pack")
    packed = sorted(p.relative_to(tmp_path / "pack").as_posix() for p in (tmp_path / "pack").rglob("*") if p.is_file())
    assert packed == [
        "001-a/a.inf",
        "001-a/driver.cat",
        "001-a/x64/driver.sys",
        "002-c/c.inf",
        "002-c/driver.cat",
        "checklist.txt",
        "index.json",
    ]
    listed = (tmp_path / "pack/checklist.txt").read_text()
    assert "      x64/driver.sys" in listed and "NOT THERE: gone.sys" in listed


@pytest.mark.parametrize(
    ("listing", "module", "status"),
    [
        ("02:00.0 Ethernet controller [0200]: Ostrel Link [8086:1533] (rev 03)\n", "igb", "covered"),
        ("01:00.0 Non-Volatile memory controller [0108]: Corvane N2 [144d:a808]\n", "nvme", "system"),
        ("01:00.0 Serial controller [0700]: Ostrel [8086:1533]\n", "igb", "covered"),
        ("03:00.0 Display controller [0380]: Ostrel [1d0a:0001]\n", "", "missing"),
        ("Bus 001 Device 004: ID 0bda:8153 Ostrel Link\n", "r8152", "covered"),
        ("Bus 001 Device 005: ID 0bda:9999 Ostrel Link\n", "", "missing"),
    ],
)
def test_what_lists_print_against_a_kernel_tree(
    listing: str, module: str, status: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Only numbers are known there; a pattern that asks for more than they say does not match."""
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    tree = tmp_path / "lib/modules/6.1.0"
    (tree / "kernel").mkdir(parents=True)
    (tree / "modules.alias").write_text(
        "# made\nalias pci:v00008086d00001533sv*sd*bc*sc*i* igb\nalias usb:v0BDAp8153d*dc*dsc*dp*ic*isc*ip*in* r8152\n"
        "alias pci:v00001D0Ad00000001sv00001D0Asd00000007bc*sc*i* other\nalias usb:v0BDAp9999d0001dc*dsc*dp*ic*isc*ip*in* other\n"
    )
    (tree / "modules.builtin.modinfo").write_bytes(b"nvme.alias=pci:v*d*sv*sd*bc01sc08i02*\0nvme.license=GPL\0")
    for name in ("igb", "r8152", "other"):
        (tree / "kernel" / f"{name}.ko").write_bytes(b"m")
    (tmp_path / "list").write_text(listing)
    [seen] = find_drivers(read_hardware(listing.encode()), tmp_path / "lib").answer.devices
    assert (seen.best.inf if seen.best else "", seen.status) == (module, status)


def test_aliases_of_numbers_alone() -> None:
    assert alias_of(Device(hardware_ids=(r"PCI\VEN_8086&DEV_1533&CC_0200",))) == (
        "pci:v00008086d00001533sv????????sd????????bc02sc00i??"
    )
    known = Device(hardware_ids=(f"{SUBSYSTEM}&REV_01",), compatible_ids=(r"PCI\CC_028000",))
    assert alias_of(known) == "pci:v00001D0Ad00000042sv00001D0Asd00000007bc02sc80i00"
    assert alias_of(Device(hardware_ids=(r"USB\VID_0BDA&PID_8153",))).startswith("usb:v0BDAp8153d????")
    assert not alias_of(Device(hardware_ids=(r"ACPI\PNP0501",)))
    assert built_in_aliases(b"a.alias=pci:v*\0b.file=x\0c_d.alias=usb:v*\0") == "alias pci:v* a\nalias usb:v* c_d\n"

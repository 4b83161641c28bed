"""Hardware lists, INF files, their ranking worked out by hand, packing, a kernel tree, and damage of every kind."""

from __future__ import annotations

import gzip
import json
import lzma
import os
import random
import zipfile
from pathlib import Path
from typing import Any

import pytest
import zstandard
from hypothesis import given
from hypothesis import strategies as st

from neogenesis.bench.inside.archives import safe_parts
from neogenesis.bench.inside.driver_store import find_drivers, read_devices
from neogenesis.bench.inside.id_names import name_of, with_names
from neogenesis.core.drivers import Device, Hardware, InfFault, read_hardware, read_inf
from neogenesis.core.drivers.answer import driver_texts, shopping_list
from neogenesis.core.drivers.inf import parsed_decoration
from neogenesis.core.drivers.modules import claimed, firmware_of
from neogenesis.core.drivers.rank import is_generic
from neogenesis.core.errors import BadArgument, BadRecord
from tests.drives import NT_DATA, Part, blank, data_hash, make_drive, simulated
from tests.hives import make_hive
from tests.infs import DEVICE, SUBSYSTEM, corpus, inf, line, package


@pytest.fixture(autouse=True)
def own_cache(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))


def machine(*devices: Device, **more: Any) -> Hardware:
    usual = Device(
        name="Link",
        class_name="Net",
        hardware_ids=(f"{SUBSYSTEM}&REV_01", SUBSYSTEM, DEVICE),
        compatible_ids=(r"PCI\VEN_1D0A&CC_0280", r"PCI\CC_0280"),
    )
    return Hardware(devices=devices or (usual,), **{"system_version": "10.0.19045", **more})


def best(folder: Path, hardware: Hardware | None = None) -> tuple[str, str]:
    """The INF and the status of the only device."""
    found = find_drivers(hardware or machine(), folder).answer.devices[0]
    return (found.best.inf if found.best else "", found.status)


# Ranking, worked out by hand


def test_an_earlier_id_of_the_device_wins_over_a_newer_driver(tmp_path: Path) -> None:
    package(tmp_path / "new", "new.inf", inf({"Models.NTamd64": [line(DEVICE)]}, date="01/01/2024", version="9.0.0.0"))
    package(tmp_path / "near", "near.inf", inf({"Models.NTamd64": [line(SUBSYSTEM)]}, date="01/01/2019"))
    assert best(tmp_path) == ("near/near.inf", "covered")
    package(tmp_path / "nearest", "x.inf", inf({"Models.NTamd64": [line(SUBSYSTEM + "&REV_01")]}, date="01/01/2001"))
    assert best(tmp_path) == ("nearest/x.inf", "covered")


def test_a_hardware_id_wins_over_a_compatible_one(tmp_path: Path) -> None:
    package(tmp_path / "kind", "kind.inf", inf({"Models.NTamd64": [line(r"PCI\VEN_1D0A&CC_0280")]}, date="01/01/2025"))
    package(tmp_path / "own", "own.inf", inf({"Models.NTamd64": [line(DEVICE)]}, date="01/01/2001"))
    found = find_drivers(machine(), tmp_path).answer.devices[0]
    assert found.best is not None and found.best.inf == "own/own.inf" and found.best.exact and found.others == 1


def test_the_first_id_of_a_line_wins_over_a_later_one(tmp_path: Path) -> None:
    """A later id of the INF's line ranks behind any first one, even one that the device asks for later."""
    package(tmp_path / "late", "late.inf", inf({"Models.NTamd64": [line("PCI\\OTHER", SUBSYSTEM)]}, date="01/01/2025"))
    package(tmp_path / "first", "first.inf", inf({"Models.NTamd64": [line(DEVICE)]}, date="01/01/2001"))
    assert best(tmp_path) == ("first/first.inf", "covered")


def test_then_the_newer_date_then_the_higher_version(tmp_path: Path) -> None:
    for name, date, version in (
        ("a", "05/01/2020", "1.9.0.0"),
        ("b", "04/30/2021", "1.2.0.0"),
        ("c", "04/30/2021", "1.10.0.0"),
    ):
        package(tmp_path / name, f"{name}.inf", inf({"Models.NTamd64": [line(DEVICE)]}, date=date, version=version))
    found = find_drivers(machine(), tmp_path).answer
    assert found.devices[0].best is not None and found.devices[0].best.inf == "c/c.inf" and found.devices[0].others == 2
    assert found.devices[0].best.date == "2021-04-30" and found.devices[0].best.version == "1.10.0.0"
    assert found.order == ("c/c.inf",)  # older ones are dropped


def test_an_install_section_may_have_a_date_of_its_own(tmp_path: Path) -> None:
    text = inf({"Models.NTamd64": [line(DEVICE)]}, date="01/01/2010", more="DriverVer = 12/31/2023, 7.0.0.0")
    package(tmp_path / "own", "own.inf", text)
    package(tmp_path / "plain", "plain.inf", inf({"Models.NTamd64": [line(DEVICE)]}, date="06/01/2022"))
    found = find_drivers(machine(), tmp_path).answer.devices[0].best
    assert found is not None and (found.inf, found.date, found.version) == ("own/own.inf", "2023-12-31", "7.0.0.0")


@pytest.mark.parametrize(
    ("makers", "sections", "architecture", "version", "counts"),
    [
        ("Models,NTamd64", ["Models.NTamd64"], "amd64", "10.0.19045", True),
        ("Models,NTamd64", ["Models.NTamd64"], "x86", "10.0.19045", False),
        ("Models,NTx86", ["Models"], "amd64", "10.0.19045", False),
        ("Models,NTx86", ["Models"], "x86", "10.0", True),
        ("Models", ["Models"], "amd64", "10.0", True),
        ("Models", ["Models"], "arm64", "10.0", True),
        ("Models", ["Models"], "x86", "6.1.7601", True),
        ("Models,NTamd64.10.0", ["Models.NTamd64.10.0"], "amd64", "6.1.7601", False),
        ("Models,NTamd64.6.1", ["Models.NTamd64.6.1"], "amd64", "10.0.19045", True),
        ("Models,NTamd64.10.0...22000", ["Models.NTamd64.10.0...22000"], "amd64", "10.0.19045", False),
        ("Models,NTamd64.10.0...19041", ["Models.NTamd64.10.0...19041"], "amd64", "10.0.19045", True),
        (
            "Models,NTamd64.6.1,NTamd64.10.0",
            ["Models.NTamd64.6.1"],
            "amd64",
            "10.0.19045",
            True,
        ),  # of those that are there
        ("Models,NTamd64.6.1,NTamd64.10.0", ["Models.NTamd64.6.1"], "amd64", "6.1.7601", True),
        ("Models,NTamd64.6.1.3", ["Models.NTamd64.6.1.3"], "amd64", "10.0.19045", False),  # for servers
        ("Models,NTamd64.10.0.1", ["Models.NTamd64.10.0.1"], "amd64", "10.0.19045", True),
        ("Models,NTx86.5.1,NT.5.1", ["Models.NTx86.5.1"], "x86", "10.0", True),
        ("Models,NTarm64", ["Models.NTarm64"], "arm64", "10.0.22000", True),
        ("Models,ntAMD64", ["MODELS.NTAMD64"], "amd64", "10.0", True),
        ("Models,NTamd64,rubbish", ["Models.rubbish"], "amd64", "10.0", False),
    ],
)
def test_which_section_counts(
    tmp_path: Path, makers: str, sections: list[str], architecture: str, version: str, counts: bool
) -> None:
    package(tmp_path, "one.inf", inf({s: [line(DEVICE)] for s in sections}, makers=f"%Maker% = {makers}"))
    found = best(tmp_path, machine(architecture=architecture, system_version=version))
    assert found == (("one.inf", "covered") if counts else ("", "missing"))


def test_of_several_sections_only_the_newest_counts(tmp_path: Path) -> None:
    """A model that its maker took out of the newer section is not for the newer system."""
    models = {
        "Models.NTamd64.6.1": [line(DEVICE)],
        "Models.NTamd64.10.0": [line("PCI\\OTHER")],
        "Models": [line(DEVICE)],
    }
    package(tmp_path, "one.inf", inf(models))
    assert best(tmp_path) == ("", "missing")
    assert best(tmp_path, machine(system_version="6.3")) == ("one.inf", "covered")
    assert best(tmp_path, machine(architecture="x86", system_version="6.3")) == ("one.inf", "covered")
    assert best(tmp_path, machine(architecture="arm64", system_version="11.0")) == ("", "missing")


def test_doubt_missing_and_what_the_system_has_itself(tmp_path: Path) -> None:
    package(tmp_path / "bare", "bare.inf", inf({"Models.NTamd64": [line(DEVICE)]}), catalog=False)
    assert best(tmp_path) == ("bare/bare.inf", "doubtful")
    package(tmp_path / "named", "named.inf", inf({"Models.NTamd64": [line(DEVICE)]}, catalog="", date="01/01/2024"))
    assert best(tmp_path) == ("named/named.inf", "doubtful")
    (tmp_path / "bare/driver.cat").write_bytes(b"0")
    package(tmp_path / "named", "named.inf", "no inf", catalog=False)
    assert best(tmp_path) == ("bare/bare.inf", "covered")
    only = Device(name="Other", compatible_ids=(r"PCI\CC_0280",))
    package(tmp_path / "kind", "kind.inf", inf({"Models.NTamd64": [line(r"PCI\CC_0280")]}))
    assert best(tmp_path, machine(only)) == ("kind/kind.inf", "doubtful")
    assert best(tmp_path, machine(Device(name="Y", hardware_ids=(r"PCI\VEN_2&DEV_3",), has_driver=True))) == (
        "",
        "system",
    )
    nothing = Device(name="Z", class_name="MEDIA", hardware_ids=(r"HDAUDIO\FUNC_01&VEN_1",))
    found = find_drivers(machine(nothing), tmp_path).answer
    assert found.missing == ("Z",) and found.devices[0].without == "No sound, no microphone."
    assert shopping_list(found)[0][0] == "Z (sound)"


def test_order_and_what_is_needed_while_installing(tmp_path: Path) -> None:
    ids = {
        name: rf"PCI\VEN_1D0C&DEV_{n:04X}"
        for n, name in enumerate(("Display", "Net", "SCSIAdapter", "System", "MEDIA", "Printer"))
    }
    for kind, one in ids.items():
        package(tmp_path / kind, f"{kind}.inf", inf({"Models.NTamd64": [line(one)]}, kind=kind))
    found = find_drivers(machine(*(Device(name=k, hardware_ids=(i,)) for k, i in ids.items())), tmp_path).answer
    order = [inf_name.split("/")[0] for inf_name in found.order]
    assert order == ["SCSIAdapter", "Net", "System", "Display", "MEDIA", "Printer"]
    assert [i.split("/")[0] for i in found.during_installation] == ["SCSIAdapter", "Net"]
    assert {d.kind for d in found.devices} <= {k.code for k in driver_texts().kinds}


# What INF files look like


@pytest.mark.parametrize("encoding", ["utf-8", "utf-8-sig", "utf-16-le", "utf-16-be", "cp1252"])
def test_every_encoding(encoding: str) -> None:
    text = inf({"Models.NTamd64": [line(DEVICE)]}).replace("Ostrel Link; 2", "Östrel Lïnk; 2")
    marks = {"utf-16-le": b"\xff\xfe", "utf-16-be": b"\xfe\xff"}
    found = read_inf(marks.get(encoding, b"") + text.encode(encoding), "a.inf")
    assert found.models[0].description == "Östrel Lïnk; 2" and found.provider == "Ostrel"
    if encoding.startswith("utf-16"):
        assert read_inf(text.encode(encoding), "a.inf") == found  # also without its mark


def test_quotes_comments_tokens_and_lines_that_go_on() -> None:
    text = (
        '[version]\n SIGNATURE="$CHICAGO$" ; yes\nDriverVer=2/3/2020\n[MANUFACTURER]\n"A ""B"" C" = M, NTamd64 ; ,NTx86\n'
        "[m.ntAMD64]\n%D1%, %D2% = X\n%D1% = %INS%, \\\n  pci\\ven_1&dev_2 , ,PCI\\VEN_1 ; end\n"
        '"50%% = more" = Y,"PCI\\A,B"\n[Strings]\nD1="One ""two"" ; three"\nINS=Deep\nLOOP=%LOOP%\n[Strings.0407]\nD1="nein"\n'
    )
    found = read_inf(text.encode(), "a.inf")
    assert found.decorations == (("NTamd64",),) and found.date == "2020-02-03" and found.version == ""
    one, two = found.models
    assert (one.description, one.section, one.ids) == (
        'One "two" ; three',
        "Deep",
        ("pci\\ven_1&dev_2", "", "PCI\\VEN_1"),
    )
    assert (two.description, two.ids) == ("50% = more", ("PCI\\A,B",))


def test_files_and_folders_of_a_package(tmp_path: Path) -> None:
    more = (
        "Include = machine.inf, net.inf\nNeeds = X\n[SourceDisksNames]\n1 = %Maker%,,,\\bin\n2 = x\n"
        "[SourceDisksFiles]\ndriver.sys = 2\nfirm.bin = 1,deep\n..\\evil.sys = 2\n[SourceDisksFiles.amd64]\nextra.dll = 1\n"
    )
    package(tmp_path / "in", "one.inf", inf({"Models.NTamd64": [line(DEVICE)]}, more=more))
    (tmp_path / "evil.sys").write_bytes(b"no")
    (tmp_path / "in/BIN/deep").mkdir(parents=True)
    (tmp_path / "in/BIN/deep/Firm.bin").write_bytes(b"f" * 1000)
    (tmp_path / "in/readme.txt").write_text("not named, not packed")
    out = tmp_path / "out"
    found = find_drivers(machine(), tmp_path / "in", out)
    names = sorted(name for _, name in found.packages["one.inf"])
    assert names == ["BIN/deep/Firm.bin", "driver.cat", "driver.sys", "one.inf"]
    packed = [p for p in out.rglob("*") if p.is_file() and p.parent != out]
    assert sum(p.stat().st_size for p in packed) == found.answer.bytes and len(packed) == 4
    assert "001-one  one.inf  during the installation" in (out / "checklist.txt").read_text()
    assert json.loads((out / "index.json").read_text())["schema"] == "neogenesis.drivers/1"
    with pytest.raises(BadArgument, match="not empty"):
        find_drivers(machine(), tmp_path / "in", out)


@pytest.mark.parametrize(
    ("data", "says"),
    [
        (b"", "no sections"),
        (b"just words", "no sections"),
        (b"[Strings]\na=b\n", "no \\[Version\\]"),
        (b"[Version]\nSignature=Other\n", "signature"),
        (b"[Version\nSignature=x", "not closed"),
        (bytes(range(256)) * 9, "binary"),
    ],
)
def test_what_is_no_inf_is_said(data: bytes, says: str, tmp_path: Path) -> None:
    with pytest.raises(InfFault, match=says):
        read_inf(data, "a.inf")
    (tmp_path / "bad.inf").write_bytes(data)
    skipped = find_drivers(machine(), tmp_path).answer.skipped
    assert [s.inf for s in skipped] == ["bad.inf"]


def test_damage_of_every_kind_never_crashes() -> None:
    chance = random.Random(4)
    whole = inf({"Models.NTamd64": [line(DEVICE, SUBSYSTEM)], "Models": [line(DEVICE)]}).encode()
    for _ in range(1500):
        torn = bytearray(whole if chance.random() < 0.7 else whole.decode().encode("utf-16"))
        for _ in range(chance.randrange(1, 12)):
            place = chance.randrange(len(torn))
            torn[place : place + chance.randrange(0, 9)] = chance.randbytes(chance.randrange(0, 9))
        try:
            found = read_inf(bytes(torn[: chance.randrange(len(torn))] if chance.random() < 0.3 else torn), "a.inf")
        except InfFault:
            continue
        assert all(m.section and any(m.ids) for m in found.models)


@given(st.text(max_size=300))
def test_any_text_is_an_inf_or_a_fault(text: str) -> None:
    with pytest.raises(InfFault):
        read_inf(b"[A]\n" + text.encode("utf-8", "replace").replace(b"ersion", b""), "a.inf")


def test_decorations_as_published() -> None:
    found = parsed_decoration("NTamd64.10.0.1.0x80.19041")
    assert found is not None
    assert (found.architecture, found.major, found.product, found.suite, found.build) == ("amd64", 10, 1, 128, 19041)
    assert (
        parsed_decoration("NT") is not None and parsed_decoration("NTmips") is None and parsed_decoration("x") is None
    )
    assert is_generic(r"PCI\CC_0C03") and is_generic(r"USB\Class_E0") and not is_generic(r"PCI\VEN_1&DEV_2&CC_01")


# Folders: many, archives, caches


def test_a_large_folder_is_read_once_and_found_again(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    folder = tmp_path / "packages"
    assert corpus(folder) >= 200
    package(folder / "mine", "mine.inf", inf({"Models.NTamd64": [line(DEVICE)]}))
    first = find_drivers(machine(), folder).answer
    assert first.order == ("mine/mine.inf",) and not first.skipped
    monkeypatch.setattr("neogenesis.bench.inside.driver_store.read_inf", lambda data, name: pytest.fail("read again"))
    assert find_drivers(machine(), folder).answer == first
    monkeypatch.undo()
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    text = inf({"Models.NTamd64": [line(DEVICE)]}, version="2.0.0.0")
    package(folder / "mine", "mine.inf", text)
    os.utime(folder / "mine/mine.inf", ns=(1, 1))
    again = find_drivers(machine(), folder).answer.devices[0].best
    assert again is not None and again.version == "2.0.0.0"
    for path in (tmp_path / "cache").rglob("*.index"):
        path.write_bytes(b"damaged")
    assert find_drivers(machine(), folder).answer.order == ("mine/mine.inf",)
    hidden = Device(name="n7", hardware_ids=(r"PCI\VEN_1D0B&DEV_0007&SUBSYS_00021D0B",))
    assert best(folder, machine(hidden)) == ("p007/p007.inf", "covered")


def test_archives_are_looked_into_and_cannot_write_outside(tmp_path: Path) -> None:
    package(tmp_path / "made", "zipped.inf", inf({"Models.NTamd64": [line(DEVICE)]}))
    folder = tmp_path / "packages"
    folder.mkdir()
    with zipfile.ZipFile(folder / "link.zip", "w") as archive:
        for path in (tmp_path / "made").iterdir():
            archive.write(path, f"net/{path.name}")
        archive.writestr("../../outside.inf", "x")
        archive.writestr("/etc/outside.inf", "x")
    (folder / "broken.cab").write_bytes(b"MSCF" + b"\0" * 60)
    (folder / "short.zip").write_bytes((folder / "link.zip").read_bytes()[:300])
    with zipfile.ZipFile(folder / "bomb.zip", "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("bomb.inf", b"\0" * (200 << 20))
    out = tmp_path / "out"
    found = find_drivers(machine(), folder, out)
    assert found.answer.order == ("link.zip/net/zipped.inf",) and found.answer.devices[0].status == "covered"
    said = {s.inf: s.text for s in found.answer.skipped}
    assert (
        "outside of itself" in said["link.zip"]
        and "broken.cab" in said
        and "far more than it should" in said["bomb.zip"]
    )
    assert not (tmp_path / "outside.inf").exists() and (out / "001-zipped/zipped.inf").exists()
    assert safe_parts("a/../b") is None and safe_parts("c:\\x") is None and safe_parts("./a/b") == ("a", "b")


# Hardware lists


def test_modalias_files_and_listings() -> None:
    text = (
        "pci:v00008086d0000A0EFsv00001025sd00001424bc0Csc03i30\n"
        "usb:v1D6Bp0002d0510dc09dsc00dp01ic09isc00ip00in00\nacpi:PNP0C0A:\nhdaudio:v10EC0256r00100002a01\nnonsense\n"
    )
    pci, usb, acpi, audio = read_hardware(text.encode()).devices
    assert pci.hardware_ids[0] == r"PCI\VEN_8086&DEV_A0EF&SUBSYS_14241025" and pci.hardware_ids[-1].endswith("&CC_0C03")
    assert r"PCI\CC_0C0330" in pci.compatible_ids and pci.modalias.startswith("pci:")
    assert (
        usb.hardware_ids[-1] == r"USB\VID_1D6B&PID_0002"
        and usb.compatible_ids[0] == r"USB\Class_09&SubClass_00&Prot_00"
    )
    assert acpi.hardware_ids == (r"ACPI\PNP0C0A", "*PNP0C0A") and audio.hardware_ids == (
        r"HDAUDIO\FUNC_01&VEN_10EC&DEV_0256",
    )
    listing = (
        "00:14.0 USB controller [0c03]: Maker Thing [1d0a:0042] (rev 20)\n\tSubsystem: Maker Board [1d0a:0007]\n"
        "Bus 001 Device 003: ID 1d0a:8290 Ostrel camera\nDevice Description: Ostrel Link\nInstance ID: PCI\\VEN_1D0A&DEV_0043&SUBSYS_1\\3&11\n"
    )
    one, two, three = read_hardware(listing.encode("utf-16")).devices
    assert one.hardware_ids[0] == r"PCI\VEN_1D0A&DEV_0042&SUBSYS_00071D0A&REV_20" and one.class_name == "USB controller"
    assert (two.name, two.hardware_ids) == ("Ostrel camera", (r"USB\VID_1D0A&PID_8290",))
    assert three.name == "Ostrel Link" and three.hardware_ids[0].startswith(r"PCI\VEN_1D0A&DEV_0043")


def test_the_command_and_bad_input(tmp_path: Path, neogenesis: Any) -> None:
    package(tmp_path / "p", "one.inf", inf({"Models.NTamd64": [line(DEVICE)]}))
    record = {
        "schema": "neogenesis.hardware/1",
        "architecture": "amd64",
        "system_version": "10.0.19045",
        "devices": [
            {"name": "Link", "class": "Net", "hardware_ids": [DEVICE], "compatible_ids": [], "has_driver": False}
        ],
    }
    path = tmp_path / "hardware.json"
    path.write_text(json.dumps(record))
    found = json.loads(neogenesis("drivers", path, tmp_path / "p", "--json").stdout)
    assert found["devices"][0]["best"] == {
        "inf": "one.inf",
        "section": "Install",
        "matched_id": DEVICE,
        "exact": True,
        "date": "2021-03-04",
        "version": "1.0.0.0",
    }
    assert "covered" in neogenesis("drivers", path, tmp_path / "p", "--pack", tmp_path / "out").stdout
    for text, status in (
        ("{", 3),
        ('{"schema": "x"}', 3),
        (json.dumps(record | {"architecture": "vax"}), 3),
        ("words", 3),
    ):
        path.write_text(text)
        assert neogenesis("drivers", path, tmp_path / "p", status=status).stderr.count("\n") == 1
    assert neogenesis("drivers", tmp_path / "gone", tmp_path / "p", status=2).stderr.count("\n") == 1
    path.write_text(json.dumps(record | {"system_version": "soon"}))
    assert "no version" in neogenesis("drivers", path, tmp_path / "p", status=3).stderr
    path.write_text(json.dumps(record))
    assert neogenesis("drivers", path, tmp_path / "gone", status=2).stderr.count("\n") == 1
    with pytest.raises(BadRecord, match="more devices"):
        read_hardware(json.dumps(record | {"devices": record["devices"] * 5000}).encode())  # type: ignore[operator]


# A kernel tree


def test_modules_of_a_kernel_tree_and_their_firmware(tmp_path: Path) -> None:
    tree = tmp_path / "lib/modules/6.1.0"
    (tree / "kernel").mkdir(parents=True)
    (tree / "modules.alias").write_text(
        "# Aliases\nalias pci:v00001D0Ad00000042sv*sd*bc*sc*i* ostrel_link\nalias pci:v*d*sv*sd*bc02sc80i* any_net\nalias usb:v9 x\n"
    )
    module = b"\x7fELF\0license=GPL\0firmware=ostrel/link.bin\0firmware=ostrel/gone.bin\0"
    (tree / "kernel/ostrel-link.ko").write_bytes(module)
    (tmp_path / "lib/firmware/ostrel").mkdir(parents=True)
    (tmp_path / "lib/firmware/ostrel/link.bin").write_bytes(b"f" * 77)
    (tmp_path / "sys/a").mkdir(parents=True)
    (tmp_path / "sys/a/modalias").write_text("pci:v00001D0Ad00000042sv00001D0Asd00000007bc02sc80i00\n")
    hardware = read_devices(tmp_path / "sys")
    found = find_drivers(hardware, tmp_path / "lib", tmp_path / "out").answer
    one = found.devices[0]
    assert one.best is not None and one.best.inf == "ostrel_link" and one.status == "covered" and one.others == 1
    assert found.bytes == len(module) + 77 and found.during_installation == ("ostrel_link",)
    assert [s.text for s in found.skipped] == ["It wants the firmware file ostrel/gone.bin, which is not there."]
    assert (tmp_path / "out/001-ostrel_link/firmware/ostrel/link.bin").stat().st_size == 77
    assert firmware_of(module) == ["ostrel/link.bin", "ostrel/gone.bin"]
    assert claimed([(0, Device(name="no alias"))], "alias pci:* x\n") == {}


@pytest.mark.parametrize("end", ["", ".xz", ".zst", ".gz"])
def test_a_tree_brings_nothing_from_outside_onto_the_stick(end: str, tmp_path: Path) -> None:
    """Neither a module that names a file of this machine as its firmware, nor a link that leads out of the tree."""
    tree, firmware = tmp_path / "lib/modules/6.1.0", tmp_path / "lib/firmware"
    (tree / "kernel").mkdir(parents=True)
    firmware.mkdir()
    (tree / "modules.alias").write_text("alias pci:v00001D0Ad00000042sv*sd*bc*sc*i* ostrel_link\n")
    secret = tmp_path / "secret"
    secret.write_text("of the bench")
    (firmware / "real.bin").write_bytes(b"f" * 77)
    (firmware / "inner.bin").symlink_to("real.bin")
    (firmware / "outer.bin").symlink_to(secret)
    names = [str(secret), "../../secret", "outer.bin", "inner.bin"]
    module = b"\x7fELF\0" + b"".join(f"firmware={name}\0".encode() for name in names)
    pack = {
        "": lambda data: data,
        ".xz": lzma.compress,
        ".zst": zstandard.ZstdCompressor().compress,
        ".gz": gzip.compress,
    }[end]
    (tree / f"kernel/ostrel-link.ko{end}").write_bytes(pack(module))
    (tmp_path / "modalias").write_text("pci:v00001D0Ad00000042sv00001D0Asd00000007bc02sc80i00\n")
    find_drivers(read_devices(tmp_path / "modalias"), tmp_path / "lib", tmp_path / "out")
    packed = [p for p in (tmp_path / "out").rglob("*") if p.is_file()]
    assert [p.name for p in packed if "firmware" in p.parts] == ["inner.bin"]
    assert not any(b"of the bench" in p.read_bytes() for p in packed)


def test_a_package_brings_nothing_through_a_link(tmp_path: Path) -> None:
    folder = tmp_path / "packages/link"
    text = inf({"Models.NTamd64": [line(DEVICE)]}) + "\n[SourceDisksFiles]\nsecret = 1,way\n"
    package(folder, "d.inf", text, "utf-8")
    outside = tmp_path / "outside"
    outside.mkdir()
    (outside / "secret").write_text("of the bench")
    (folder / "way").symlink_to(outside)
    device = Device(name="Link", class_name="Net", hardware_ids=(DEVICE,))
    find_drivers(Hardware(devices=(device,)), tmp_path / "packages", tmp_path / "out")
    packed = [p for p in (tmp_path / "out").rglob("*") if p.is_file()]
    assert packed and not any(b"of the bench" in p.read_bytes() for p in packed)


def old_system(tmp_path: Path) -> Path:
    """A drive whose system knows its devices, and keeps two packages of theirs and one of its own."""
    store = tmp_path / "store"
    models = {"Models.NTamd64": [line(DEVICE)]}
    more = "\n[SourceDisksFiles]\ndriver.sys = 1\nfirm.bin = 1,deep\n"
    package(store / "link.inf_amd64_1", "link.inf", inf(models, version="1.0.0.0") + more, "utf-16-le")
    package(store / "link.inf_amd64_2", "link.inf", inf(models, version="2.0.0.0") + more)
    (store / "link.inf_amd64_2/deep").mkdir()
    (store / "link.inf_amd64_2/deep/firm.bin").write_bytes(b"firm" * 500)
    newest = inf(models, version="9.0.0.0", date="03/04/2031")
    package(store / "inbox.inf_amd64_3", "inbox.inf", newest.replace("Provider = %Maker%", 'Provider = "Microsoft"'))
    devices = {
        "Select": {"Current": 1},
        "ControlSet001\\Enum\\PCI\\VEN_1D0A\\1": {"DeviceDesc": "Link", "HardwareID": [DEVICE], "Service": "link"},
    }
    files = {
        f"Windows/System32/DriverStore/FileRepository/{p.relative_to(store).as_posix()}": p.read_bytes()
        for p in store.rglob("*")
        if p.is_file()
    }
    files["Windows/System32/config/SYSTEM"] = make_hive(tmp_path / "SYSTEM", devices)
    files["Windows/System32/ntoskrnl.exe"] = b"MZ"
    make_drive(tmp_path / "old.img", 96, [Part(80, NT_DATA, "ntfs", "Main", files)])
    return simulated(tmp_path / "old.drive.json", "old.img", serial="HD5-1", clock="virtual")


def test_the_old_system_itself_says_its_devices_and_gives_its_packages(tmp_path: Path, neogenesis: Any) -> None:
    old = old_system(tmp_path)
    before = data_hash(tmp_path / "old.img")
    said = neogenesis("drivers", old, old, "--pack", tmp_path / "out").stdout
    assert "covered" in said and "link.inf_amd64_2/link.inf 2.0.0.0" in said and "inbox" not in said
    assert "after malware not to be trusted" in said
    packed = {p.relative_to(tmp_path / "out").as_posix(): p for p in (tmp_path / "out").rglob("*") if p.is_file()}
    assert packed["001-link/deep/firm.bin"].read_bytes() == b"firm" * 500 and "001-link/driver.cat" in packed
    assert data_hash(tmp_path / "old.img") == before
    again = json.loads(neogenesis("drivers", old, old, "--json").stdout)
    assert again["devices"][0]["best"]["version"] == "2.0.0.0" and len(again["notes"]) == 1
    failing = simulated(tmp_path / "worn.drive.json", "old.img", serial="HD5-1", health={"pending_sectors": 16})
    assert "is failing" in neogenesis("drivers", old, failing, status=3).stderr
    blank(tmp_path / "none.img", 80)
    none = simulated(tmp_path / "none.drive.json", "none.img", serial="N-1")
    assert "keeps driver packages" in neogenesis("drivers", old, none, status=2).stderr
    assert "which devices it had" in neogenesis("drivers", none, old, status=2).stderr


def test_devices_without_a_name_get_one_from_the_id_files(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    ids = "# a list\n1d0a  Ostrel\n\t0042  Link\n\t\t1d0a 0007  Board\n\t0043  Other\n1d0b  Halden\n\t0042  Wrong\nC 02  Network\n"
    monkeypatch.setattr("neogenesis.bench.inside.id_names._text", lambda bus: "\n" + ids)
    (tmp_path / "list").write_text("pci:v00001D0Ad00000042sv0000sd0000bc02sc80i00\nUSB\\VID_1D0B&PID_9999\n")
    (tmp_path / "list").write_text(
        "Bus 001 Device 003: ID 1d0b:9999\nACPI\\ODD0001\n" + (tmp_path / "list").read_text()
    )
    names = {d.hardware_ids[0]: d.name for d in read_devices(tmp_path / "list").devices}
    assert names[r"USB\VID_1D0B&PID_9999"] == "Halden" and names[r"ACPI\ODD0001"] == ""
    link = Device(hardware_ids=(r"PCI\VEN_1D0A&DEV_0042&SUBSYS_00071D0A",))
    assert (
        with_names(Hardware(devices=(link, Device(name="Own", hardware_ids=link.hardware_ids)))).devices[0].name
        == "Ostrel Link"
    )
    assert name_of("PCI", "FFFF", "0000") == ""

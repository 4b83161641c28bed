"""Device classes: what a device accepts is built into the plan, checked, and followed by the steps that it demands."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from neogenesis.bench.records.shipped import appliance_names, load_appliance
from neogenesis.core.errors import BadArgument, BadRecord
from neogenesis.core.plan.appliance import Appliance, mismatches
from neogenesis.core.units import nominal_bytes
from tests.drives import LINUX, MIB, STARTUP, Part, blank, check_volume, file_hashes, make_drive, spans, table_of

CHARTS = {f"charts/{n}.cht": bytes([n]) * 90_000 for n in range(20)}


@pytest.fixture
def plotter(tmp_path: Path) -> Path:
    parts = [
        Part(64, "0c", "fat32", "LOADER"),
        Part(512, "83", "ext4", "system", {"bin/plotter": b"p" * 70_000}),
        Part(600, "0b", "fat32", "CHARTS", CHARTS),
    ]
    return make_drive(tmp_path / "old.img", 1200, parts, table="mbr")


def sized(path: Path, size: int) -> Path:
    with path.open("wb") as file:
        file.truncate(size)
    return path


def gates(plan: Path) -> dict[str, bool]:
    return {g["code"]: g["open"] for g in json.loads(plan.read_text())["gates"] if g["code"].startswith("appliance")}


def test_a_plotter_gets_a_larger_drive_and_its_charts_take_it(plotter: Path, tmp_path: Path, neogenesis) -> None:
    new, plan = sized(tmp_path / "new.img", nominal_bytes(16)), tmp_path / "p.json"
    said = neogenesis("plan", plotter, new, "--appliance", "chart-plotter", "-o", plan).stdout
    assert "power key" in said and "Chart plotter" in said
    assert gates(plan) == {"appliance-capacity": True, "appliance-table": True}
    neogenesis("transfer", plan, "--confirm", "new")
    neogenesis("verify", plan, new)
    sizes = [size for _, size in spans(new)]
    assert sizes[:2] == [64 * MIB, 512 * MIB] and sizes[2] > 14 * 10**9
    assert [p["type"] for p in table_of(new)["partitions"]] == ["c", "83", "b"]
    check_volume(new, *spans(new)[2], "fat32", tmp_path)
    assert file_hashes(new, *spans(new)[2]) == file_hashes(plotter, *spans(plotter)[2])


def test_a_capacity_that_the_device_does_not_know_closes_a_gate(plotter: Path, tmp_path: Path, neogenesis) -> None:
    plan = tmp_path / "p.json"
    neogenesis(
        "plan", plotter, sized(tmp_path / "new.img", nominal_bytes(24)), "--appliance", "chart-plotter", "-o", plan
    )
    assert gates(plan) == {"appliance-capacity": False, "appliance-table": True}
    said = neogenesis("transfer", plan, "--confirm", "new", status=3).stderr
    assert "16 GB, 32 GB" in said
    with (tmp_path / "new.img").open("rb") as file:
        assert not any(file.read(MIB))


def test_another_machines_drive_is_noticed(plotter: Path, standard: Path, tmp_path: Path, neogenesis) -> None:
    (tmp_path / "other").mkdir()
    other = standard.rename(tmp_path / "other/old.img")
    plan = tmp_path / "p.json"
    neogenesis(
        "plan", other, sized(tmp_path / "new.img", nominal_bytes(16)), "--appliance", "chart-plotter", "-o", plan
    )
    assert gates(plan)["appliance-table"] is False
    text = next(g["text"] for g in json.loads(plan.read_text())["gates"] if g["code"] == "appliance-table")
    assert "the table is gpt" in text and "it has 5 partitions, not 3" in text


def test_a_console_is_copied_as_it_is_and_takes_the_rest_itself(tmp_path: Path, neogenesis) -> None:
    parts = [Part(100, STARTUP, "fat32"), Part(200, LINUX, "ext4"), Part(200, LINUX, "ext4", "t", {"a": b"1"})]
    old = make_drive(tmp_path / "old.img", 520, parts)
    new, plan = sized(tmp_path / "new.img", nominal_bytes(250)), tmp_path / "p.json"
    neogenesis("plan", old, new, "--appliance", "ticket-console", "-o", plan)
    made = json.loads(plan.read_text())
    assert made["intent"] == "exact" and len(made["afterwards"]) == 2 and "update" in made["afterwards"][0]
    assert all(gates(plan).values())
    neogenesis("transfer", plan, "--confirm", "new")
    with new.open("rb") as file:
        assert file.read(520 * MIB) == old.read_bytes()


def test_classes_of_ones_own_and_their_faults(tmp_path: Path, neogenesis) -> None:
    for name in appliance_names():
        assert load_appliance(name).afterwards, name
    with pytest.raises(BadArgument, match="no device class"):
        load_appliance("toaster")
    for text, kind in (("not toml", BadArgument), ('schema = "neogenesis.appliance/1"\n', BadRecord)):
        (tmp_path / "own.toml").write_text(text)
        with pytest.raises(kind):
            load_appliance(str(tmp_path / "own.toml"))
    neogenesis("plan", blank(tmp_path / "a", 1), blank(tmp_path / "b", 2), "--appliance", "toaster", status=2)


def test_what_a_device_would_not_take_is_named_in_full() -> None:
    wanted = Appliance(
        schema=Appliance.SCHEMA,
        title="Buoy",
        capacities_gb=(8,),
        table="mbr",
        rest="free",
        partitions=tuple(load_appliance("chart-plotter").partitions[:2]),
    )
    good = [("0x0C", 64 * MIB), ("0x83", 512 * MIB)]
    assert mismatches(wanted, "mbr", good) == []
    assert len(mismatches(wanted, "gpt", [("0x07", 64 * MIB), ("0x83", 5 * MIB), ("0x83", MIB)])) == 4
    for size, fits in ((nominal_bytes(8), True), (7_818_182_656, True), (4 * 10**9, False), (16 * 10**9, False)):
        assert wanted.accepts(size) is fits, size

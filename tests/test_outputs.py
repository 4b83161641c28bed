"""One door for outputs: no file that a person names is a drive, an image, or somebody else's."""

from __future__ import annotations

import json
import os
from collections.abc import Callable, Iterator
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

import pytest

from neogenesis.bench.drives.system import among_devices
from neogenesis.bench.inside.looking import FILLING_HEAD
from neogenesis.bench.records.opening import open_records
from neogenesis.bench.register.outputs import allow_output, marked_picture
from neogenesis.core.csv_rows import plain_row
from neogenesis.core.errors import BadArgument, Refused
from neogenesis.core.job import Job
from tests.drives import LINUX, MIB, Part, blank, data_hash, linux_files, make_drive, run, spans

Order = Callable[[Path, Path], list[str | Path]]
#: Every option that names a file to write: the folder with `old.img`, `new.img` and a plan, and the file that is named.
ORDERS: dict[str, Order] = {
    "plan": lambda f, out: ["plan", f / "old.img", f / "new.img", "-o", out],
    "plan for a size": lambda f, out: ["plan", f / "old.img", "--target-size", "1TB", "-o", out],
    "table": lambda f, out: ["fills", f / "old.img", "--csv", out],
    "image": lambda f, out: ["image", f / "old.img", out],
    "map": lambda f, out: ["rescue", f / "old.img", f / "resc.img", "--map", out, "--confirm", "resc"],
    "events": lambda f, out: ["transfer", f / "p.json", "--confirm", "new", "--events", out],
    "image events": lambda f, out: ["image", f / "old.img", f / "i.qcow2", "--events", out],
    "log": lambda f, out: ["survey", f / "old.img", "--log-file", out],
    "log before": lambda f, out: ["--log-file", out, "drives"],
    "bundle": lambda f, out: ["bug-report", "-o", out],
    "screenshot": lambda f, out: ["trial-boot", f / "old.img", "--seconds", "1", "--screenshot", out],
    "salvage": lambda f, out: ["salvage", f / "old.img", out],
    "pack": lambda f, out: ["drivers", f / "old.img", f, "--pack", out],
    "recipe": lambda f, out: ["recipe", "data", f / "new.img", "--confirm", "new", "-o", out],
    "undo": lambda f, out: ["remedy", "fallback-loader", f / "old.img", "--confirm", "old", "--record", out],
    "slip": lambda f, out: ["slip", "T-7", out],
    "report": lambda f, out: ["report", "T-7", out],
}
NEW_ONLY = ("undo",)  # refused for any file that is there already


@pytest.fixture(scope="module")
def original(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return make_drive(
        tmp_path_factory.mktemp("outputs") / "old.img", 60, [Part(45, LINUX, "ext4", "root", linux_files())]
    )


@pytest.fixture
def folder(original: Path, tmp_path: Path, own_bench: Path, neogenesis: Any) -> Path:
    run("cp", "--sparse=always", original, tmp_path / "old.img")
    blank(tmp_path / "new.img", 90)
    neogenesis("plan", tmp_path / "old.img", tmp_path / "new.img", "-o", tmp_path / "p.json")
    store = open_records(own_bench)
    store.add(Job(ticket="T-7", customer="Gullhaven", machine="Petrel 14"))
    store.close()
    return tmp_path


@pytest.fixture
def device(tmp_path: Path) -> Iterator[Callable[[Path], Path]]:
    """A node of our own for a loop device on an image, so that a slip would replace a node that nobody needs."""
    attached: list[str] = []

    def make(image: Path) -> Path:
        loop = run("losetup", "--find", "--show", image).strip()
        attached.append(loop)
        node = tmp_path / "sdx"
        os.mknod(node, 0o60600, Path(loop).stat().st_rdev)
        return node

    yield make
    for loop in attached:
        run("losetup", "--detach", loop)


@pytest.mark.parametrize("name", ORDERS)
def test_no_output_reaches_the_old_drive(name: str, folder: Path, neogenesis: Any) -> None:
    before = data_hash(folder / "old.img")
    (folder / "link.img").symlink_to("old.img")
    os.link(folder / "old.img", folder / "hard.img")
    for out in ("old.img", "link.img", "hard.img"):
        found = neogenesis(*ORDERS[name](folder, folder / out), status=2 if name in NEW_ONLY else 3)
        assert "written" in found.stderr or name in NEW_ONLY, found.stderr
        assert data_hash(folder / "old.img") == before and (folder / out).exists(), (name, out)


def test_force_is_not_for_the_drives_of_the_command(folder: Path, neogenesis: Any) -> None:
    """A blank drive looks like nothing, and is known to nobody yet."""
    blank(folder / "other.img", 80)
    for out in ("old.img", "other.img"):
        before = data_hash(folder / out)
        order = ["plan", folder / "old.img", folder / "other.img", "-o", folder / out, "--force", "--json"]
        assert json.loads(neogenesis(*order, status=3).stdout)["code"] == "output"
        assert data_hash(folder / out) == before


@pytest.mark.parametrize("name", [n for n in ORDERS if n not in NEW_ONLY])
def test_no_output_reaches_a_device_or_another_image(name: str, folder: Path, device: Any, neogenesis: Any) -> None:
    other = folder / "another.img"
    run("cp", "--sparse=always", folder / "old.img", other)
    node, before = device(other), data_hash(other)
    for out in (node, other):
        neogenesis(*ORDERS[name](folder, out), status=3)
        run("blockdev", "--flushbufs", node)
        assert node.is_block_device() and data_hash(other) == before, (name, out)
    left = [p.name for p in Path("/dev").iterdir() if p.name.startswith(".") or "neogenesis" in p.name]
    assert not left


def test_nothing_is_made_among_the_devices(folder: Path, neogenesis: Any) -> None:
    for name in ("plan", "table", "image", "map", "bundle", "recipe"):
        neogenesis(*ORDERS[name](folder, Path("/dev/neogenesis-slip")), status=3)
        assert not Path("/dev/neogenesis-slip").exists()
    neogenesis(
        "transfer", folder / "p.json", "--confirm", "new", "--events", "/dev/null"
    )  # it swallows what it is told


@pytest.mark.parametrize("name", ["plan", "table", "bundle", "recipe", "slip"])
def test_a_file_of_somebody_else_is_replaced_only_on_request(name: str, folder: Path, neogenesis: Any) -> None:
    out = folder / "thesis.txt"
    out.write_text("Three years of work")
    order = ORDERS[name](folder, out)
    said = neogenesis(*order, status=3).stderr
    assert "--force" in said and out.read_text() == "Three years of work"
    neogenesis(*order, "--force")
    written = out.read_bytes()
    assert written and written != b"Three years of work"
    if name != "recipe":  # its drive is another one by now
        neogenesis(*order)  # our own of that kind may be made anew
    drive = folder / "old.img"
    neogenesis(*ORDERS[name](folder, drive), "--force", status=3)


def test_a_refusal_has_its_code(folder: Path, neogenesis: Any) -> None:
    for out, code in ((folder / "old.img", "output"), (folder / "thesis.txt", "exists")):
        (folder / "thesis.txt").write_text("x")
        found = json.loads(
            neogenesis("plan", folder / "old.img", folder / "new.img", "-o", out, "--json", status=3).stdout
        )
        assert (found["schema"], found["status"], found["code"]) == ("neogenesis.refusal/1", "refused", code)
        assert found["command"] == "plan" and found["do"] and found["gates"][0]["code"] == code
    found = json.loads(neogenesis("plan", folder / "old.img", "--json", status=2).stdout)
    assert found["status"] == "usage"


def test_a_finished_image_is_never_written_over(folder: Path, neogenesis: Any) -> None:
    neogenesis("image", folder / "old.img", folder / "i.qcow2")
    before = (folder / "i.qcow2").read_bytes()
    found = json.loads(neogenesis("image", folder / "old.img", folder / "i.qcow2", "--json", status=3).stdout)
    assert found["code"] == "exists" and (folder / "i.qcow2").read_bytes() == before


def test_a_plan_whose_transfer_was_begun_is_not_replaced(folder: Path, neogenesis: Any) -> None:
    from tests.drives import simulated

    blank(folder / "big.img", 90)
    with (folder / "old.img").open("r+b") as file:
        file.seek(spans(folder / "old.img")[0][0] + 20 * MIB)
        file.write(os.urandom(12 * MIB))
    slow = simulated(folder / "s.drive.json", "old.img", serial="SLOW0001", clock="real", read={"bytes_per_s": 3e6})
    plan = folder / "k.json"
    neogenesis("plan", slow, folder / "big.img", "--intent", "exact", "-o", plan)
    (folder / "k.journal").write_bytes(_journal_of(plan))
    held = plan.read_bytes()
    said = neogenesis("plan", slow, folder / "big.img", "--intent", "exact", "-o", plan, status=3).stderr
    assert "--resume" in said and plan.read_bytes() == held
    neogenesis("plan", slow, folder / "big.img", "--intent", "exact", "-o", plan, "--force")


def _journal_of(plan: Path) -> bytes:
    from neogenesis.bench.works.planning import hash_of, load_plan
    from neogenesis.core.work import Journal

    path = plan.with_name("made.journal")
    Journal.start(path, hash_of(load_plan(plan))).close()
    return path.read_bytes()


def test_what_is_ours_is_known_by_its_beginning(tmp_path: Path) -> None:
    cases: list[tuple[Any, bytes, bytes]] = [
        ("plan", b'{\n  "schema": "neogenesis.plan/1", ', b'{"schema": "neogenesis.survey/1"}'),
        ("table", FILLING_HEAD + b"kind,a,a,1,2\r\n", b"name,street\r\n"),
        ("log", b"2026-12-01 10:00:00,123 INFO neogenesis 1.0 plan\n", b"2026-12-01 something else\n"),
        ("picture", marked_picture(_png()), _png()),
        ("events", b'{"schema":"neogenesis.events/1","event":"start"}\n', b"{}\n"),
    ]
    for kind, ours, foreign in cases:
        path = tmp_path / kind
        path.write_bytes(ours)
        assert allow_output(path, kind, head=FILLING_HEAD) == path, kind
        path.write_bytes(foreign)
        with pytest.raises(Refused, match="already"):
            allow_output(path, kind, head=FILLING_HEAD)
        path.write_bytes(b"")
        allow_output(path, kind)
    with pytest.raises(BadArgument):
        allow_output(tmp_path, "plan")


def _png() -> bytes:
    from PyQt6.QtCore import QBuffer, QIODevice
    from PyQt6.QtGui import QImage

    buffer = QBuffer()
    buffer.open(QIODevice.OpenModeFlag.WriteOnly)
    QImage(4, 4, QImage.Format.Format_RGB32).save(buffer, "PNG")
    return bytes(buffer.data().data())


def test_a_record_of_a_dossier_says_first_whose_it_is(tmp_path: Path) -> None:
    """And may be written again all the same."""
    path = tmp_path / "rescue.map.json"
    for text in (
        '{"ticket":"T-7","schema":"neogenesis.region-map/1"}',
        '{ "ticket": "a\\"b",\n "schema": "neogenesis.region-map/1"}',
    ):
        path.write_text(text)
        assert allow_output(path, "region-map") == path
    path.write_text('{"ticket":"T-7","schema":"neogenesis.plan/1"}')
    with pytest.raises(Refused, match="no region map of ours"):
        allow_output(path, "region-map")


def test_a_picture_with_our_mark_is_a_picture() -> None:
    from PyQt6.QtGui import QImage

    assert QImage.fromData(marked_picture(_png())).width() == 4


def test_no_name_becomes_a_formula() -> None:
    assert plain_row(["=1+1", "@x", "-5 C", "plain", 7, -7]) == ["'=1+1", "'@x", "'-5 C", "plain", 7, -7]


def test_shared_memory_holds_files_like_any_folder(folder: Path, neogenesis: Any) -> None:
    assert among_devices(Path("/dev/sdx")) and among_devices(Path("/dev/disk/by-id/none/x"))
    assert not among_devices(folder / "x")
    if Path("/dev/shm").stat().st_dev == Path("/dev").stat().st_dev:
        pytest.skip("shared memory is no filesystem of its own here")
    with TemporaryDirectory(dir="/dev/shm", prefix="neogenesis-test-") as name:
        neogenesis("plan", folder / "old.img", folder / "new.img", "-o", Path(name) / "p.json")
        neogenesis("image", folder / "old.img", Path(name) / "o.qcow2")
        assert {"o.qcow2", "o.qcow2.manifest.json", "p.json"} <= {p.name for p in Path(name).iterdir()}

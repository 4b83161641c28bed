"""A library of images: its index, what is newer, and fetching from a source that breaks off."""

from __future__ import annotations

import json
import shutil
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from blake3 import blake3
from pytestqt.qtbot import QtBot

from neogenesis.app.library.sheet import LibrarySheet
from neogenesis.app.pictures import pause
from neogenesis.app.shell.window import MainWindow
from neogenesis.bench.inside.library import Source, fetch, index_library
from neogenesis.bench.processes.folders import LIBRARY
from neogenesis.core.errors import BadArgument, BadRecord, Mismatch, Stopped
from neogenesis.core.media.library import compared, kind_of, read_catalogue
from tests.test_window import texts

DATA = {"fathom-6.tar.zst": b"six" * 900_000, "fathom-7.tar.zst": b"seven" * 900_000, "link.zip": b"z" * 5000}


@pytest.fixture
def share(tmp_path: Path) -> Path:
    """A folder with files and their catalogue."""
    folder = tmp_path / "share"
    folder.mkdir()
    items = []
    for n, (name, data) in enumerate(DATA.items()):
        (folder / name).write_bytes(data)
        title = "Fathom Linux" if name.startswith("fathom") else ""
        digest = blake3(data).hexdigest()
        items.append({"name": name, "size_bytes": len(data), "blake3": digest, "title": title, "date": f"202{n}-01-01"})
    (folder / "catalogue.json").write_text(json.dumps({"schema": "neogenesis.catalogue/1", "items": items}))
    return folder


@pytest.fixture
def library(tmp_path: Path) -> Path:
    folder = tmp_path / "library"
    folder.mkdir()
    return folder


def states(library: Path, share: Path) -> dict[str, str]:
    return {row.name: row.state for row in compared(index_library(library), Source(share).catalogue)}


def test_what_is_had_newer_damaged_and_offered(library: Path, share: Path) -> None:
    assert states(library, share) == dict.fromkeys(DATA, "offered")
    fetch(library, Source(share), "fathom-6.tar.zst")
    (library / "mine.iso").write_bytes(b"own")
    (library / "link.zip").write_bytes(b"torn")
    assert states(library, share) == {
        "fathom-6.tar.zst": "newer",
        "fathom-7.tar.zst": "offered",
        "link.zip": "damaged",
        "mine.iso": "own",
    }
    fetch(library, Source(share), "link.zip")
    assert states(library, share)["link.zip"] == "had" and kind_of("x.ISO") == "installer"


def test_only_what_changed_is_read_again(library: Path, share: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    fetch(library, Source(share), "link.zip")
    first = index_library(library)
    monkeypatch.setattr("neogenesis.bench.inside.library._digest", lambda path: pytest.fail("read again"))
    assert index_library(library) == first
    monkeypatch.undo()
    (library / "link.zip").write_bytes(b"other")
    assert index_library(library) != first
    (library / "index.json").write_text("{ torn")
    assert len(index_library(library).files) == 1


def test_a_source_that_breaks_off_is_gone_on_with(library: Path, share: Path, neogenesis: Any) -> None:
    spec = share.parent / "slow.source.json"
    fields = {
        "schema": "neogenesis.simulated-source/1",
        "folder": "share",
        "bytes_per_s": 1e9,
        "breaks_after_bytes": 2_500_000,
    }
    spec.write_text(json.dumps(fields))
    with pytest.raises(Stopped, match="broke off"):
        fetch(library, Source(spec), "fathom-7.tar.zst")
    kept = (library / "fathom-7.tar.zst.part").stat().st_size
    assert 0 < kept < len(DATA["fathom-7.tar.zst"]) and not (library / "fathom-7.tar.zst").exists()
    assert neogenesis("library", library, "--from", spec, "--fetch", "fathom-7.tar.zst", status=0).stdout
    assert (library / "fathom-7.tar.zst").read_bytes() == DATA["fathom-7.tar.zst"]
    rows = json.loads(neogenesis("library", library, "--from", share, "--json").stdout)["files"]
    assert [r["state"] for r in rows if r["name"] == "fathom-7.tar.zst"] == ["had"]


def test_what_is_wrong_with_a_source(library: Path, share: Path, tmp_path: Path, neogenesis: Any) -> None:
    (share / "link.zip").write_bytes(b"y" * 5000)
    with pytest.raises(Mismatch, match="checksum"):
        fetch(library, Source(share), "link.zip")
    assert not list(library.iterdir())
    (share / "link.zip").write_bytes(b"z" * 10)
    with pytest.raises(Stopped, match="before its size"):
        fetch(library, Source(share), "link.zip")
    (share / "fathom-6.tar.zst").unlink()
    with pytest.raises(Stopped, match="not fetched"):
        fetch(library, Source(share), "fathom-6.tar.zst")
    with pytest.raises(BadArgument, match="not offered"):
        fetch(library, Source(share), "../x")
    for bad in ('{"name": "../x", "size_bytes": 1, "blake3": "0"}', '{"name": "a", "size_bytes": -1, "blake3": "x"}'):
        with pytest.raises(BadRecord):
            read_catalogue(f'{{"schema": "neogenesis.catalogue/1", "items": [{bad}]}}'.encode())
    assert neogenesis("library", tmp_path / "gone", status=2).stderr
    assert neogenesis("library", library, "--from", tmp_path / "gone", status=2).stderr
    assert neogenesis("library", library, "--fetch", "x", status=2).stderr
    (share / "catalogue.json").write_text("words")
    assert neogenesis("library", library, "--from", share, status=3).stderr


def test_the_library_in_the_window_fetches_and_goes_on(
    library: Path, share: Path, small_bench: Path, open_window: Callable[[Path], MainWindow], qtbot: QtBot
) -> None:
    window = open_window(small_bench)
    folder = window.bench.store.folder / LIBRARY
    folder.mkdir()
    shutil.copy(share / "fathom-6.tar.zst", folder)
    (folder / "link.zip").write_bytes(b"torn")
    spec = {"schema": "neogenesis.simulated-source/1", "folder": str(share), "breaks_after_bytes": 2_000_000}
    (folder / "line.source.json").write_text(json.dumps(spec))
    window.sheets.show_library()
    sheet = window.findChild(LibrarySheet)
    assert sheet is not None
    qtbot.waitUntil(lambda: len(sheet._model.rows) == 3, timeout=30_000)
    pause(30)
    assert "newer known: fathom-7.tar.zst" in texts(sheet) and "fetch it again" in texts(sheet)
    assert set(sheet.orders) == {"fathom-7.tar.zst", "link.zip"}
    sheet.orders["fathom-7.tar.zst"].click()
    qtbot.waitUntil(lambda: sheet._model.failure is not None, timeout=30_000)
    assert "what came is kept" in texts(sheet) and (folder / "fathom-7.tar.zst.part").stat().st_size > 0
    for _ in range(3):
        sheet.orders["fathom-7.tar.zst"].click()
        qtbot.waitUntil(lambda: not sheet._model.fetching and not sheet._model.looking, timeout=30_000)
        pause(30)
        if "fathom-7.tar.zst" not in sheet.orders:
            break
    assert (folder / "fathom-7.tar.zst").read_bytes() == DATA["fathom-7.tar.zst"]
    assert "as the source has it" in texts(sheet)
    sheet.take_source(str(share / "nowhere"))
    qtbot.waitUntil(lambda: sheet._model.failure is not None, timeout=30_000)
    assert "has no catalogue" in texts(sheet) and window.appearance.settings.library_source.endswith("nowhere")
    sheet.accept()

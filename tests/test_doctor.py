"""What this machine can do: said plainly, without opening a drive, with how each missing thing is had."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import pytest
from PyQt6.QtWidgets import QApplication
from pytestqt.qtbot import QtBot

from neogenesis.app.shell.doctor import DoctorSheet
from neogenesis.app.shell.window import MainWindow
from neogenesis.bench.inside import doctor
from neogenesis.bench.inside.doctor import examine
from neogenesis.bench.processes.reader import ReaderProcess, reader_answers


def items(**environment: str) -> dict[str, dict[str, Any]]:
    """As a person finds them who has this environment."""
    done = subprocess.run(
        [sys.executable, "-m", "neogenesis", "doctor", "--json"],
        env={**os.environ, **environment},
        capture_output=True,
        text=True,
        check=True,
    )
    found = json.loads(done.stdout)
    assert found["schema"] == "neogenesis.doctor/1"
    return {item["code"]: item for item in found["items"]}


def test_everything_is_looked_at_and_what_is_missing_comes_first(tmp_path: Path) -> None:
    found = items()
    assert {"drives", "bus", "utility-ntfsresize", "health", "fuse", "trial", "kvm", "room-work", "register"} <= set(
        found
    )
    assert all(item["text"] and (item["ok"] or item["do"]) for item in found.values())
    oks = [item["ok"] for item in found.values()]
    assert oks == sorted(oks)
    assert found["utility-e2fsck"]["ok"] and found["utility-mkfs.fat"]["ok"] and found["trial"]["ok"]
    none = {item.code: item for item in examine(str(tmp_path / "none")).items}
    assert not none["register"].ok and not (tmp_path / "none").exists()  # nothing is made by looking


def test_a_missing_bus_and_utility_are_named_with_their_package(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    found = items(DBUS_SYSTEM_BUS_ADDRESS=f"unix:path={tmp_path / 'none'}")
    assert not found["bus"]["ok"] and "dbus" in found["bus"]["do"]
    monkeypatch.setattr(doctor, "_has", lambda name: name not in ("wimlib-imagex", "qemu-system-x86_64"))
    looked = {item.code: item for item in examine().items}
    assert not looked["utility-wimlib-imagex"].ok and "wimtools" in looked["utility-wimlib-imagex"].do
    assert not looked["trial"].ok and "qemu-system-x86" in looked["trial"].do
    monkeypatch.setattr(doctor.shutil, "disk_usage", lambda folder: SimpleNamespace(free=5))
    assert not {item.code: item for item in examine().items}["room-work"].ok


def test_the_words_of_the_command(neogenesis: Any) -> None:
    said = neogenesis("doctor").stdout.splitlines()
    assert len(said) > 8 and all(line[:2] in ("! ", "  ") for line in said)


def test_the_sheet_says_the_same(small_bench: Path, open_window: Callable[[Path], MainWindow], qtbot: QtBot) -> None:
    window = open_window(small_bench)
    window.sheets.show_doctor()
    sheet = window.findChild(DoctorSheet)
    qtbot.waitUntil(lambda: sheet.found is not None, timeout=20_000)
    assert len(sheet.found.items) >= 10 and sheet.again.isEnabled()
    sheet.copy.click()
    clipboard = QApplication.clipboard()
    assert clipboard is not None and clipboard.text().count("\n") == len(sheet.found.items) - 1
    assert {item.code: item.ok for item in sheet.found.items}["register"]
    sheet.accept()


def test_a_reader_that_does_not_start_is_no_reader(monkeypatch: pytest.MonkeyPatch) -> None:
    assert reader_answers()
    for broken in ("/bin/true", "/nonexistent"):
        monkeypatch.setattr("neogenesis.bench.processes.reader.sys.executable", broken)
        assert not ReaderProcess().answers()

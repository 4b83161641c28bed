"""Fixtures: drives that cost seconds to make are made once a run and copied."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import pytest

from tests.drives import make_drive, run, standard_parts

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ.setdefault("QT_ACCESSIBILITY", "0")


@pytest.fixture(scope="session")
def standard_original(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return make_drive(tmp_path_factory.mktemp("original") / "old.img", 640, standard_parts())


@pytest.fixture
def standard(standard_original: Path, tmp_path: Path) -> Path:
    """A private copy of the usual drive."""
    run("cp", "--sparse=always", standard_original, tmp_path / "old.img")
    return tmp_path / "old.img"


@pytest.fixture
def neogenesis() -> Callable[..., subprocess.CompletedProcess[str]]:
    """The real program as a process; with a non-zero status it must say exactly one line."""

    def call(*arguments: str | Path, status: int = 0) -> subprocess.CompletedProcess[str]:
        done = subprocess.run(
            [sys.executable, "-m", "neogenesis", *map(str, arguments)],
            capture_output=True,
            text=True,
            check=False,
            timeout=180,
        )
        assert done.returncode == status, f"{done.returncode}\n{done.stdout}\n{done.stderr}"
        if status:
            assert len(done.stderr.strip().splitlines()) == 1, done.stderr
        else:
            assert done.stderr == ""
        return done

    return call


@pytest.fixture
def survey_json(neogenesis: Callable[..., subprocess.CompletedProcess[str]]) -> Callable[..., dict]:
    def read(path: Path, *more: str) -> dict:
        return dict(json.loads(neogenesis("survey", path, "--json", *more).stdout))

    return read

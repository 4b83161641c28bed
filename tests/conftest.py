"""Fixtures: drives that cost seconds to make are made once a run and copied."""

from __future__ import annotations

import json
import os
import shutil
import tempfile
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

os.environ.setdefault(
    "QT_QPA_PLATFORM", f"offscreen:configfile={Path(__file__).parents[1] / 'src/neogenesis/data/screen.json'}"
)
os.environ.setdefault("QT_ACCESSIBILITY", "0")
os.environ.update(LC_ALL="C.UTF-8", LANGUAGE="en")

from hypothesis import HealthCheck, settings
from pytestqt.qtbot import QtBot

from neogenesis.app.desk.bench import Bench
from neogenesis.app.desk.work import Work
from neogenesis.app.shell.window import MainWindow
from neogenesis.app.theme.look import look
from neogenesis.bench.drives.docks import SimulatedDocks
from neogenesis.bench.processes.clock import BenchClock
from neogenesis.bench.records.opening import open_records
from neogenesis.bench.simulated.demo import demo_bench
from neogenesis.core.job import Job
from tests.drives import blank, make_drive, run, set_docks, simulated, standard_parts
from tests.faulty import FaultyDrive
from tests.program import Done, run_program

# Speed is measured by `make bench`; a test never fails for being slow. `make test` tries the same inputs every time,
# `make test-long` other ones.
settings.register_profile(
    "house",
    deadline=None,
    max_examples=100 if os.environ.get("NEOGENESIS_LONG") else 50,
    suppress_health_check=[HealthCheck.too_slow],
    derandomize=not os.environ.get("NEOGENESIS_LONG"),
)
settings.load_profile("house")


#: Long journeys and further variants of what others show as well: run by `make test-long`, or by their names.
_LONG = frozenset((Path(__file__).parent / "data/long.txt").read_text("utf-8").split("\n"))


def pytest_collection_modifyitems(config: pytest.Config, items: list[pytest.Item]) -> None:
    """The longest first, so that no worker waits for the last one; those that take too long only when asked for."""
    items.sort(key=lambda item: item.get_closest_marker("timeout") is None)
    left_out = []
    for item in items:
        if item.nodeid in _LONG:
            item.add_marker("long")
            left_out.append(item)
    asked = os.environ.get("NEOGENESIS_LONG") or any(Path(a.partition("::")[0]).suffix for a in config.args)
    if left_out and not asked:
        config.hook.pytest_deselected(items=left_out)
        items[:] = [item for item in items if item.nodeid not in _LONG]


@pytest.fixture(scope="session")
def empty_bench(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("empty") / "bench"
    open_records(folder).close()
    return folder


@pytest.fixture(autouse=True)
def own_bench(empty_bench: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Path]:
    """Every test has a person's bench of its own: what one test has met, no other knows."""
    with tempfile.TemporaryDirectory(prefix="neogenesis-bench-") as name:
        folder = Path(name) / "bench"
        shutil.copytree(empty_bench, folder)
        monkeypatch.setenv("NEOGENESIS_BENCH", str(folder))
        yield folder


@pytest.fixture(scope="session")
def standard_original(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return make_drive(tmp_path_factory.mktemp("original") / "old.img", 640, standard_parts())


@pytest.fixture
def standard(standard_original: Path, tmp_path: Path) -> Path:
    """A private copy of the usual drive."""
    run("cp", "--sparse=always", standard_original, tmp_path / "old.img")
    return tmp_path / "old.img"


@pytest.fixture
def neogenesis() -> Callable[..., Done]:
    """The real program as a process; with a non-zero status it must say exactly one line, else nothing but `words`.

    Whose drive is written to, and what is lost on it, is said besides.
    """

    def call(*arguments: str | Path, status: int = 0, words: str = "") -> Done:
        done = run_program(arguments)
        assert done.returncode == status, f"{done.returncode}\n{done.stdout}\n{done.stderr}"
        lines = [line for line in done.stderr.splitlines() if not line.startswith("Writing to ")]
        if status:
            assert len(lines) == 1, done.stderr
        else:
            assert words in done.stderr if words else not lines
        return done

    return call


@pytest.fixture
def survey_json(neogenesis: Callable[..., Done]) -> Callable[..., dict]:
    def read(path: Path, *more: str) -> dict:
        return dict(json.loads(neogenesis("survey", path, "--json", *more).stdout))

    return read


@pytest.fixture(scope="session")
def demo_original(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return demo_bench(tmp_path_factory.mktemp("demo") / "bench")


@pytest.fixture
def small_bench(standard: Path) -> Path:
    """A bench of four docks with the usual drive, an empty one of 1.4 GiB, and one job for them."""
    folder = standard.parent
    blank(folder / "new.img", 1400)
    simulated(folder / "old.drive.json", "old.img", model="Halden 500", serial="HD5-00009K3D", rotational=True)
    simulated(folder / "new.drive.json", "new.img", model="Corvane N2", serial="CN2-000041F2", bus="nvme")
    set_docks(folder, ["old.drive.json", "new.drive.json", None, None])
    store = open_records(folder / "bench")
    store.add(
        Job(
            ticket="T-7",
            customer="Gullhaven Pilots' Office",
            machine="Petrel 14",
            old_drive=str(folder / "old.drive.json"),
            new_drive=str(folder / "new.drive.json"),
        )
    )
    store.close()
    return folder


@pytest.fixture
def open_window(qtbot: QtBot) -> Iterator[Callable[[Path], MainWindow]]:
    """Opens the real window on a bench folder; several can be open one after the other."""
    windows: list[MainWindow] = []

    def make(folder: Path) -> MainWindow:
        bench = Bench("Saltmarsh Repair", open_records(folder / "bench"), SimulatedDocks(folder), Work(), BenchClock())
        window = MainWindow(bench)
        windows.append(window)
        window.show()
        window.activateWindow()
        qtbot.waitUntil(window.isActiveWindow)
        return window

    yield make
    for window in windows:
        window.close()
        window.bench.store.close()
        window.deleteLater()
    look().set(theme="day", percent=100)


@pytest.fixture
def faulty(tmp_path: Path) -> Iterator[Callable[..., FaultyDrive]]:
    """Makes faulty drives behind real block devices, of image files in the test's folder."""
    made: list[FaultyDrive] = []

    def make(image: Path, **how: object) -> FaultyDrive:
        made.append(FaultyDrive(image, **how))
        return made[-1]

    yield make
    for drive in made:
        drive.close()

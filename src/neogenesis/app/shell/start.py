"""Putting the window together: the one place where real and simulated parts are chosen and handed on."""

from __future__ import annotations

import os
import signal
import sys
from collections.abc import Callable
from pathlib import Path

from neogenesis.bench.drives.docks import Docks, SimulatedDocks, SystemDocks
from neogenesis.bench.processes.clock import BenchClock
from neogenesis.bench.processes.folders import bench_folder, person_folder
from neogenesis.bench.records.opening import open_records
from neogenesis.bench.simulated.demo import demo_bench, demo_folder
from neogenesis.core.errors import BadArgument, BadRecord
from neogenesis.core.job.store import JobStore


def run_window() -> int:
    """The window on the drives of this machine."""
    _need_display()
    url = os.environ.get("NEOGENESIS_DATABASE", "")
    store = _records(lambda: open_records(bench_folder(), url))
    return _run("Neogenesis bench", store, SystemDocks(), person_folder())


def run_demo(reset: bool) -> int:
    """The window on the demo bench, which is built first where it is not there yet."""
    _need_display()
    folder = demo_folder()
    if reset or not (folder / "docks.json").exists():
        sys.stdout.write(f"Building the demo bench in {folder}, some seconds…\n")
        sys.stdout.flush()
    demo_bench(folder, reset)
    store = _records(lambda: open_records(folder / "bench"))
    return _run("Saltmarsh Repair", store, SimulatedDocks(folder), None)


def _records(opened: Callable[[], JobStore]) -> JobStore:
    """The records of the bench; where they cannot be opened, a window says so, since a desktop shows nothing else.

    Raises BadRecord when that window is closed.
    """
    while True:
        try:
            return opened()
        except BadRecord as error:
            from neogenesis.app.shell.trouble import ask_again

            if not ask_again(error):
                raise


def _need_display() -> None:
    platform = os.environ.get("QT_QPA_PLATFORM", "").partition(":")[0]
    screens = [os.environ.get(name) for name in ("DISPLAY", "WAYLAND_DISPLAY")]
    if platform in ("offscreen", "minimal", "vnc") or any(screens):
        return
    raise BadArgument(
        "There is no display here, so the window cannot open.",
        "Use “make demo-offscreen”: it runs the demo bench invisibly and writes pictures of its views.",
    )


def _run(name: str, store: JobStore, docks: Docks, person: Path | None) -> int:
    from PyQt6.QtWidgets import QApplication

    from neogenesis.app.desk.bench import Bench
    from neogenesis.app.desk.work import Work
    from neogenesis.app.shell.trouble import Handler
    from neogenesis.app.shell.window import MainWindow

    signal.signal(signal.SIGINT, signal.SIG_DFL)  # everything is on disk already; Ctrl+C may end the window
    application = QApplication(sys.argv[:1])
    application.setApplicationName("Neogenesis")
    application.setDesktopFileName("org.neogenesis.Neogenesis")
    window = MainWindow(Bench(name, store, docks, Work(), BenchClock(), person))
    handler = Handler(window)
    window.show()
    status = application.exec()
    handler.close()
    store.close()
    return status

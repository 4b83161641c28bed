"""Opens the window on a bench folder and prints when it was first painted and its longest pause.

With one job, the pause is that during its transfer; with many, also that of searching, opening and going from stop to
stop while it runs.
"""

from __future__ import annotations

import sys
import time
from datetime import datetime, timedelta
from pathlib import Path

from PyQt6.QtCore import QEvent, QEventLoop, QObject, QTimer
from PyQt6.QtWidgets import QApplication

from neogenesis.app.desk.bench import Bench
from neogenesis.app.desk.work import Work
from neogenesis.app.shell.window import MainWindow
from neogenesis.app.stops import STOPS
from neogenesis.bench.drives.docks import SimulatedDocks
from neogenesis.bench.processes.clock import BenchClock
from neogenesis.bench.records.opening import open_records
from neogenesis.core.job import Job
from neogenesis.core.job.store import JobStore
from tests.bench.probe import Probe


class FirstPaint(QObject):
    def __init__(self, started: float) -> None:
        super().__init__()
        self.started, self.at = started, 0.0

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        if event is not None and event.type() == QEvent.Type.Paint and not self.at:
            self.at = time.time() - self.started
        return False


def live(until, longest_s: float = 60) -> None:
    deadline = time.monotonic() + longest_s
    while not until() and time.monotonic() < deadline:
        loop = QEventLoop()
        QTimer.singleShot(20, loop.quit)
        loop.exec()


def main(folder: Path, started: float, jobs: int) -> None:
    application = QApplication([])
    store = open_records(folder / "bench")
    if not store.jobs():
        fill(store, folder, jobs)
    window = MainWindow(Bench("Saltmarsh Repair", store, SimulatedDocks(folder), Work(), BenchClock()))
    paint = FirstPaint(started)
    window.installEventFilter(paint)
    window.show()
    live(lambda: paint.at > 0)
    window.open_job("T-1")
    job = window.job
    assert job is not None
    job.survey.start()
    live(lambda: job.survey.state == "done")
    window.show_stop("plan")
    live(lambda: job.plan.state == "ready")
    job.plan.write()
    window.show_stop("transfer")
    live(lambda: False, 0.5)
    probe = Probe()
    probe.start()
    job.transfer.start("0002", "none")
    if jobs > 1:
        walk(window)
        job = window.job
        assert job is not None
    live(lambda: not job.transfer.is_active)
    probe.stop()
    print(f"paint {paint.at:.3f} pause {probe.worst_s * 1000:.0f} {job.transfer.state}")  # noqa: T201
    window.close()
    store.close()
    del application


def fill(store: JobStore, folder: Path, jobs: int) -> None:
    """The first job has the drives; every other one has a customer, a promise and a few entries."""
    drives = {f"{which}_drive": str(folder / f"{which}.drive.json") for which in ("old", "new")}
    for number in range(1, jobs + 1):
        promise = (datetime.now() + timedelta(days=number % 9 - 2)).strftime("%Y-%m-%d 16:00")
        store.add(
            Job(
                ticket=f"T-{number}",
                customer=f"Islander {number}",
                machine="Petrel 14",
                promise=promise,
                wish="Faster",
                **(drives if number == 1 else {}),
            )
        )


def walk(window: MainWindow) -> None:
    """What a busy person does while a transfer runs, a moment between each two things."""
    window.show_jobs()
    live(lambda: False, 0.2)
    for typed in ("i", "is", "islander 3", "islander 39", ""):
        window.jobs_view.search.setText(typed)
        live(lambda: False, 0.1)
    for ticket in ("T-17", "T-203", "T-1"):
        window.open_job(ticket)
        live(lambda: False, 0.2)
        for stop in STOPS:
            window.show_stop(stop)
            live(lambda: False, 0.1)
    window.show_stop("transfer")


if __name__ == "__main__":
    main(Path(sys.argv[1]), float(sys.argv[2]), int(sys.argv[3]) if len(sys.argv) > 3 else 1)

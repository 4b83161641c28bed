"""Opens the window on a bench folder, runs its transfer, and prints when it was first painted and its longest pause."""

from __future__ import annotations

import sys
import time
from pathlib import Path

from PyQt6.QtCore import QEvent, QEventLoop, QObject, QTimer
from PyQt6.QtWidgets import QApplication

from neogenesis.app.bench import Bench
from neogenesis.app.window import MainWindow
from neogenesis.app.work import Work
from neogenesis.bench.clock import BenchClock
from neogenesis.bench.docks import SimulatedDocks
from neogenesis.bench.records import open_records
from neogenesis.core.job import Job
from tests.test_window_job import Probe


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


def main(folder: Path, started: float) -> None:
    application = QApplication([])
    store = open_records(folder / "bench")
    store.add(
        Job(
            ticket="T-1",
            customer="c",
            machine="m",
            old_drive=str(folder / "old.drive.json"),
            new_drive=str(folder / "new.drive.json"),
        )
    )
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
    live(lambda: not job.transfer.is_active)
    probe.stop()
    print(f"paint {paint.at:.3f} pause {probe.worst_s * 1000:.0f} {job.transfer.state}")  # noqa: T201
    window.close()
    store.close()
    del application


if __name__ == "__main__":
    main(Path(sys.argv[1]), float(sys.argv[2]))

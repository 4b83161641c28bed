"""What a drive feels like while it is read: its temperature now, and how to leave it alone for a while."""

from __future__ import annotations

import os
import time
from collections.abc import Callable
from pathlib import Path

from neogenesis.bench.drives import OpenDrive
from neogenesis.bench.simulated import SimulatedDrive
from neogenesis.core.transfer import Control

_SLICE_SECONDS = 0.25


def temperature_of(opened: OpenDrive) -> Callable[[], float | None]:
    """Asks a simulated drive, or the system's sensor of a real one; None where nobody knows."""
    store = opened.store
    if isinstance(store, SimulatedDrive):
        return store.temperature_c
    path = Path(opened.drive.path)
    if not path.is_block_device():  # an image, or a drive that is gone
        return lambda: None
    number = path.stat().st_rdev
    device = Path(f"/sys/dev/block/{os.major(number)}:{os.minor(number)}/device")
    # A partition's own folder has none; a SATA drive keeps its sensor below itself, an NVMe one below its controller.
    sensors = sorted((*device.glob("hwmon/hwmon*/temp1_input"), *device.glob("hwmon*/temp1_input")))

    def read() -> float | None:
        try:
            return int(sensors[0].read_text()) / 1000 if sensors else None
        except (OSError, ValueError):
            return None

    return read


def waiting(opened: OpenDrive, control: Control) -> Callable[[float], None]:
    """Lets seconds pass by the drive's own clock; a wait can be stopped and paused like everything else."""
    store = opened.store
    if isinstance(store, SimulatedDrive):
        simulated = store

        def rest(seconds: float) -> None:
            control.checkpoint()
            simulated.rest(seconds)

        return rest

    def wait(seconds: float) -> None:
        until = time.monotonic() + seconds
        while (left := until - time.monotonic()) > 0:
            control.checkpoint()
            time.sleep(min(left, _SLICE_SECONDS))

    return wait

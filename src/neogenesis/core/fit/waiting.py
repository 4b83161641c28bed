"""How long a start of the system waits for its drive, and what another drive saves of it.

Waiting = reads x access time + bytes / rate, with the numbers of `data/decide.toml`; the share of a measured start that
waits for the drive is a judgement there. See docs/deciding.md.
"""

from __future__ import annotations

from dataclasses import dataclass

from neogenesis.core.fit.numbers import numbers

_USUAL_RATE = {"rotational": 1.1e8, "sata": 5.2e8, "nvme": 3.0e9, "pata": 6e7, "emmc": 2.5e8}


@dataclass(frozen=True, slots=True)
class Start:
    """Seconds of a start before, and after at the 10th, 50th and 90th percentile."""

    before_s: float
    after_s: tuple[float, float, float]


def drive_wait(kind: str, rate: float | None = None) -> float:
    """Seconds that one start waits for a drive of that class (`rotational`, `sata`, `nvme`, `pata`, `emmc`)."""
    n = numbers().start
    known = kind if kind in n.access_ms else "sata"
    return n.reads * n.access_ms[known] / 1000 + n.bytes / (rate or _USUAL_RATE[known])


def start_after(before_s: float, old_kind: str, new_kind: str, new_rate: float | None = None) -> Start:
    """What a start that takes `before_s` with the old drive takes with the new one."""
    shares = numbers().start.share.get(old_kind, numbers().start.share["sata"])
    ratio = min(1.0, drive_wait(new_kind, new_rate) / drive_wait(old_kind))
    low, middle, high = (before_s * ((1 - share) + share * ratio) for share in reversed(shares))
    return Start(before_s, (low, middle, high))

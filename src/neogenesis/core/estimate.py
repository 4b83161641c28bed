"""How long a transfer takes, as a range.

Model: the pace is the slower of what the source reads and the target writes, each a percentile of what drives on
that bus sustain (judgement file); verification reads everything back from the target; preparing a volume and
writing the table take a few seconds each. The 10th percentile of the time pairs with the 90th of the rates.
"""

from __future__ import annotations

from dataclasses import dataclass

from neogenesis.core.drive import Drive, Health
from neogenesis.core.judgement import Rate, judgement
from neogenesis.core.record import Record

_FIXED_SECONDS = (2.0, 5.0, 15.0)
_PREPARE_SECONDS = (1.0, 4.0, 30.0)
#: Putting files onto a volume and comparing each, as measured here: bytes of them, and what each file takes beside; by
#: the utility that fills an ext volume for an account that may not mount, each takes longer.
_FILL_BYTES_PER_S = (2.5e8, 1.3e8, 5e7)
_FILE_S, _SLOW_FILE_S = (0.0003, 0.0005, 0.0015), (0.002, 0.008, 0.02)


@dataclass(frozen=True, slots=True)
class Filled:
    """Files for new volumes; `slow_files` of them are put there by a utility."""

    bytes: int = 0
    files: int = 0
    slow_files: int = 0

    def seconds(self, place: int) -> float:
        """At the 10th, 50th and 90th percentile, by its place among them."""
        quick = self.files - self.slow_files
        beside = quick * _FILE_S[place] + self.slow_files * _SLOW_FILE_S[place]
        return self.bytes / _FILL_BYTES_PER_S[place] + beside


NOTHING_FILLED = Filled()


class Estimate(Record, frozen=True, kw_only=True):
    """Seconds at three percentiles, and the bytes that a copy carries."""

    seconds_p10: float
    seconds_p50: float
    seconds_p90: float
    bytes_to_copy: int


def rate_of(drive: Drive | None) -> Rate:
    """What drives of that kind sustain; an unknown drive is taken for one on the slowest common bus."""
    rates = judgement().rates
    if drive is None:
        return rates["sata"]
    if drive.rotational:
        return rates["rotational"]
    return rates.get(drive.bus, rates["file"])


def gentleness(health: Health) -> float:
    """How many times slower a drive of that health is read: a failing one gently."""
    return judgement().gentle if health.image_first else 1.0


def estimate(
    source: Drive,
    target: Drive | None,
    copied_bytes: int,
    prepared: int,
    verified_bytes: int,
    filled: Filled = NOTHING_FILLED,
    gentle: float = 1.0,
) -> Estimate:
    """`prepared` volumes are given another size before the copy, or made and filled with the files of `filled`.

    `verified_bytes` are read back after it; `gentle` is how many times slower a failing source is read.
    """
    seconds = copy_seconds(rate_of(source), rate_of(target), copied_bytes, prepared, verified_bytes, filled, gentle)
    low, middle, high = (round(one, 1) for one in seconds)
    return Estimate(seconds_p10=low, seconds_p50=middle, seconds_p90=high, bytes_to_copy=copied_bytes)


def without_reading_back(whole: Estimate, target: Drive | None, unread_bytes: int) -> Estimate:
    """That estimate, for the same work of which so many bytes are not read back."""
    read = rate_of(target).read
    spared = [unread_bytes / read[at] for at in (2, 1, 0)]
    low, middle, high = (
        round(max(0.0, seconds - less), 1)
        for seconds, less in zip((whole.seconds_p10, whole.seconds_p50, whole.seconds_p90), spared, strict=True)
    )
    return Estimate(seconds_p10=low, seconds_p50=middle, seconds_p90=high, bytes_to_copy=whole.bytes_to_copy)


def copy_seconds(
    source: Rate,
    target: Rate,
    copied_bytes: int,
    prepared: int,
    verified_bytes: int,
    filled: Filled = NOTHING_FILLED,
    gentle: float = 1.0,
    cache: tuple[float, float] | None = None,
) -> tuple[float, float, float]:
    """As `estimate`, at the 10th, 50th and 90th percentile, between rates.

    `cache` is how many bytes the target takes at its rate, and what it sustains after them in bytes per second.
    """
    low, middle, high = (
        _paced(source.read[at] / gentle, target.write[at], copied_bytes, cache)
        + verified_bytes / target.read[at]
        + filled.seconds(place)
        + _FIXED_SECONDS[place]
        + prepared * _PREPARE_SECONDS[place]
        for place, at in enumerate((2, 1, 0))
    )
    return low, middle, high


def _paced(reading: float, writing: float, length: int, cache: tuple[float, float] | None) -> float:
    if cache is None or length <= cache[0]:
        return length / min(reading, writing)
    room, after = cache
    return room / min(reading, writing) + (length - room) / min(reading, writing, after)


def remaining_seconds(done: float, elapsed_s: float, left: float, recent_rate: float) -> tuple[float, float]:
    """Range for the time left from what was measured.

    The average so far and the recent rate bracket it, widened by an eighth for what cannot be foreseen; early on,
    when little was measured, by more. `left` is in the unit of `done`.
    """
    if done <= 0 or elapsed_s <= 0:
        return 0.0, 0.0
    average = done / elapsed_s
    rates = [r for r in (average, recent_rate) if r > average / 1e6]  # a rate of next to nothing says nothing
    share = done / (done + left) if left > 0 else 1.0
    slack = 0.125 + 0.5 * max(0.0, 0.1 - share) / 0.1
    return left / (max(rates) * (1 + slack)), left / (min(rates) * (1 - min(slack, 0.8)))

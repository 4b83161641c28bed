"""A read-speed profile in sentences."""

from __future__ import annotations

from neogenesis.core.survey.model import Survey
from neogenesis.core.survey.profile import SpeedProfile
from neogenesis.core.units import binary_text, rate_text

_ENDS = {
    "time": "It was cut off when its time was up.",
    "stalls": "The drive stalled, and was left alone from then on: image it first, gently.",
    "errors": "Places could not be read, and the drive was left alone: image it first, gently.",
    "stopped": "It was stopped.",
}


def speed_sentences(profile: SpeedProfile, survey: Survey) -> list[str]:
    """How fast, why, and where it is slow; each a sentence of its own."""
    if profile.median_bytes_per_s is None or profile.median_seek_s is None:
        return ["Nothing of the drive could be read.", *filter(None, [_ENDS.get(profile.ended, "")])]
    seek_ms = profile.median_seek_s * 1000
    lines = [
        f"It reads {rate_text(profile.median_bytes_per_s)} at most places, and needs {seek_ms:.1f} ms to find one."
    ]
    if profile.mechanical:
        lines.append("So it is mechanical.")
    if profile.link:
        lines.append(f"The same everywhere, just below {profile.link}: dock or cable set the pace, not the drive.")
    names = {p.number: p.title for p in survey.partitions}
    for zone in profile.zones:
        where = ", ".join(names[n] for n in zone.partitions if n in names) or "between the partitions"
        rate = rate_text(zone.bytes_per_s) if zone.bytes_per_s is not None else "not to be read"
        lines.append(f"Slow from {binary_text(zone.start_bytes)} to {binary_text(zone.end_bytes)}: {rate}, in {where}.")
    if not profile.zones and profile.ended == "whole":
        lines.append("No part of it is slow.")
    lines += filter(None, [_ENDS.get(profile.ended, "")])
    return lines

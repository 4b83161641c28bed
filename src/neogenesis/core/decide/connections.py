"""The ways to connect the drives, each with openings, minutes and what it needs beside the drives."""

from __future__ import annotations

from neogenesis.core.decide.case import Facts
from neogenesis.core.decide.numbers import numbers
from neogenesis.core.decide.way import IN_WORDS, Connection, Way
from neogenesis.core.record import Record

_IN_PLACE = ("split", "beside")


class Link(Record, frozen=True, kw_only=True):
    """`seconds_p50` with hands on it for connecting and all openings; `reason` says why it is not possible."""

    connection: Connection
    possible: bool
    openings: int
    seconds_p50: float
    adapters: tuple[str, ...]
    reason: str = ""


def connections(way: Way, facts: Facts) -> tuple[Link, ...]:
    """All of them, whether or not they are possible; none for ways that connect nothing."""
    if way in IN_WORDS:
        return ()
    closed = "" if facts.removable else "The old drive cannot be taken out."
    slot = "" if facts.free_bay else "There is no second bay."
    third = "" if way in ("replace", "exact", "salvage", "fresh") else "What stays in the machine is not imaged first."
    stick = "A second drive goes into the machine itself." if way in _IN_PLACE else ""
    bus = {"nvme": "M.2", "sata": "2.5 inches"}.get(facts.new_class, facts.new_class)
    return (
        _link("enclosure", facts, 1, (f"enclosure for {bus}",), closed),
        _link("second-dock", facts, 1, ("a second dock",), closed),
        _link("internal-slot", facts, 1 if way in _IN_PLACE else 2, (), slot or closed),
        _link("third-drive", facts, 1, ("a third drive with room for the image",), third or closed),
        _link("stick", facts, 0, ("a stick with a system", f"enclosure for {bus}"), stick),
    )


def _link(connection: Connection, facts: Facts, openings: int, adapters: tuple[str, ...], reason: str) -> Link:
    n = numbers()
    opening = n.opening.get(facts.machine_kind, n.opening["other"])[1]
    return Link(
        connection=connection,
        possible=not reason,
        openings=openings,
        seconds_p50=60 * (n.hands.connect[1] + openings * opening),
        adapters=adapters,
        reason=reason,
    )

"""The ordered stops of a job."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Stop:
    """`what` says in one sentence what happens there."""

    key: str
    title: str
    what: str


ROUTE: tuple[Stop, ...] = (
    Stop(
        "intake",
        "Intake",
        "Takes in the machine: what hurts, what must survive, what is elsewhere, how long it takes to start.",
    ),
    Stop("survey", "Survey", "Reads the old drive without writing: table, volumes, health, systems."),
    Stop("decide", "Decide", "Weighs copy, fresh start and doing less against each other, with reasons."),
    Stop("fit", "Fit", "Checks that the new drive suits the machine: connector, length, height, slots."),
    Stop("plan", "Plan", "Lays out the new drive and says what will be copied."),
    Stop("transfer", "Transfer", "Copies, reads everything back, and writes the new table last."),
    Stop("swap", "Swap", "Leads through opening the machine and exchanging the drives safely."),
    Stop("first-boot", "First boot", "Forecasts what the machine would start, and records its first start."),
    Stop("handover", "Handover", "Says what was done and measured, and prints the customer's report."),
)


@dataclass(frozen=True, slots=True)
class Added:
    """Something between two stops that a way asks for; it stands before the stop `before`."""

    key: str
    title: str
    what: str
    before: str


_NOT_NEEDED: dict[str, frozenset[str]] = {
    "salvage": frozenset(("fit", "plan", "swap", "first-boot")),
    "do-less": frozenset(("plan", "transfer", "first-boot")),
    "replace-machine": frozenset(("fit", "plan", "transfer", "swap", "first-boot")),
    "repair-start": frozenset(("fit", "plan", "transfer", "swap")),
    "repair-cause": frozenset(("fit", "plan", "transfer", "first-boot")),
    "refer": frozenset(("fit", "plan", "transfer", "swap", "first-boot")),
    "nothing-yet": frozenset(("fit", "plan", "transfer", "swap", "first-boot")),
}
_IMAGE = Added(
    "image", "Image first", "The old drive is failing: it is read once, gently, before anything else.", "fit"
)
_FILES = Added("files", "Files out", "Copies what must survive out, with its checksums.", "plan")
_BACK = Added("back", "Files back", "Copies what was brought out back onto the new system.", "first-boot")


def not_needed(way: str) -> frozenset[str]:
    """Stops that the chosen way does without; none while nothing is chosen."""
    return _NOT_NEEDED.get(way, frozenset())


def added(way: str, image_first: bool, files: bool = True) -> tuple[Added, ...]:
    """What the chosen way asks for beside the stops; `files` tells whether any must survive."""
    found = [_IMAGE] if image_first else []
    if way == "salvage":
        found.append(Added(_FILES.key, _FILES.title, _FILES.what, "transfer"))
    elif way in ("fresh", "replace-machine") and files:
        found += [_FILES, _BACK] if way == "fresh" else [Added(_FILES.key, _FILES.title, _FILES.what, "handover")]
    return tuple(found)


def next_needed(key: str, way: str) -> str:
    """The stop after `key` that the way needs."""
    left = ROUTE[position(key) + 1 :]
    return next((stop.key for stop in left if stop.key not in not_needed(way)), ROUTE[-1].key)


def stop_titled(key: str) -> Stop:
    """The stop of that key; raises KeyError."""
    for stop in ROUTE:
        if stop.key == key:
            return stop
    raise KeyError(key)


def position(key: str) -> int:
    """Where on the route a stop is, from 0."""
    return [stop.key for stop in ROUTE].index(key)

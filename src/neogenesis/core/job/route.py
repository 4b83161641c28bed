"""The ordered stops of a job."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Stop:
    """`what` says in one sentence what happens there; `built` is False where only a note can be taken yet."""

    key: str
    title: str
    what: str
    built: bool


ROUTE: tuple[Stop, ...] = (
    Stop(
        "intake",
        "Intake",
        "Takes in the machine: what hurts, what must survive, what is elsewhere, how long it takes to start.",
        True,
    ),
    Stop("survey", "Survey", "Reads the old drive without writing: table, volumes, health, systems.", True),
    Stop("decide", "Decide", "Weighs copy, fresh start and doing less against each other, with reasons.", True),
    Stop("fit", "Fit", "Checks that the new drive suits the machine: connector, length, height, slots.", True),
    Stop("plan", "Plan", "Lays out the new drive and says what will be copied.", True),
    Stop("transfer", "Transfer", "Copies, reads everything back, and writes the new table last.", True),
    Stop("swap", "Swap", "Leads through opening the machine and exchanging the drives safely.", False),
    Stop("first-boot", "First boot", "Forecasts what the machine would start, and records its first start.", False),
    Stop("handover", "Handover", "Says what was done and measured, and prints the customer's report.", True),
)


def stop_titled(key: str) -> Stop:
    """The stop of that key; raises KeyError."""
    for stop in ROUTE:
        if stop.key == key:
            return stop
    raise KeyError(key)


def position(key: str) -> int:
    """Where on the route a stop is, from 0."""
    return [stop.key for stop in ROUTE].index(key)

"""What must come before what among the steps of a profile, and the order that follows from it."""

from __future__ import annotations

import heapq

from neogenesis.core.machine import Machine
from neogenesis.core.machine.model import Step


def before_each(machine: Machine) -> list[set[int]]:
    """For each step the places of those that must come before it.

    They are what it `needs`, and what takes off the part that one of its fasteners is hidden under. A step that bares
    and takes a fastener by itself waits for nobody.
    """
    steps = machine.steps
    by_id = {s.id.casefold(): n for n, s in enumerate(steps)}
    taken_off: dict[str, int] = {}
    for n, step in enumerate(steps):
        for part in step.parts_off:
            taken_off.setdefault(part.casefold(), n)
    hidden = {f.id: f.hidden_under.casefold() for f in machine.fasteners if f.hidden_under}
    found = []
    for n, step in enumerate(steps):
        names = [need.casefold() for need in step.needs]
        names += [hidden[i] for held in step.fasteners if (i := held if isinstance(held, str) else held.id) in hidden]
        first = {by_id.get(name, taken_off.get(name)) for name in names}
        found.append({one for one in first if one is not None and one != n})
    return found


def ordered(machine: Machine) -> tuple[list[Step], list[Step]]:
    """The steps so that each comes after what it needs, otherwise as they stand; and those that wait in a circle."""
    before = before_each(machine)
    after: list[list[int]] = [[] for _ in machine.steps]
    left = [len(b) for b in before]
    for n, needs in enumerate(before):
        for one in needs:
            after[one].append(n)
    ready = [n for n, count in enumerate(left) if count == 0]
    heapq.heapify(ready)
    done = []
    while ready:
        n = heapq.heappop(ready)
        done.append(n)
        for follower in after[n]:
            left[follower] -= 1
            if left[follower] == 0:
                heapq.heappush(ready, follower)
    placed = set(done)
    return [machine.steps[n] for n in done], [s for n, s in enumerate(machine.steps) if n not in placed]


def required(machine: Machine, step: Step) -> frozenset[str]:
    """Ids of all steps that must come before it."""
    before = before_each(machine)
    places = {s.id: n for n, s in enumerate(machine.steps)}
    waiting, found = [places[step.id]], set[int]()
    while waiting:
        for one in before[waiting.pop()] - found:
            found.add(one)
            waiting.append(one)
    return frozenset(machine.steps[n].id for n in found)

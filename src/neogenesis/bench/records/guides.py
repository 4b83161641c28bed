"""Guides of a machine's profile, or of a job with what is on record of it."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import closing
from pathlib import Path

from neogenesis.bench.records.cases import read_named
from neogenesis.core.errors import NeogenesisError
from neogenesis.core.intake import load_intake
from neogenesis.core.job import LogEntry
from neogenesis.core.job.deeds import came_with_drive
from neogenesis.core.job.guides import Guide, Part, guide_for
from neogenesis.core.machine import machine_on_plate, read_machine
from neogenesis.core.plan import Plan
from neogenesis.core.record import load


def guide_of(what: str, part: Part, bench: str = "") -> Guide:
    """`what` is a machine's profile, or a ticket. Raises BadArgument or BadRecord."""
    path = Path(what)
    if path.suffix == ".json" or path.is_file():
        return guide_for(part, read_machine(read_named(path, "machine"), f"machine “{path.name}”"), has=("old",))
    from neogenesis.bench.records.opening import existing_records
    from neogenesis.bench.records.profiles import known_machines

    with closing(existing_records(bench)) as store:
        job, log, dossier = store.job(what), store.log(what), store.dossier(what)
        machines, _ = known_machines(store.folder)
        intake = load_intake(dossier)
    plate, old = intake.plate, {"old"} if came_with_drive(job, intake) else set()
    machine = machine_on_plate(plate.make, plate.model, machines).machine
    return guide_for(part, machine, log, _about(dossier / "plan.json") | _fitted(log) | old)


def _fitted(log: Sequence[LogEntry]) -> set[str]:
    return {"memory"} if any(e.kind == "fit" and e.figures.get("memory") for e in log) else set()


def _about(path: Path) -> set[str]:
    """What the written plan of a job is about; nothing without one that can be read."""
    try:
        plan = load(path, Plan, "plan")
    except NeogenesisError:
        return set()
    partitions = plan.source.survey.partitions
    has = {
        "fresh": plan.intent == "fresh",
        "second": plan.intent in ("split", "beside") or plan.policy.data_volume_bytes is not None,
        "recovery": any(p.role == "recovery" for p in partitions),
        "encrypted": any(p.volume.encrypted for p in partitions),
    }
    return {name for name, is_so in has.items() if is_so}

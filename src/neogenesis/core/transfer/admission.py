"""What is asked of plan and drives at the moment of writing: is all of this still what was meant?

A plan says who its drives are and what was seen on them; a file can say anything, so all of it is worked out again
from the drives themselves and compared.
"""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from neogenesis.core.drive import Drive, is_cleared, refuse_mounted
from neogenesis.core.errors import Refused
from neogenesis.core.plan import Plan
from neogenesis.core.plan.fresh import fresh_faults
from neogenesis.core.plan.gates import gates_of
from neogenesis.core.plan.model import FreshSource
from neogenesis.core.plan.operations import plan_operations
from neogenesis.core.store import ReadableStore
from neogenesis.core.survey import Surveyed
from neogenesis.core.survey.survey import table_mark
from neogenesis.core.transfer.readback import wrong_chunks
from neogenesis.core.work import ZEROS, Chunk, ChunkLog, Journal

__all__ = ["check_gates", "check_source", "check_target", "known_wrong", "planned_target", "table_mark"]
_KNOWN_CHUNKS = 16


def check_gates(plan: Plan, surveyed: Surveyed) -> None:
    """Every gate is open, also when asked again. Raises Refused with the first that is not.

    The steps must be those that this survey and this layout give: a plan that says otherwise is not ours.
    """
    again = gates_of(surveyed.survey, plan.target, plan.layout, plan.operations, plan.fellows, plan.policy.alone)
    for gate in (*plan.gates, *again):
        if not gate.open:
            raise Refused(gate.code, f"{gate.text} Nothing was written.", gate.remedy)
    source = plan.source
    if isinstance(source, FreshSource):
        faults = fresh_faults(plan)
        if faults:
            raise Refused("plan", f"The plan {faults[0]}; nothing was written.", "Plan again.")
    elif tuple(plan_operations(surveyed, plan.layout, plan.policy)) != plan.operations:
        raise Refused(
            "plan",
            "The steps of the plan are not those that its drives and its layout ask for; nothing was written.",
            "Plan again.",
        )


def planned_target(plan: Plan) -> Drive:
    """The new drive; raises Refused for a plan that was made for a size only."""
    if plan.target.drive is None:
        raise Refused(
            "target-missing",
            "The plan names no drive to write to; nothing was written.",
            "Connect the new drive and plan again with it.",
        )
    return plan.target.drive


def check_target(plan: Plan, drive: Drive, mark: str, resuming: bool) -> None:
    """Raises Refused unless at least two independent marks match what the plan recorded.

    While resuming, the table area may be as it was or cleared; the journal's own checks come on top.
    """
    planned = planned_target(plan)
    refuse_mounted(drive, "The new drive")
    if drive.size_bytes < planned.size_bytes:
        raise Refused(
            "too-small",
            "The new drive is smaller than the one that the plan was made for; nothing was written.",
            "Connect the right drive, or plan again.",
        )
    same = {
        "size": drive.size_bytes == planned.size_bytes,
        "serial": drive.serial == planned.serial,
        "model": drive.model == planned.model,
        "sector size": drive.sector_size == planned.sector_size,
        "contents of its table": _mark_fits(plan.target.table_mark, mark, resuming),
    }
    wrong = [name for name, fits in same.items() if not fits]
    if wrong:
        raise Refused(
            "target-changed",
            f"This is not the new drive that the plan was made for, or it was changed since: {', '.join(wrong)} "
            "differ; nothing was written.",
            "Connect the right drive, go on with --resume if a transfer to it was cut short, or plan again.",
        )


def _mark_fits(planned: str, found: str, resuming: bool) -> bool:
    if planned == found:
        return True
    if not resuming:
        return False
    half = len(planned) // 2
    return all(found[part] == planned[part] or is_cleared(found[part]) for part in (slice(0, half), slice(half, None)))


def check_source(plan: Plan, drive: Drive, surveyed: Surveyed) -> None:
    """Raises Refused when the old drive is another one, or changed since it was surveyed."""
    planned, found = plan.source.survey, surveyed.survey
    refuse_mounted(drive)
    if (drive.size_bytes, drive.serial) != (planned.drive.size_bytes, planned.drive.serial):
        raise Refused(
            "source-changed",
            "This is not the old drive that the plan was made from; nothing was written.",
            "Connect the right drive, or survey and plan again.",
        )
    changed = planned.drive.changed_ns and drive.changed_ns != planned.drive.changed_ns
    same = (found.fingerprint, found.partitions, found.table) == (
        planned.fingerprint,
        planned.partitions,
        planned.table,
    )
    if changed or not same:
        raise Refused(
            "source-changed",
            "The old drive has changed since it was surveyed; nothing was written.",
            "Survey it and plan again.",
        )


def known_wrong(journal: Journal, target: ReadableStore) -> list[Chunk]:
    """A few of the chunks that the journal has, read back from the medium: those that are not there.

    Raises Refused when none of them is: then this is another drive.
    """
    chosen = list(_chosen(journal.state.chunks))
    wrong = wrong_chunks(target.uncached(), chosen)
    if chosen and len(wrong) == len(chosen):
        raise Refused(
            "target-changed",
            "The new drive does not hold what was already copied to it; nothing more was written.",
            "Connect the drive that the transfer was started on, or delete its journal and plan again.",
        )
    return wrong


def _chosen(chunks: ChunkLog) -> Iterable[Chunk]:
    """Spread over all of them; those of zeros say nothing, since an empty drive has them as well."""
    found = 0
    for chunk in chunks.picked(np.linspace(0, max(0, len(chunks) - 1), min(len(chunks), 4 * _KNOWN_CHUNKS), dtype=int)):
        if chunk.digest != ZEROS and found < _KNOWN_CHUNKS:
            found += 1
            yield chunk

"""The two ends of the new drive: clearing its old table, and writing what belongs there, each in a safe order."""

from __future__ import annotations

from collections.abc import Sequence

from neogenesis.core.drive import TABLE_AREA_BYTES
from neogenesis.core.errors import ReadFailed
from neogenesis.core.plan import Plan
from neogenesis.core.plan.intents import relocates
from neogenesis.core.plan.tables import plan_table_writes, table_writes
from neogenesis.core.store import ReadableStore, WritableStore, read_or_narrow
from neogenesis.core.table import TableWrite, gpt_usable

Lost = list[tuple[int, int]]


def clear_table(target: WritableStore, ranges: Sequence[tuple[int, int]] = ()) -> None:
    """Backup first: while the first table stands, the drive still is what it was. Then `ranges`."""
    size = min(TABLE_AREA_BYTES, target.size_bytes // 2)
    target.write_zeros(target.size_bytes - size, target.size_bytes)
    target.sync()
    target.write_zeros(0, size)
    for start, end in ranges:
        target.write_zeros(start, end)
    target.sync()


def final_writes(plan: Plan, source: ReadableStore) -> tuple[tuple[TableWrite, ...], Lost]:
    """What is written last, and the ranges of the old drive that could not be read for it."""
    if plan.intent == "exact":
        return _exact_ends(plan, source)
    return plan_table_writes(plan), []


def _exact_ends(plan: Plan, source: ReadableStore) -> tuple[tuple[TableWrite, ...], Lost]:
    """The last MiB, then the first: its sectors 0 and 1, which make a table count, at the very end."""
    survey = plan.source.survey
    size, sector = survey.drive.size_bytes, survey.drive.sector_size
    head = min(TABLE_AREA_BYTES, size)
    tail = (max(head, size - TABLE_AREA_BYTES), size)
    table: tuple[TableWrite, ...] = ()
    cut = min(2 * sector, head)
    if relocates(survey, plan.policy):
        table = table_writes(plan.layout, survey.table)
        cut = gpt_usable(size, sector, survey.table.entry_count)[0]
        tail = (tail[0], min(size, table[0].pieces[0][0]))
    ends = [("last MiB", *tail), ("first MiB", cut, head)]
    if not table:
        ends.append(("first sectors", 0, cut))
    steps: list[TableWrite] = []
    lost: Lost = []
    for name, start, end in ends:
        buffer = memoryview(bytearray(max(0, end - start)))
        if buffer:
            lost += read_or_narrow(source, start, buffer, sector)
            steps.append(TableWrite(name, ((start, bytes(buffer)),)))
    return (*steps, *table), lost


def write_in_order(target: WritableStore, steps: tuple[TableWrite, ...]) -> dict[int, bytes]:
    """Each step synced before the next; returns what stands where now."""
    written: dict[int, bytes] = {}
    for step in steps:
        for offset, data in step.pieces:
            target.write(offset, data)
            written[offset] = data
        target.sync()
    return written


def not_there(target: ReadableStore, written: dict[int, bytes]) -> list[tuple[int, int]]:
    """Ranges that the medium does not give back as they were written."""
    medium, wrong = target.uncached(), list[tuple[int, int]]()
    for offset, data in written.items():
        try:
            same = medium.read(offset, len(data)) == data
        except ReadFailed:
            same = False
        if not same:
            wrong.append((offset, offset + len(data)))
    return wrong

"""The table that a plan's layout asks for, as the writes that put it on a drive. Built while planning as well."""

from __future__ import annotations

from neogenesis.core.errors import Refused
from neogenesis.core.plan.model import FreshSource, Layout, Plan
from neogenesis.core.survey import TableFacts
from neogenesis.core.table import TableWrite, build_gpt, build_mbr


def plan_table_writes(plan: Plan) -> tuple[TableWrite, ...]:
    """The table of a plan, whatever it is made from. Raises as `table_writes`."""
    source = plan.source
    if isinstance(source, FreshSource):
        return table_writes(plan.layout, None, source.boot_code)
    return table_writes(plan.layout, None if plan.intent == "beside" else source.survey.table)


def table_writes(layout: Layout, old: TableFacts | None, boot_code: bytes = b"") -> tuple[TableWrite, ...]:
    """`old` gives its number of entries and its loader to the new table; None for a drive that carries nothing over.

    Raises Refused for partitions that the table cannot describe.
    """
    entry_count, code = (old.entry_count, old.boot_code) if old else (0, boot_code)
    try:
        if layout.table == "gpt":
            return build_gpt(
                layout.size_bytes, layout.sector_size, layout.disk_id, layout.partitions, entry_count, code
            )
        if layout.table == "mbr":
            return build_mbr(layout.size_bytes, layout.sector_size, layout.disk_id, layout.partitions, code)
    except ValueError as error:
        raise Refused(
            "table",
            f"The new table cannot be made: {error}; nothing was written.",
            "Plan without --relocate-table, or image the drive exactly.",
        ) from error
    return ()

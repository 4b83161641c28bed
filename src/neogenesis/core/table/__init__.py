"""Partition tables: GPT and MBR with logical partitions. Read, judged, built, and written in a safe order.

Knows nothing of what is inside a partition. `read_table` never fails on damaged data: it says what is wrong.
"""

from neogenesis.core.table.gpt import GPT_ENTRY_COUNT, build_gpt, gpt_usable
from neogenesis.core.table.mbr import build_mbr
from neogenesis.core.table.model import Partition, Problem, Table, TableWrite
from neogenesis.core.table.read import guess_sector_size, read_table
from neogenesis.core.table.types import TypeHint, type_hint

__all__ = [
    "GPT_ENTRY_COUNT",
    "Partition",
    "Problem",
    "Table",
    "TableWrite",
    "TypeHint",
    "build_gpt",
    "build_mbr",
    "gpt_usable",
    "guess_sector_size",
    "read_table",
    "type_hint",
]

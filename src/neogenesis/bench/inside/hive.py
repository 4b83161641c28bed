"""Writing into a registry hive that stands in a file of its own, by the distribution's utility for that."""

from __future__ import annotations

import tempfile
from collections.abc import Mapping
from pathlib import Path

from neogenesis.bench.processes.utilities import run_tool
from neogenesis.core.system.tree import HiveValues

_HEAD = "Windows Registry Editor Version 5.00"


def merge_into_hive(path: Path, keys: Mapping[str, HiveValues]) -> None:
    """Put values under keys, by their paths from the root; what is not there yet is made.

    Raises ToolFailed.
    """
    every: dict[str, HiveValues] = {}
    for name in keys:
        parts = name.split("\\")
        every |= {key: {} for n in range(1, len(parts)) if (key := "\\".join(parts[:n])) not in every}
        every[name] = keys[name]
    lines = [_HEAD, ""]
    for name, values in every.items():
        lines += [f"[\\{name}]", *(f'"{key}"={_written(value)}' for key, value in values.items()), ""]
    with tempfile.NamedTemporaryFile("w", encoding="utf-8", suffix=".reg") as merge:
        merge.write("\n".join(lines))
        merge.flush()
        command = ["hivexregedit", "--merge", "--prefix", "", str(path), merge.name]
        run_tool(command, "Writing into a registry hive")


def _written(value: str | int | list[str] | bytes) -> str:
    if isinstance(value, int):
        return f"dword:{value:08x}"
    if isinstance(value, bytes):
        return "hex(3):" + ",".join(f"{b:02x}" for b in value)
    kind, text = (7, "".join(f"{v}\0" for v in value) + "\0") if isinstance(value, list) else (1, f"{value}\0")
    return f"hex({kind}):" + ",".join(f"{b:02x}" for b in text.encode("utf-16-le"))

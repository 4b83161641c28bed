"""Rows of tables that are opened in a spreadsheet: what a file or a drive is called must never be worked out there."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

_WORKED_OUT = ("=", "+", "-", "@", "\t", "\r")


def plain_row(row: Iterable[Any]) -> list[Any]:
    """The same cells; a text that a spreadsheet would take for a formula has an apostrophe before it."""
    return [f"'{cell}" if isinstance(cell, str) and cell.startswith(_WORKED_OUT) else cell for cell in row]

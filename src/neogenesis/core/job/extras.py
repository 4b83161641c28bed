"""What was agreed beside the quote while the machine was open, as the logbook tells it."""

from __future__ import annotations

from collections.abc import Iterable

from neogenesis.core.fit.part import is_amount
from neogenesis.core.job.model import LogEntry

_KIND = "swap-extra"


def extras_in(log: Iterable[LogEntry]) -> tuple[tuple[str, str], ...]:
    """Title and price without tax, as decimal text, of each; amounts that are none are left out."""
    found = []
    for entry in log:
        title, price = str(entry.figures.get("title", "")), str(entry.figures.get("price", ""))
        if entry.kind == _KIND and title and is_amount(price):
            found.append((title, price))
    return tuple(dict.fromkeys(found))

"""Surveys of drives that are connected, each opened sealed."""

from __future__ import annotations

from neogenesis.bench.drives import open_sealed
from neogenesis.bench.processes.reader import open_tree
from neogenesis.core.survey import Surveyed, survey_drive


def survey(name: str, sector_size: int | None = None, inside: bool = False) -> Surveyed:
    """Survey a drive read-only; `inside` reads what the systems on it say of themselves as well."""
    opened = open_sealed(name, sector_size)
    try:
        return survey_drive(opened.store, opened.drive, open_tree, inside, opened.seconds)
    finally:
        opened.close()

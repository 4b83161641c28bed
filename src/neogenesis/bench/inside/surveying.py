"""Surveys of drives that are connected, each opened sealed."""

from __future__ import annotations

from pathlib import Path

from neogenesis.bench.drives import open_source
from neogenesis.bench.processes.reader import open_tree
from neogenesis.core.survey import Surveyed, survey_drive


def survey(name: str, sector_size: int | None = None, inside: bool = False, region_map: Path | None = None) -> Surveyed:
    """Survey a drive read-only; `inside` reads what the systems on it say of themselves as well.

    `region_map` is that of the rescue which made the drive, where it does not lie beside it.
    """
    opened = open_source(name, sector_size, region_map=region_map)
    try:
        return survey_drive(opened.store, opened.drive, open_tree, inside, opened.seconds, opened.lost)
    finally:
        opened.close()

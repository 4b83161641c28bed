"""The files that a transfer keeps beside its plan, and what it puts into them at its end."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from neogenesis import __version__
from neogenesis.core.drive import Drive
from neogenesis.core.extent import Extents
from neogenesis.core.plan import Plan
from neogenesis.core.plan.model import FreshSource
from neogenesis.core.transfer.manifest import save_manifest
from neogenesis.core.transfer.regions import region_rows, save_regions
from neogenesis.core.work import Clock, Journal


@dataclass(frozen=True, slots=True)
class RunFiles:
    """All named after the plan."""

    plan: Path

    def _beside(self, ending: str) -> Path:
        return self.plan.with_name(f"{self.plan.stem}.{ending}")

    @property
    def journal(self) -> Path:
        return self._beside("journal")

    @property
    def manifest(self) -> Path:
        return self._beside("manifest.json")

    @property
    def regions(self) -> Path:
        return self._beside("regions.json")

    @property
    def events(self) -> Path:
        return self._beside("events.jsonl")

    @property
    def names(self) -> Path:
        """Files that lost something."""
        return self._beside("files.csv")

    @property
    def work(self) -> Path:
        return self._beside("work")

    def clear_work(self) -> None:
        """Drop prepared volumes of an earlier run."""
        for path in self.work.iterdir():
            path.unlink()


def write_records(files: RunFiles, plan: Plan, plan_hash: str, target: Drive, journal: Journal, clock: Clock) -> str:
    """Manifest and region map; returns the manifest's own BLAKE3. Raises BadRecord."""
    lost = Extents.of(journal.state.lost)
    source = plan.source.survey.drive
    head = {
        "schema": "neogenesis.manifest/1",
        "program": f"neogenesis {__version__}",
        "created": clock.wall(),
        "source": source,
        "target": target,
        "plan_hash": plan_hash,
        "size_bytes": plan.layout.size_bytes,
        "layout": plan.layout,
        "verified_bytes": journal.state.verified_bytes,
        "lost": tuple(lost),
    }
    digest = save_manifest(files.manifest, head, journal.state.chunks.by_place())
    if isinstance(plan.source, FreshSource):
        return digest  # no old drive was read
    rows = region_rows(source.size_bytes, _read_ranges(plan, journal), lost)
    save_regions(files.regions, source.size_bytes, rows, source.identity, target.identity)
    return digest


def _read_ranges(plan: Plan, journal: Journal) -> Extents:
    """Ranges of the old drive that were carried, from where their copies stand."""
    covered = journal.state.chunks.covered
    if plan.intent == "exact":
        return covered.clipped(0, plan.source.survey.drive.size_bytes)
    read = Extents.of([])
    for new in plan.layout.partitions:
        old = plan.source.survey.partition(new.from_partition) if new.from_partition is not None else None
        if old is not None:
            size = min(old.size_bytes, new.size_bytes)
            part = covered.clipped(new.start_bytes, new.start_bytes + size)
            read = read.union(part.shifted(old.start_bytes - new.start_bytes))
    return read

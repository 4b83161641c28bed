"""Is this really the drive that the plan means? Asked again at the moment of writing."""

from __future__ import annotations

from blake3 import blake3

from neogenesis.core.errors import Refused
from neogenesis.core.plan import Plan
from neogenesis.core.survey import Drive
from neogenesis.core.survey.survey import TABLE_AREA_BYTES, table_mark

__all__ = ["check_source", "check_tail", "check_target", "is_cleared", "table_mark"]


def check_tail(tail: str, expected: str) -> None:
    """The person typed the last characters of the serial, or of the name where there is none."""
    if not expected or tail.casefold() != expected.casefold():
        raise Refused(
            "confirm",
            f"“{tail}” is not how the new drive ends; nothing was written.",
            "Read the last four characters of its serial (or of its name) off the drive itself and type those.",
        )


def check_target(plan: Plan, drive: Drive, mark: str, resuming: bool) -> None:
    """Raises Refused unless at least two independent marks match what the plan recorded.

    While resuming, the table area may be as it was or cleared; the journal's own checks come on top.
    """
    planned = plan.target.drive
    if planned is None:
        raise Refused(
            "target-missing",
            "The plan names no drive to write to; nothing was written.",
            "Connect the new drive and plan again with it.",
        )
    if drive.mounted:
        raise Refused(
            "mounted",
            "The new drive is mounted or in use by this machine; nothing was written.",
            "Unmount it, after making sure that it is the right one.",
        )
    if drive.size_bytes < planned.size_bytes:
        raise Refused(
            "too-small",
            "The new drive is smaller than the one that the plan was made for; nothing was written.",
            "Connect the right drive, or plan again.",
        )
    same = {
        "size": drive.size_bytes == planned.size_bytes,
        "serial": drive.serial == planned.serial,
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


def is_cleared(half_mark: str) -> bool:
    """Whether one half of a table mark stands for an area of zeros."""
    return half_mark == blake3(bytes(TABLE_AREA_BYTES)).hexdigest()[:32]


def check_source(plan: Plan, drive: Drive, fingerprint: str) -> None:
    """Raises Refused when the old drive is another one, or changed since it was surveyed."""
    planned = plan.source.survey
    if drive.mounted:
        raise Refused("mounted", "The old drive is mounted; nothing was written.", "Unmount it.")
    if (drive.size_bytes, drive.serial) != (planned.drive.size_bytes, planned.drive.serial):
        raise Refused(
            "source-changed",
            "This is not the old drive that the plan was made from; nothing was written.",
            "Connect the right drive, or survey and plan again.",
        )
    if fingerprint != planned.fingerprint or (
        planned.drive.changed_ns and drive.changed_ns != planned.drive.changed_ns
    ):
        raise Refused(
            "source-changed",
            "The old drive has changed since it was surveyed; nothing was written.",
            "Survey it and plan again.",
        )

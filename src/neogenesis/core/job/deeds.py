"""What stands in a job's logbook as done beside a transfer, in words that its customer reads."""

from __future__ import annotations

from collections.abc import Sequence

from neogenesis.core.intake import Intake
from neogenesis.core.job.model import Job, LogEntry
from neogenesis.core.job.route import not_needed

#: A deed that somebody wrote down for the customer.
FOR_CUSTOMER = "done"
_KEPT = {
    "salvage": "Files were copied out of the old drive, each with a checksum.",
    "rescue": "The old drive was read gently, as far as it could be read.",
    "image": "An image of the whole old drive was made and read back.",
    "restore": "What had been saved was put onto a new drive and read back.",
}
#: What brings everything to its place without a transfer.
_ONTO_A_DRIVE = ("rescue", "restore")
_MENDED = {
    "fallback-loader": "Its loader was put where every machine looks for one.",
    "active-partition": "The partition that it starts from was marked again.",
    "restamp-table": "The new drive got an identity of its own.",
    "restamp-volume": "A volume got an identity of its own.",
    "store-identity": "Its list of systems points to the new drive.",
    "menu-identity": "Its start menu points to the new drive.",
    "startup-partition": "Its start-up partition was made anew.",
    "drive-letters": "Letters of its drives point to the new drive.",
    "check-flag": "A mark that asked for a check at every start was taken off.",
    "recovery-record": "Its recovery system is found where it is now.",
}


#: Ways on which no drive leaves its machine.
_STAYING = frozenset(("do-less", "repair-start", "repair-cause", "refer", "nothing-yet"))


def came_with_drive(job: Job, intake: Intake) -> bool:
    """Whether there is an old drive: one that was chosen, or one that was never docked and holds what must survive."""
    return bool(job.old_drive or job.old_identity) or intake.must_survive in ("everything", "files")


def frees_old_drive(way: str) -> bool:
    """Whether an old drive is left over: one that goes back apart, or stays with the shop."""
    return way not in _STAYING


def way_taken(log: Sequence[LogEntry]) -> str:
    """The way that was decided last; empty while none was."""
    return next((str(e.figures["way"]) for e in reversed(log) if e.kind == "decide" and e.figures.get("way")), "")


def reasons_taken(log: Sequence[LogEntry]) -> tuple[str, ...]:
    """What spoke for the way that was decided last."""
    found = next((e.figures.get("reasons") for e in reversed(log) if e.kind == "decide"), None)
    return tuple(str(one) for one in found) if isinstance(found, list | tuple) else ()


def again_taken(log: Sequence[LogEntry]) -> tuple[str, ...]:
    """What was said, when that way was decided, to have to be done again afterwards."""
    found = next((e.figures.get("again") for e in reversed(log) if e.kind == "decide"), None)
    return tuple(str(one) for one in found) if isinstance(found, list | tuple) else ()


def is_over(way: str, log: Sequence[LogEntry]) -> bool:
    """Whether there is something to tell that did not go through a transfer."""
    ended = {kind for e in log if (kind := _ended(e))}
    if way == "salvage" or not way:
        return bool(ended & {"salvage", *_ONTO_A_DRIVE})
    if way == "replace-machine":
        return True
    return "transfer" in not_needed(way) or bool(ended & set(_ONTO_A_DRIVE))


def _ended(entry: LogEntry) -> str:
    """The kind of work that came to its end there; empty for anything else."""
    kind, _, end = entry.kind.rpartition("-")
    return kind if kind in _KEPT and end in ("done", "partial") else ""


def deeds(log: Sequence[LogEntry]) -> tuple[str, ...]:
    """As sentences, in the order in which they were done; what was put back again is not among them."""
    found: dict[tuple[str, str], str] = {}
    for entry in log:
        code = str(entry.figures.get("code", ""))
        if kind := _ended(entry):
            found[kind, ""] = _KEPT[kind]
        elif entry.kind == "remedy-done":
            found["remedy", code] = _MENDED.get(code, "Its start was mended.")
        elif entry.kind == "undo-done":
            found.pop(("remedy", code), None)
        elif entry.kind == FOR_CUSTOMER:
            found["done", str(entry.number)] = entry.text
    return tuple(found.values())


def cut_short(log: Sequence[LogEntry]) -> tuple[str, ...]:
    """What the latest work of each kind could not read, in its own words."""
    latest: dict[str, LogEntry] = {}
    for entry in log:
        if kind := _ended(entry):
            latest[kind] = entry
    return tuple(e.text for e in latest.values() if e.kind.endswith("-partial") and e.text)

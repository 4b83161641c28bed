"""Several surveys side by side: drives of one machine, or one drive at two times."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from neogenesis.core.drive.health import Verdict
from neogenesis.core.survey.model import Finding, PartitionFacts, Survey
from neogenesis.core.units import both_text


@dataclass(frozen=True, slots=True)
class Together:
    """Drives of one machine by their place in the list: which could start it, and which hold people's data."""

    starts: tuple[int, ...]
    holds_data: tuple[int, ...]
    findings: tuple[Finding, ...]


def together(surveys: Sequence[Survey]) -> Together:
    """What several drives of one machine are to each other."""
    starts = tuple(n for n, s in enumerate(surveys) if _could_start(s))
    data = tuple(n for n, s in enumerate(surveys) if _data_bytes(s) > 0)
    return Together(starts, data, tuple(_alike(surveys)) + tuple(_starting(surveys, starts)))


def _could_start(survey: Survey) -> bool:
    return any(p.role == "startup" or p.bootable for p in survey.partitions)


def _data_bytes(survey: Survey) -> int:
    return sum(p.volume.used_bytes for p in survey.partitions if p.role in ("system", "data") and p.volume.understood)


def _name(survey: Survey) -> str:
    tail = survey.drive.serial[-4:]
    return f"{survey.drive.model or 'Drive'} ··{tail}" if tail else survey.drive.model or "Drive"


def _alike(surveys: Sequence[Survey]) -> list[Finding]:
    """The same identity on two drives: firmware or system may take one for the other."""
    found = []
    for at, one in enumerate(surveys):
        for other in surveys[at + 1 :]:
            same = []
            if one.table.disk_id and one.table.disk_id == other.table.disk_id:
                same.append("the identity of the table")
            mine, theirs = _volume_ids(one), _volume_ids(other)
            if mine & theirs:
                same.append("the identity of a volume")
            if same:
                text = f"{_name(one)} and {_name(other)} carry {' and '.join(same)} alike."
                remedy = "Either one of them leaves the machine, or one is re-stamped."
                found.append(Finding(code="two-alike", severity="caution", text=text, remedy=remedy))
    return found


def _volume_ids(survey: Survey) -> set[str]:
    ids = {p.volume.uuid.casefold() for p in survey.partitions if p.volume.uuid}
    return ids | {p.unique_id.casefold() for p in survey.partitions if p.unique_id}


def _starting(surveys: Sequence[Survey], starts: tuple[int, ...]) -> list[Finding]:
    if len(surveys) < 2:
        return []
    if not starts:
        text = "None of these drives could start the machine."
        remedy = "Ask whether another drive was in it, or look for the first one."
        return [Finding(code="none-starts", severity="caution", text=text, remedy=remedy)]
    if len(starts) > 1:
        names = ", ".join(_name(surveys[n]) for n in starts)
        text = f"More than one could start the machine: {names}."
        remedy = "See in the firmware which one does, and note it."
        return [Finding(code="several-start", severity="note", text=text, remedy=remedy)]
    return []


_VERDICTS: dict[Verdict, str] = {
    "unknown": "not known",
    "sound": "sound",
    "ageing": "ageing",
    "copy-now": "failing",
    "lost-cause": "that of a drive that does not answer",
}


def changes(before: Survey, after: Survey) -> tuple[str, ...]:
    """What a later survey of the same drive shows that an earlier one did not, each as a sentence."""
    found = []
    if before.table.disk_id != after.table.disk_id or before.table.kind != after.table.kind:
        found.append("The partition table is another one.")
    old = {p.number: p for p in before.partitions}
    new = {p.number: p for p in after.partitions}
    for number, gone in old.items():
        if number not in new:
            found.append(f"{gone.title} is gone.")
    for number, one in new.items():
        if number not in old:
            found.append(f"{one.title} is new: {both_text(one.size_bytes)}.")
        else:
            found += _changed(old[number], one)
    if before.health.verdict != after.health.verdict:
        was, now = _VERDICTS[before.health.verdict], _VERDICTS[after.health.verdict]
        found.append(f"The drive's health was {was} and is {now} now.")
    return tuple(found)


_STATES: tuple[tuple[Callable[[PartitionFacts], bool], str, str], ...] = (
    (lambda p: p.volume.encrypted, "is encrypted now", "is no longer encrypted"),
    (lambda p: p.volume.hibernated, "holds a sleeping system now", "no longer holds a sleeping system"),
    (lambda p: p.volume.dirty, "is unclean now", "is clean now"),
)


def _changed(old: PartitionFacts, new: PartitionFacts) -> list[str]:
    found = []
    if (old.start_bytes, old.size_bytes) != (new.start_bytes, new.size_bytes):
        found.append(f"{new.title} has another place or size: {both_text(new.size_bytes)}.")
    if old.volume.kind != new.volume.kind:
        found.append(f"{new.title} holds another kind of volume.")
    for state, now_so, no_longer in _STATES:
        if state(old) != state(new):
            found.append(f"{new.title} {now_so if state(new) else no_longer}.")
    used = new.volume.used_bytes - old.volume.used_bytes
    if used and old.volume.understood and new.volume.understood:
        size = both_text(abs(used))
        more, less = f"{new.title} holds {size} more than before.", f"{new.title} holds {size} less than before."
        found.append(more if used > 0 else less)
    return found

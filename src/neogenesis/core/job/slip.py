"""The slip that a customer signs when a machine is taken in: what it is, how it arrived, what was agreed."""

from __future__ import annotations

from neogenesis.core.intake import START_UP, Intake, Shore, options
from neogenesis.core.job.model import Job
from neogenesis.core.job.report import Report, Section

_SURVIVE = {
    "": "Not said yet.",
    "everything": "Everything as it was.",
    "files": "Only the files.",
    "nothing": "Nothing has to survive.",
}
_STARTS = {"yes": "It still starts.", "sometimes": "It starts sometimes.", "no": "It does not start."}
_OLD = {
    "returned": "The old drive goes back to you.",
    "kept": "The old drive is kept for {0} weeks and then wiped.",
    "wiped": "The old drive is wiped once you have confirmed that everything is there.",
}
_KEY = {
    "customer": "You hold it.",
    "somebody": "Somebody else holds it.",
    "nobody": "Nobody holds it.",
    "not-encrypted": "The drive is not encrypted.",
}
_CARD = {"none": "No card inside.", "inside": "A card is inside.", "taken-out": "The card was taken out."}
_SHORES: dict[Shore, str] = {
    "here": "Only on this machine",
    "said": "Said to be elsewhere, not seen by us",
    "seen": "Seen elsewhere by us",
}
_WORDS = {"yes": "Yes.", "no": "No."}


def make_slip(job: Job, intake: Intake) -> Report:
    """From the records alone. What was not said is left out, but for what must survive."""
    plate, later = intake.plate, intake.later
    machine = plate.title or job.machine
    who = [
        ("Customer", intake.customer or job.customer),
        ("Reached by", intake.contact or job.contact),
        ("Machine", machine),
        ("Serial of the machine", plate.serial),
        ("Promised for", job.promise),
        ("Budget", later.budget),
    ]
    arrived = [c.title if (c := options().condition_of(code)) else code for code in intake.condition]
    came = [b.what for b in intake.came_with]
    condition = [
        ("On arrival", ", ".join(filter(None, (*arrived, intake.condition_note)))),
        ("Came with", ", ".join(came) if came else ("nothing" if intake.nothing_came else "")),
        ("Card", _CARD.get(intake.card, "")),
    ]
    hurts = [", ".join(options().symptom_title(code) for code in intake.symptoms), intake.told, intake.since]
    complaint = tuple(filter(None, (*hurts, _STARTS.get(intake.starts, ""))))
    start = intake.timing(START_UP)
    if start is not None and start.median_s:
        complaint += (f"Start of the machine before: {start.median_s:g} s (median of {len(start.counted)} runs).",)
    agreed = [
        ("The machine may be opened", _WORDS.get(later.consent_to_open, "")),
        ("Warranty running", _WORDS.get(later.warranty, "")),
        ("Recovery key of an encrypted volume", _KEY.get(later.recovery_key, "")),
        ("Accounts and passwords are with you", _WORDS.get(later.accounts, "")),
        ("Licences are with you", _WORDS.get(later.licences, "")),
    ]
    old = _OLD.get(later.old_parts, "")
    agreed.append(("Old drive", old.format(later.kept_weeks) if old else ""))
    sections = [
        Section("Machine and customer", rows=_filled(who)),
        Section("How it arrived", rows=_filled(condition)),
        Section("What hurts", complaint),
        Section("What must survive", (_SURVIVE[intake.must_survive],), _valuables(intake)),
        Section("Agreed", rows=_filled(agreed)),
        Section("Please note", _notes(intake)),
    ]
    return Report(
        title=f"Intake slip {job.ticket}",
        subtitle=" · ".join(filter(None, (intake.customer or job.customer, machine))),
        sections=tuple(s for s in sections if s.rows or s.sentences),
    )


def _filled(rows: list[tuple[str, str]]) -> tuple[tuple[str, str], ...]:
    return tuple((name, value) for name, value in rows if value)


def _valuables(intake: Intake) -> tuple[tuple[str, str], ...]:
    """Item by item: where it is, and who says so."""
    rows = []
    for shore, title in _SHORES.items():
        lines = [v.line for v in intake.on_shore(shore)]
        if lines:
            rows.append((title, "; ".join(lines)))
    return tuple(rows)


def _notes(intake: Intake) -> tuple[str, ...]:
    notes = [
        "The old drive is only read. A drive that is worn may fail while it is read; then what can be had is saved."
    ]
    if intake.on_shore("said"):
        notes.append(
            "What is only said to be elsewhere was not seen by us. With your signature you confirm that it may be "
            "cleared all the same."
            if intake.accepted_unseen
            else "What is only said to be elsewhere was not seen by us. Please have a look before anything is cleared."
        )
    notes.append("No passwords and no keys were written down.")
    return tuple(notes)

"""What is still to ask, what its condition asks for, and which gates an intake closes later."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Literal

from neogenesis.core.intake.model import Intake
from neogenesis.core.intake.options import options
from neogenesis.core.machine import Match
from neogenesis.core.plan.model import Gate

#: The name under which the start of the machine is timed.
START_UP = "Start-up"


@dataclass(frozen=True, slots=True)
class Ask:
    """A question that is open; `code` names the field that answers it."""

    code: str
    text: str
    severity: Literal["note", "caution", "stop"] = "note"
    why: str = ""


def still_to_ask(intake: Intake, match: Match, promise: str = "", encrypted: bool | None = None) -> tuple[Ask, ...]:
    """Open questions, in the order in which they are asked.

    `match` is what the plate means; `encrypted` what a survey found, None before there is one.
    """
    return tuple(_asked(code) for code in _open(intake, match, promise, encrypted))


def _asked(code: str) -> Ask:
    question = options().question_of(code)
    return Ask(code, question.text, question.severity, question.why)


def _open(intake: Intake, match: Match, promise: str, encrypted: bool | None) -> Iterator[str]:
    later, keeps = intake.later, intake.must_survive != "nothing"
    machine = match.machine
    checks = (
        ("customer", not intake.customer.strip()),
        ("contact", not intake.contact.strip()),
        ("machine", not intake.plate.make.strip() or not intake.plate.model.strip()),
        ("two-machines", machine is None and len(match.candidates) > 1 and not intake.plate.profile),
        ("serial", not intake.plate.serial.strip()),
        ("symptoms", not intake.symptoms and not intake.told.strip()),
        ("starts", not intake.starts and "no-system" not in intake.symptoms),
        ("card", not intake.card and (machine is None or machine.card_reader is not False)),
        ("card-inside", intake.card == "inside"),
        ("came-with", not intake.came_with and not intake.nothing_came),
        ("must-survive", not intake.must_survive),
        ("valuables", keeps and not intake.valuables),
        ("unseen", bool(intake.on_shore("said")) and not intake.accepted_unseen),
        ("recovery-key", encrypted is not False and not later.recovery_key and "no-system" not in intake.symptoms),
        ("consent", later.consent_to_open != "yes"),
        ("accounts", not later.accounts),
        ("licences", not later.licences),
        ("budget", not later.budget.strip()),
        ("promise", not promise.strip()),
        ("old-parts", not later.old_parts),
        ("start-up", not intake.timing(START_UP) and intake.starts in ("yes", "sometimes")),
    )
    return (code for code, is_open in checks if is_open)


def cautions_of(intake: Intake) -> tuple[Ask, ...]:
    """What the machine's condition asks for, the most serious first."""
    found = [c for code in intake.condition if (c := options().condition_of(code)) is not None and c.text]
    asks = [Ask(c.code, c.text, c.severity, c.remedy) for c in found]
    if intake.later.recovery_key == "nobody":
        text = "Nobody holds the recovery key: what is encrypted is lost once the firmware asks for it."
        remedy = "Switch encryption off on the customer's machine before anything is changed."
        asks.append(Ask("recovery-key-lost", text, "stop", remedy))
    return tuple(sorted(asks, key=lambda ask: ask.severity != "stop"))


def gates_of_intake(intake: Intake, carries_everything: bool) -> tuple[Gate, ...]:
    """What stands against clearing or leaving behind anything of this customer: gates of the job, not of a plan.

    `carries_everything`: whatever is on the old drive will be on the new one as well.
    """
    said, here = intake.on_shore("said"), intake.on_shore("here")
    names = ", ".join(v.what for v in said)
    gates = []
    if said and not intake.accepted_unseen:
        text = f"Only said to be elsewhere, and seen by nobody: {names}."
        if carries_everything:
            gates.append(Gate(code="elsewhere", open=True, text=f"{text} All of it is carried over."))
        else:
            remedy = "Look at it, or have the customer sign for it: Intake, Alt+1."
            gates.append(Gate(code="elsewhere", open=False, text=text, remedy=remedy))
    elif intake.valuables and not here:
        gates.append(Gate(code="elsewhere", open=True, text="Everything that must survive is elsewhere as well."))
    if here and intake.must_survive == "nothing":
        text = f"Nothing must survive, and yet only here is: {', '.join(v.what for v in here)}."
        remedy = "Ask again what must survive: Intake, Alt+1."
        gates.append(Gate(code="only-here", open=False, text=text, remedy=remedy))
    if "swollen-battery" in intake.condition:
        text = "The battery is swollen: the machine is not worked on."
        remedy = "Have the battery disposed of first: Intake, Alt+1."
        gates.append(Gate(code="swollen-battery", open=False, text=text, remedy=remedy))
    return tuple(gates)

"""Changing an intake: each function gives a new one and leaves the old as it is."""

from __future__ import annotations

from collections.abc import Sequence

from msgspec.structs import replace

from neogenesis.core.errors import BadArgument
from neogenesis.core.intake.model import (
    SHORES,
    Answer,
    Belonging,
    Figure,
    Intake,
    Photograph,
    Run,
    Shore,
    Timing,
    Valuable,
    When,
)
from neogenesis.core.intake.secrets import refuse_secret

#: Longer than any start; a stopwatch that ran on overnight is a mistake.
_LONGEST_RUN_S = 6 * 3600.0


def switched(codes: Sequence[str], code: str) -> tuple[str, ...]:
    """`codes` with `code` added or taken away."""
    return tuple(c for c in codes if c != code) if code in codes else (*codes, code)


def with_valuable(intake: Intake, line: str) -> Intake:
    """`what: where` adds one; said to be elsewhere where a place is named. Raises BadArgument."""
    refuse_secret(line)
    what, _, where = (part.strip() for part in line.partition(":"))
    if not what:
        raise BadArgument("What must survive has no name.", "Type what it is.")
    if any(v.what.casefold() == what.casefold() for v in intake.valuables):
        raise BadArgument(f"“{what}” is on the list already.", "Move that one with the arrow keys.")
    new = Valuable(what=what, where=where, shore="said" if where else "here")
    return replace(intake, valuables=(*intake.valuables, new), accepted_unseen=False)


def moved(intake: Intake, what: str, steps: int) -> Intake:
    """That valuable so many shores further right (or, below 0, left); at the edge it stays."""

    def move(one: Valuable) -> Valuable:
        at = min(max(SHORES.index(one.shore) + steps, 0), len(SHORES) - 1)
        return replace(one, shore=SHORES[at]) if one.what == what else one

    return replace(intake, valuables=tuple(map(move, intake.valuables)), accepted_unseen=False)


def placed(intake: Intake, what: str, shore: Shore) -> Intake:
    """That valuable on that shore, at its end."""
    one = next((v for v in intake.valuables if v.what == what), None)
    if one is None:
        return intake
    rest = tuple(v for v in intake.valuables if v.what != what)
    return replace(intake, valuables=(*rest, replace(one, shore=shore)), accepted_unseen=False)


def without_valuable(intake: Intake, what: str) -> Intake:
    return replace(intake, valuables=tuple(v for v in intake.valuables if v.what != what))


def with_run(intake: Intake, name: str, when: When, run: Run) -> Intake:
    """One more run of something timed; raises BadArgument for a time that cannot be."""
    name = name.strip()
    if not name:
        raise BadArgument("What was timed has no name.", "Type one, such as a program's start.")
    if not 0 < run.seconds <= _LONGEST_RUN_S:
        raise BadArgument(
            f"{run.seconds:g} s cannot be the time of one run.", "A run takes more than 0 s and at most six hours."
        )
    if run.login_s is not None and not 0 < run.login_s <= run.seconds:
        raise BadArgument("The log-in screen came outside of the run.", "Time it once more.")
    old = intake.timing(name, when) or Timing(name=name, when=when)
    return _with_timing(intake, replace(old, runs=(*old.runs, run)))


def struck(intake: Intake, name: str, when: When, number: int, why: str) -> Intake:
    """Run `number`, from 0, does not count, for that reason; an empty one lets it count again."""
    timing = intake.timing(name, when)
    if timing is None or not 0 <= number < len(timing.runs):
        return intake
    runs = [replace(run, struck=why.strip()) if n == number else run for n, run in enumerate(timing.runs)]
    return _with_timing(intake, replace(timing, runs=tuple(runs)))


def _with_timing(intake: Intake, timing: Timing) -> Intake:
    known = {(t.name, t.when): t for t in intake.timings}
    known[(timing.name, timing.when)] = timing
    return replace(intake, timings=tuple(known.values()))


def with_figure(intake: Intake, figure: Figure) -> Intake:
    """In place of what was noted under that code; one without text is taken away."""
    refuse_secret(figure.text)
    known = {(f.code, f.when): f for f in intake.figures}
    known[(figure.code, figure.when)] = figure
    return replace(intake, figures=tuple(f for f in known.values() if f.text.strip()))


def with_belongings(intake: Intake, names: Sequence[str]) -> Intake:
    """What came with the machine, by name; what went back already stays so."""
    back = {b.what: b.back for b in intake.came_with}
    cleaned = list(dict.fromkeys(name.strip() for name in names if name.strip()))
    return replace(intake, came_with=tuple(Belonging(what=n, back=back.get(n, False)) for n in cleaned))


def given_back(intake: Intake, what: str, back: bool) -> Intake:
    came = tuple(replace(b, back=back) if b.what == what else b for b in intake.came_with)
    return replace(intake, came_with=came)


def with_answer(intake: Intake, answer: Answer) -> Intake:
    """What a test showed; answering one again takes back what was answered after it."""
    before = [a.test for a in intake.triage]
    kept = intake.triage[: before.index(answer.test)] if answer.test in before else intake.triage
    return replace(intake, triage=(*kept, answer))


def with_photograph(intake: Intake, photograph: Photograph) -> Intake:
    known = {p.file: p for p in intake.photographs}
    known[photograph.file] = photograph
    return replace(intake, photographs=tuple(known.values()))

"""Both schools argued for, as a practitioner of each would: copy what is there, or start clean."""

from __future__ import annotations

from collections.abc import Iterator

from neogenesis.core.decide.case import Facts


def for_copying(facts: Facts) -> Iterator[str]:
    """What speaks for it here, and the honest reservation where there is one."""
    programs = facts.programs
    if programs:
        yield f"{programs} programs with their settings and licences stay where they are; nothing is looked for again."
    else:
        yield "Programs, settings and licences stay where they are; nothing is looked for again."
    if facts.mechanical:
        yield "The old drive is mechanical: most of the waiting was its own, and goes with it."
    if facts.image_first:
        yield "From an image of a failing drive the copy can be tried as often as it takes."
    if "malware" in facts.symptoms:
        yield "With malware even this school copies only files."
    elif facts.symptoms & {"loop", "no-start"}:
        yield "A copy brings the damage along: it has to be mended afterwards."
    else:
        yield "It takes little time with hands on it, and the customer can work the same day."


def for_starting_clean(facts: Facts) -> Iterator[str]:
    """As `for_copying`, for the other school."""
    if "malware" in facts.symptoms:
        yield "Whatever came in stays behind: only files are brought back, and looked at."
    elif facts.symptoms & {"loop", "no-start"}:
        yield "What is broken in the system stays behind."
    elif "no-system" in facts.symptoms or facts.is_empty:
        yield "There is nothing to copy."
    else:
        yield "Years of leftovers stay behind, and the drivers are the right ones."
    if "slow" in facts.symptoms and not facts.mechanical:
        yield "Slowness that is not the drive's goes away too."
    programs = facts.programs
    if programs and programs > 0:
        yield f"But {programs} programs, their licences and settings have to be found and set up again."
    elif facts.must_survive == "everything":
        yield "But every program, driver and setting has to come back."
    else:
        yield "Only the files have to come back."

"""The chain that will run, where it breaks and why, and what else could start."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import combinations

from neogenesis.core.boot.answer import BootFinding, Forecast, Link, Other
from neogenesis.core.boot.drives import BootDrive
from neogenesis.core.boot.legacy import follow_legacy
from neogenesis.core.boot.loader import Reached, follow
from neogenesis.core.boot.program import FALLBACK
from neogenesis.core.boot.uefi import Attempt, attempts
from neogenesis.core.machine import Machine

_USUAL = "x86_64"
_ARCHITECTURES = {"amd64": "x86_64", "x64": "x86_64", "i386": "x86", "i686": "x86", "ia32": "x86", "aarch64": "arm64"}
_MOST_OTHERS = 12
#: The type of a partition that only the core of a legacy start lies on.
_BIOS_BOOT = "21686148-6449-6E6F-744E-656564454649"


def forecast(drives: Sequence[BootDrive], machine: Machine | None = None) -> Forecast:
    """Of drives in the order of their slots. Nothing is written, and nothing is started."""
    for place, drive in enumerate(drives):
        drive.place = place
    mode = mode_of(drives, machine)
    findings = list(_findings(drives))
    if mode == "legacy":
        reached = follow_legacy(drives)
        chain = [Link(step="firmware", text="Legacy firmware starts the first drive"), *reached.links]
        findings += reached.findings
        return _answer(mode, chain, reached, findings, drives, ())
    chain, reached, dead, others = _uefi(drives, machine)
    return _answer(mode, chain, reached, [*findings, *dead, *reached.findings], drives, others)


def mode_of(drives: Sequence[BootDrive], machine: Machine | None) -> str:
    """As the machine says; else by what the drives are made for."""
    stated = machine.firmware if machine is not None else None
    if stated == "legacy":
        return "legacy"
    if stated in ("uefi", "both"):
        return "uefi"
    if any(d.find(p.number, "EFI") is not None for d in drives for p in d.startups()):
        return "uefi"
    gpt = [d for d in drives if d.survey.table.kind == "gpt"]
    if any(p.type_id.upper() == _BIOS_BOOT for d in gpt for p in d.survey.partitions):
        return "legacy"
    return "uefi" if gpt or not any(d.survey.table.kind == "mbr" for d in drives) else "legacy"


def architecture_of(machine: Machine | None) -> str:
    stated = (machine.architecture or _USUAL) if machine is not None else _USUAL
    return _ARCHITECTURES.get(stated.casefold(), stated)


def _uefi(
    drives: Sequence[BootDrive], machine: Machine | None
) -> tuple[list[Link], Reached, list[BootFinding], tuple[Other, ...]]:
    """The first attempt whose program is started is the chain; what could start behind it is told beside."""
    architecture = architecture_of(machine)
    secure = bool(machine is not None and machine.secure_start)
    dead: list[BootFinding] = []
    others: list[Other] = []
    chosen: tuple[list[Link], Reached] | None = None
    last: tuple[list[Link], Reached] | None = None  # gave up, and nothing comes behind it
    tried: set[tuple[str, int, str]] = set()
    for attempt in attempts(drives, machine, architecture):
        if attempt.place is not None:
            key = (attempt.place[0].name, attempt.place[1].number, attempt.path.casefold())
            if key in tried:
                continue
            tried.add(key)
        links, reached, why = _try(drives, attempt, architecture, secure)
        if reached is None:
            if chosen is None and attempt.entry:
                dead.append(_dead(attempt, why))
            continue
        if reached.returned:
            if chosen is None:
                dead.append(_gives_up(attempt, reached))
                last = links, reached
            continue
        if chosen is None:
            chosen = links, reached
        elif len(others) < _MOST_OTHERS:
            when = f"when what comes before it is gone: {attempt.text}"
            others.append(Other(when=when, starts=reached.starts, chain=(*links, *reached.links)))
    chosen = chosen or last
    if chosen is None:
        name = FALLBACK.get(architecture, "BOOTX64.EFI")
        text = f"No entry leads to a loader, and no drive has \\EFI\\BOOT\\{name}"
        reached = Reached(broke="loader")
        return (
            [
                Link(step="firmware", text="The UEFI firmware looks for a loader"),
                Link(step="loader", text=text, ok=False),
            ],
            reached,
            dead,
            (),
        )
    links, reached = chosen
    return (
        [Link(step="firmware", text="The UEFI firmware looks for a loader"), *links, *reached.links],
        reached,
        dead,
        tuple(others),
    )


def entries_lost(before: Sequence[BootDrive], after: Sequence[BootDrive], machine: Machine | None) -> tuple[str, ...]:
    """The machine's own entries that find their partition on the drives as they are, and not as they will be."""
    architecture = architecture_of(machine)

    def found(drives: Sequence[BootDrive]) -> dict[str, str]:
        every = attempts(drives, machine, architecture)
        return {a.entry: a.text for a in every if a.entry and a.place is not None}

    then = found(after)
    return tuple(text for number, text in found(before).items() if number not in then)


def _try(
    drives: Sequence[BootDrive], attempt: Attempt, architecture: str, secure: bool
) -> tuple[list[Link], Reached | None, str]:
    """Links to a program that is started and what it reaches; None with the reason where the firmware goes on."""
    if attempt.place is None:
        return [], None, attempt.why
    drive, facts = attempt.place
    if not drive.has_believed_table:
        return [], None, "the firmware does not take its table for one"
    if facts.volume.kind != "vfat":
        return [], None, f"{facts.title} is no volume that a firmware reads"
    is_there, program = drive.program(facts.number, attempt.path)
    if not is_there:
        return [], None, f"{attempt.path} is not there"
    if program is None:
        return [], None, f"{attempt.path} is no program"
    if program.architecture != architecture:
        return [], None, f"{attempt.path} is for {program.architecture}"
    if secure and not program.signed:
        return [], None, f"{attempt.path} is not signed, and only signed programs are started"
    ok = None if attempt.unusual else True
    links = [
        Link(step="entry", text=attempt.text, ok=ok, drive=drive.name, partition=facts.number),
        Link(step="loader", text=f"Starts {attempt.path}", drive=drive.name, partition=facts.number),
    ]
    return links, follow(drives, attempt.place, attempt.path, program, architecture), ""


def _dead(attempt: Attempt, why: str) -> BootFinding:
    return BootFinding(
        code="entry-dead",
        severity="caution",
        text=f"{attempt.text} is passed over: {why}.",
        remedy="The firmware goes on with the next one; put the right one first.",
    )


def _gives_up(attempt: Attempt, reached: Reached) -> BootFinding:
    why = next((link.text for link in reversed(reached.links) if link.ok is False), "it returns")
    return BootFinding(
        code="loader-gives-up",
        severity="caution",
        text=f"{attempt.text} is started and gives up: {why}.",
        remedy="The firmware goes on with the next one; mend it, or put the right one first.",
    )


def _answer(
    mode: str,
    chain: list[Link],
    reached: Reached,
    findings: list[BootFinding],
    drives: Sequence[BootDrive],
    others: tuple[Other, ...],
) -> Forecast:
    findings += _crossings(chain)
    broke = reached.broke or next((link.step for link in reversed(chain) if link.ok is False), "")
    starts = None if not broke and any(link.ok is None for link in chain) else not (broke or reached.returned)
    return Forecast(
        starts=starts,
        chain=tuple(chain),
        breaks_at=broke or ("loader" if reached.returned else None),
        certainty="guessed" if starts is None or reached.stands_in else "read",
        mode=mode,
        findings=tuple(dict.fromkeys(findings)),
        others=others,
    )


def _crossings(chain: Sequence[Link]) -> Iterator[BootFinding]:
    """A loader on one drive that goes on with another one."""
    loaders = [link for link in chain if link.step in ("loader", "boot-code") and link.drive]
    systems = [link for link in chain if link.step in ("system", "kernel") and link.drive and link.ok]
    if loaders and systems and loaders[0].drive != systems[-1].drive:
        yield BootFinding(
            code="other-drive",
            severity="caution",
            text="The loader on one drive starts the system on another one.",
            remedy="Take out the drive that is not meant, or point the loader at its own drive.",
            drive=systems[-1].drive,
            partition=systems[-1].partition,
        )


def _findings(drives: Sequence[BootDrive]) -> Iterator[BootFinding]:
    """What is true of the drives whatever is started."""
    for one, other in combinations(drives, 2):
        a, b = one.survey.table, other.survey.table
        if a.disk_id and a.kind == b.kind and a.disk_id.casefold() == b.disk_id.casefold():
            first, second = one.title, other.title
            text = f"{first} and {second} have one identity: the firmware takes the first, a system may lose one."
            yield BootFinding(
                code="same-identity",
                severity="caution",
                text=text,
                remedy="Take the old drive out, or give one of them new identities.",
                drive=other.name,
            )
    for drive in drives:
        for facts in drive.survey.partitions:
            if facts.volume.encrypted:
                yield BootFinding(
                    code="encrypted",
                    severity="note",
                    text=f"{facts.title} is encrypted: what starts there cannot be looked at.",
                    remedy="Have the recovery key at hand at the first start.",
                    drive=drive.name,
                    partition=facts.number,
                )
            if facts.role == "recovery":
                yield _recovery(drive, facts.number)


def _recovery(drive: BootDrive, number: int) -> BootFinding:
    return BootFinding(
        code="recovery",
        severity="note",
        text="The recovery partition remembers where it stood; if it was moved it must be registered again.",
        remedy="Check at first boot that recovery is still registered.",
        drive=drive.name,
        partition=number,
    )

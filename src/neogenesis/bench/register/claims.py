"""The one door to a drive that can be written: a claim for one run of one work, on one drive as it was put in.

Asked in this order: who the drive is, whether another says it is the same, whether this is what was confirmed, whose it
is, and who writes to it; then it is opened, and asked again who it is.
"""

from __future__ import annotations

import getpass
import os
import uuid
from collections.abc import Iterator, Sequence
from contextlib import closing, contextmanager, suppress
from dataclasses import dataclass, field
from datetime import datetime
from pathlib import Path

from neogenesis.bench.drives import (
    OpenTarget,
    confirm_tail,
    insertion_of,
    open_sealed,
    provider_of,
    refuse_alike,
    sighting_of,
)
from neogenesis.bench.register.consent import Consent
from neogenesis.bench.register.register import Register, Wish, open_register, refuse_sealed, refuse_written
from neogenesis.core.drive import Drive, Sighting, is_blank, refuse_wrong_tail
from neogenesis.core.errors import NeogenesisError, OnlyChecked, Refused
from neogenesis.core.store import ReadableStore
from neogenesis.core.survey.survey import table_mark
from neogenesis.core.units import both_text
from neogenesis.core.work import Confirmation, short_hash
from neogenesis.core.work.confirmation import refuse_other_contents, refuse_other_drive, refuse_other_work


@dataclass(frozen=True, slots=True)
class Asked:
    """What is to be written to: `holds` names what will be lost, `resuming` goes on with what stands there in part.

    `undoable`: what stood there is kept, so it may be the old drive of the same job. `source` is where it is read from.
    """

    kind: str
    work: str
    name: str
    sector_size: int
    holds: Sequence[str] = ()
    source: Sighting | None = None
    source_print: str = ""
    resuming: bool = False
    undoable: bool = False


@dataclass(slots=True)
class Claimed:
    """A drive that may be written to. `begin` comes before the first byte; `outcome` is what goes on record."""

    target: OpenTarget
    confirmed: Confirmation
    asked: Asked
    consent: Consent
    register: Register | None
    outcome: str = "done"
    _begun: bool = field(default=False)

    def begin(self) -> None:
        """The gates are all open. Raises OnlyChecked where that was all that was wanted, Refused without a record."""
        if self.consent.check_only:
            raise OnlyChecked
        if self._begun:
            return
        self._begun = True
        if self.register is not None:
            self.register.writes(self.confirmed.run)
        if self.asked.holds:
            self.consent.announce(whose_drive(self.target.drive, self.asked.holds, self.asked.work))


def whose_drive(drive: Drive, holds: Sequence[str], work: str) -> str:
    """One sentence: whose drive it is, what is lost on it, and by which work."""
    who = " ".join(filter(None, (drive.model or Path(drive.path).name, drive.serial, f"({drive.path})")))
    lost = "; ".join(holds) if holds else "nothing"
    return f"Writing to {who}, {both_text(drive.size_bytes)}. Lost on it: {lost}. Work {short_hash(work)}."


@contextmanager
def claimed(consent: Consent, asked: Asked) -> Iterator[Claimed]:
    """The drive, opened for writing, as long as the claim is held. Raises Refused while nothing was written."""
    with closing(open_sealed(asked.name, grip="look")) as looked:
        drive, mark = looked.drive, _mark(looked.store)
        sighting = sighting_of(looked, mark)
    if drive.mounted:
        raise Refused(
            "mounted",
            f"“{asked.name}” is mounted or in use; nothing was written.",
            "Unmount it, after making sure that it is the right one.",
        )
    refuse_alike(asked.name, drive)
    if consent.tail is not None:
        refuse_wrong_tail(consent.tail, confirm_tail(drive))
    insertion = insertion_of(asked.name)
    confirmed = consent.confirmed or _confirmed_now(asked, drive, mark, insertion)
    refuse_other_work(confirmed, asked.work)
    refuse_other_drive(confirmed, drive, insertion)
    if not asked.resuming:
        refuse_other_contents(confirmed, mark)
    register = open_register(consent.bench)
    try:
        _claim(register, consent, asked, confirmed, sighting, looked.drive.path)
        made = None
        try:
            with closing(provider_of(asked.name).open_target(asked.name, asked.sector_size)) as target:
                refuse_other_drive(confirmed, target.drive, insertion_of(asked.name))
                made = Claimed(target, confirmed, asked, consent, register)
                yield made
        except NeogenesisError as error:
            if made is not None:
                made.outcome = str(getattr(error, "code", "")) or type(error).__name__.lower()
            raise
        except BaseException:
            if made is not None:
                made.outcome = "failed"
            raise
        finally:
            if register is not None and not consent.check_only:
                with suppress(Refused):  # the end of this process ends the claim as well
                    register.end(confirmed.run, made.outcome if made is not None else "refused")
    finally:
        if register is not None:
            register.close()


def refuse_kept(name: str, consent: Consent, undoable: bool = False) -> None:
    """Raises Refused for a drive that a job, or the shop, holds as it is: asked before a plan is made for it."""
    register = open_register(consent.bench) if consent.bench or not consent.check_only else None
    if register is None:
        return
    with closing(register), closing(open_sealed(name, grip="look")) as looked:
        ticket = consent.confirmed.ticket if consent.confirmed is not None else ""
        refuse_sealed(register.holdings(), sighting_of(looked, _mark(looked.store)), ticket, undoable)


def _claim(
    register: Register | None,
    consent: Consent,
    asked: Asked,
    confirmed: Confirmation,
    sighting: Sighting,
    place: str,
) -> None:
    if register is None:
        return
    if consent.check_only:
        refuse_sealed(register.holdings(), sighting, confirmed.ticket, asked.undoable)
        refuse_written(register.writing(), sighting)
        return
    wish = Wish(asked.kind, confirmed, sighting, place, asked.source, asked.source_print)
    register.claim(wish, asked.undoable)


def _confirmed_now(asked: Asked, drive: Drive, mark: str, insertion: str) -> Confirmation:
    """Typed on the command line: it and the work are one moment."""
    try:
        who = getpass.getuser()
    except (KeyError, OSError):
        who = str(os.getuid())
    return Confirmation(
        work=asked.work,
        target=drive.identity,
        source=asked.source.identity if asked.source is not None else None,
        held=mark,
        insertion=insertion,
        who=who,
        at=datetime.now().astimezone().isoformat(timespec="seconds"),
        run=uuid.uuid4().hex,
    )


def _mark(store: ReadableStore) -> str:
    """Of the ends of the drive; empty where they cannot be read."""
    try:
        return table_mark(store)
    except NeogenesisError:
        return ""


def holds_anything(mark: str) -> bool:
    """Whether anything stands at the ends of a drive."""
    return bool(mark) and not is_blank(mark)

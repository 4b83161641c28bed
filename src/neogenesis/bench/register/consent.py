"""How a person agreed to a work: what they typed, or the record that the window made of it."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import msgspec

from neogenesis.core.errors import BadArgument
from neogenesis.core.work import Confirmation


def _nobody_listens(text: str) -> None:
    """Where nobody reads along."""


@dataclass(frozen=True, slots=True)
class Consent:
    """For one drive. `tail` is what was typed, None where nothing is to be typed; `bench` says whose records count.

    `work` is the hash of what is agreed to, where that is not a plan, and `kind` what the register calls it, where that
    is not what the engine calls it.

    `check_only` asks every gate and writes nothing. `announce` hears, before the first byte is written, whose drive it
    is and what is lost.
    """

    tail: str | None = None
    confirmed: Confirmation | None = None
    work: str = ""
    kind: str = ""
    bench: str = ""
    check_only: bool = False
    announce: Callable[[str], None] = _nobody_listens

    def each(self, tails: Sequence[str | None], confirmed: Sequence[Confirmation] = ()) -> list[Consent]:
        """One for each of several drives, in their order. Raises BadArgument for another number of confirmations."""
        if confirmed and len(confirmed) != len(tails):
            raise BadArgument(f"{len(tails)} drives need as many confirmations.", "Confirm each of them.")
        records: Sequence[Confirmation | None] = confirmed or [None] * len(tails)
        return [replace(self, tail=tail, confirmed=one) for tail, one in zip(tails, records, strict=True)]


def after_own_test(consent: Consent) -> Consent:
    """What still holds after this very work has tested the drive: everything but what stood on it."""
    if consent.confirmed is None:
        return consent
    return replace(consent, confirmed=msgspec.structs.replace(consent.confirmed, held=""))

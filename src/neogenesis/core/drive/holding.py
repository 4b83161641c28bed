"""Whose a drive is: jobs that are not handed over hold their old drive, and the shop those that it keeps."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import date
from typing import Literal

from neogenesis.core.drive.sighting import Sighting, is_one

Role = Literal["old", "kept", "new", "medium", "tool"]


@dataclass(frozen=True, slots=True)
class Holding:
    """A drive of a job. `wrote` tells, of a new one, that the job has written to it.

    A medium is a stick that was made for a job, a tool one that was made without any: both may be written anew.
    """

    ticket: str
    customer: str
    role: Role
    drive: Sighting
    until: str = ""
    wrote: bool = False

    @property
    def seals(self) -> bool:
        """Whether nothing but this job may write to it."""
        return self.role in ("old", "kept") or (self.role == "new" and self.wrote)

    def text(self) -> str:
        """Whose it is, in words."""
        whose = f"{self.ticket} ({self.customer})" if self.customer else self.ticket
        if self.role == "old":
            return f"the old drive of {whose}, which is not handed over"
        if self.role == "kept":
            until = f"until {self.until}" if self.until else "until somebody confirms that it may go"
            return f"the old drive of {whose}, which the shop keeps {until}"
        if self.role == "medium":
            return f"the stick of {whose}"
        if self.role == "tool":
            return "a stick of the shop"
        return f"the new drive of {whose}, which holds its copy" if self.wrote else f"the new drive of {whose}"


def holding(drive: Sighting, holdings: Iterable[Holding], today: date) -> list[Holding]:
    """All that hold `drive`, those that seal it first; one whose time of keeping has passed does not."""
    found = [h for h in holdings if is_one(h.drive, drive) and not _is_over(h, today)]
    return sorted(found, key=lambda h: not h.seals)


def _is_over(one: Holding, today: date) -> bool:
    return one.role == "kept" and bool(one.until) and today.isoformat() >= one.until

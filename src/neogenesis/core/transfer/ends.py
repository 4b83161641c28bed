"""What a transfer stands between, and how it is checked."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Literal

from neogenesis.core.drive import Drive
from neogenesis.core.store import ReadableStore, WritableStore
from neogenesis.core.survey import Surveyed

Verify = Literal["full", "sample", "none"]


def _begun() -> None:
    """Nobody wants to know."""


@dataclass(frozen=True, slots=True)
class Ends:
    """The two drives, both open, the old one without any means to write.

    `look` surveys the old drive as it is now. `busy_s` is a clock that tells how long its reads take, where it has one.
    `begin` is called when every gate has been asked, before anything is written or recorded; it may raise. `check_only`
    ends with OnlyChecked where it is not called, since nothing would be written: the transfer is finished.
    """

    source: ReadableStore
    look: Callable[[], tuple[Surveyed, Drive]]
    target: WritableStore
    target_drive: Drive
    busy_s: Callable[[], float] | None = None
    begin: Callable[[], None] = _begun
    check_only: bool = False

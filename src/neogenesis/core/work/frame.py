"""What every long work is given to run in."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from neogenesis.core.work.control import Clock, Control
from neogenesis.core.work.events import Event


@dataclass(frozen=True, slots=True)
class Frame:
    """Who may stop it, the time it goes by, and who hears of it."""

    control: Control
    clock: Clock
    tell: Callable[[Event], None]

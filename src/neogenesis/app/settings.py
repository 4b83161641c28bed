"""What the window remembers between two starts: a small file in the folder of the bench."""

from __future__ import annotations

from contextlib import suppress
from pathlib import Path
from typing import ClassVar, Literal

from neogenesis.core.errors import NeogenesisError
from neogenesis.core.record import Record, load, save


class Settings(Record, frozen=True, kw_only=True):
    """`logbook` is None while the width of the window decides whether it is shown."""

    SCHEMA: ClassVar[str] = "neogenesis.window/1"

    schema: str = SCHEMA
    theme: Literal["day", "night"] = "day"
    percent: int = 100
    logbook: bool | None = None


def load_settings(folder: Path) -> Settings:
    """The settings of a bench; defaults when there are none or they cannot be read."""
    with suppress(NeogenesisError):
        return load(folder / "window.json", Settings, "settings")
    return Settings()


def save_settings(folder: Path, settings: Settings) -> None:
    """Nothing is lost but a preference when this fails."""
    with suppress(NeogenesisError):
        save(folder / "window.json", settings)

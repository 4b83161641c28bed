"""What the window remembers of the person who uses it, between two starts: a small file of their own."""

from __future__ import annotations

from contextlib import suppress
from pathlib import Path
from typing import ClassVar, Literal

from neogenesis.core.errors import NeogenesisError
from neogenesis.core.record import Record, load, save


class Settings(Record, frozen=True, kw_only=True):
    """`language` is empty for the system's. `logbook` is None while the width of the window decides about it.

    `technician` is how the person is named in logbooks, empty for their name on this computer; `geometry` is where the
    window was, as Qt puts it, in base 64; `photo_folder` is where a camera drops photographs, empty for nowhere.
    `pedal` is the key that leads through Swap beside Space, as Qt writes it.
    """

    SCHEMA: ClassVar[str] = "neogenesis.window/1"

    schema: str = SCHEMA
    theme: Literal["day", "night"] = "day"
    percent: int = 100
    language: str = ""
    technician: str = ""
    geometry: str = ""
    logbook: bool | None = None
    photo_folder: str = ""
    pedal: str = ""
    library_source: str = ""


def load_settings(*folders: Path) -> Settings:
    """The settings in the first folder that has some; defaults when there are none or they cannot be read."""
    for folder in folders:
        with suppress(NeogenesisError):
            return load(folder / "window.json", Settings, "settings")
    return Settings()


def save_settings(folder: Path, settings: Settings) -> None:
    """Nothing is lost but a preference when this fails."""
    with suppress(NeogenesisError, OSError):
        folder.mkdir(parents=True, exist_ok=True)
        save(folder / "window.json", settings)

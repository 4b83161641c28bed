"""The intake of a job as a file in its dossier, kept with every key that is pressed."""

from __future__ import annotations

from pathlib import Path

from neogenesis.core.intake.model import Intake
from neogenesis.core.record import load, save_pieces, set_aside, settle, to_json

_FILE = "intake.json"
#: The folder of photographs, beside it.
PHOTOGRAPHS = "photographs"


def intake_path(dossier: Path) -> Path:
    return dossier / _FILE


def load_intake(dossier: Path) -> Intake:
    """An empty one where nothing is on record; raises BadRecord."""
    file = intake_path(dossier)
    return load(file, Intake, "intake") if file.exists() else Intake()


def keep_intake(dossier: Path, intake: Intake) -> None:
    """Quick enough for every key; `settle_intake` makes it survive a power cut as well. Raises BadRecord."""
    save_pieces(intake_path(dossier), (to_json(intake),), settled=False)


def settle_intake(dossier: Path) -> None:
    """Raises BadRecord."""
    settle(intake_path(dossier))


def set_intake_aside(dossier: Path) -> Path:
    """Keep an intake that cannot be read beside a new one; returns where. Raises BadRecord."""
    return set_aside(intake_path(dossier))

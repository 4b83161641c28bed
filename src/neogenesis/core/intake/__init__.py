"""Taking in a machine: what was asked, read off and measured, what is still to ask, and what follows from it."""

from neogenesis.core.intake.ask import START_UP, Ask, cautions_of, gates_of_intake, still_to_ask
from neogenesis.core.intake.battery import read_battery
from neogenesis.core.intake.compare import Compared, compared, of_another_machine, timed_twice
from neogenesis.core.intake.file import PHOTOGRAPHS, keep_intake, load_intake, set_intake_aside, settle_intake
from neogenesis.core.intake.model import (
    SHORES,
    Answer,
    Battery,
    Belonging,
    Figure,
    Intake,
    Later,
    Photograph,
    Plate,
    Run,
    Shore,
    Timing,
    Valuable,
    When,
)
from neogenesis.core.intake.options import Options, options
from neogenesis.core.intake.rates import read_rate
from neogenesis.core.intake.secrets import refuse_secret, secret_in
from neogenesis.core.intake.triage import Course, course, guide

__all__ = [
    "PHOTOGRAPHS",
    "SHORES",
    "START_UP",
    "Answer",
    "Ask",
    "Battery",
    "Belonging",
    "Compared",
    "Course",
    "Figure",
    "Intake",
    "Later",
    "Options",
    "Photograph",
    "Plate",
    "Run",
    "Shore",
    "Timing",
    "Valuable",
    "When",
    "cautions_of",
    "compared",
    "course",
    "gates_of_intake",
    "guide",
    "keep_intake",
    "load_intake",
    "of_another_machine",
    "options",
    "read_battery",
    "read_rate",
    "refuse_secret",
    "secret_in",
    "set_intake_aside",
    "settle_intake",
    "still_to_ask",
    "timed_twice",
]

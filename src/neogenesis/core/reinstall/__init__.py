"""A clean system on a new drive: what a system image says of itself, and what it is told at its first start."""

from neogenesis.core.reinstall.answers import USUAL_ANSWERS, Answers, answer_files, answer_links, read_answers
from neogenesis.core.reinstall.system import SystemDescription, read_description, settings_for

__all__ = [
    "USUAL_ANSWERS",
    "Answers",
    "SystemDescription",
    "answer_files",
    "answer_links",
    "read_answers",
    "read_description",
    "settings_for",
]

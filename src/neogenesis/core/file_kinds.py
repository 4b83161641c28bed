"""What the files of people are, by their names: the same words wherever files are copied out, counted or given back."""

from __future__ import annotations

import tomllib
from functools import cache
from pathlib import PurePosixPath
from typing import Literal

import msgspec

from neogenesis.core.handed import handed

Kind = Literal["documents", "pictures", "films", "music", "mail", "archives", "programs", "other"]
#: In the order in which people ask for them; what can be run comes last.
KINDS: tuple[Kind, ...] = ("documents", "pictures", "films", "music", "mail", "archives", "other", "programs")


@cache
def _by_ending() -> dict[str, Kind]:
    found = msgspec.convert(tomllib.loads(handed("file-kinds.toml")), dict[Kind, tuple[str, ...]])
    return {ending: kind for kind, endings in found.items() for ending in endings}


def kind_by_name(path: str) -> Kind:
    """By how its name ends."""
    return _by_ending().get(PurePosixPath(path).suffix[1:].casefold(), "other")

"""Where people keep what is theirs: the folders under which each system puts its users' own."""

from __future__ import annotations

_FOLDERS = ("users/", "home/", "documents and settings/")


def is_of_people(path: str) -> bool:
    """Whether a path, relative to the root of its volume, lies below the folders of people."""
    return path.casefold().startswith(_FOLDERS)

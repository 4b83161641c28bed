"""Texts of data files that the core is handed: it reads no files, and each is asked for when it is first needed."""

from __future__ import annotations

from collections.abc import Callable

_sources: dict[str, Callable[[], str]] = {}


def hand_over(name: str, text: Callable[[], str]) -> None:
    """From now on `text` gives the data file of that name."""
    _sources[name] = text


def handed(name: str) -> str:
    """The text of a data file; raises KeyError when nobody handed it over."""
    return _sources[name]()

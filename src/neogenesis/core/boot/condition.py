"""Conditions of a menu: what its command `test` says of words and files.

Source: GNU GRUB manual 2.06, section 16.3 (`test`); taken from left to right as the loader's own command does.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Protocol

from neogenesis.core.boot.drives import Place

TOO_LONG = "The menu is too long to be followed to its end"


class Open(Exception):
    """What comes next rests on something that cannot be told from here."""


class Files(Protocol):
    """What a condition asks of the run that it is part of."""

    memory_files: dict[str, str]

    def where(self, path: str) -> tuple[Place, str] | None:
        """The place of a file that is there; raises Open where that cannot be told."""
        ...


class Condition:
    """The conditions of `test`, from left to right as the loader's own command takes them."""

    def __init__(self, run: Files, words: list[str]) -> None:
        self._run, self._words, self._at = run, words, 0

    def holds(self, depth: int = 0) -> bool:
        """Up to the end, or the bracket that closes."""
        if depth > 20:
            raise Open(TOO_LONG)
        either, both, inverted = False, True, False
        while self._at < len(self._words):
            left = self._words[self._at :]
            value: bool | None = None
            if len(left) > 2 and left[1] in _COMPARISONS:
                value = _COMPARISONS[left[1]](left[0], left[2])
                self._at += 3
            elif len(left) > 2 and left[1] in ("-nt", "-ot"):
                raise Open("The menu goes by which of two files is newer")
            elif len(left) > 1 and left[0] in ("-d", "-e", "-f", "-s", "-n", "-z"):
                value = self._of_one(left[0], left[1])
                self._at += 2
            elif left[0] == ")":
                self._at += 1
                return either or both
            elif left[0] == "(":
                self._at += 1
                value = self.holds(depth + 1)
            elif left[0] == "!":
                inverted = not inverted
                self._at += 1
            elif left[0] == "-a":
                self._at += 1
            elif left[0] == "-o":
                either, both = either or both, True
                self._at += 1
            else:
                value = left[0] != ""
                self._at += 1
            if value is not None:
                both, inverted = both and (value != inverted), False
        return either or both

    def _of_one(self, how: str, word: str) -> bool:
        if how in ("-n", "-z"):
            return (word != "") == (how == "-n")
        if word.startswith("(memdisk)"):
            name = word.removeprefix("(memdisk)").strip("/")
            return name in self._run.memory_files or any(p.startswith(f"{name}/") for p in self._run.memory_files)
        found = self._run.where(word)
        if found is None:
            return False
        (drive, facts), spelled = found
        is_folder = bool(drive.names(facts.number, spelled)) or not spelled
        data = None if is_folder else drive.read(facts.number, spelled, 1)
        if how == "-e":
            return True
        if how == "-d":
            return is_folder or data is None
        if how == "-f":
            return data is not None
        return bool(data)


def _number(text: str) -> int:
    found = re.match(r"[+-]?(?:0[xX][0-9a-fA-F]{1,16}|\d{1,19})", text)
    if found is None:
        return 0
    return int(found[0], 16) if "x" in found[0].lower() else int(found[0])


def _prefixed(one: str, other: str, sign: int) -> bool:
    """As `-pgt` and `-plt`: numbers behind the same words."""
    n = 0
    while n < min(len(one), len(other)) and one[n] == other[n] and not one[n].isdecimal():
        n += 1
    return sign * _number(one[n:]) > sign * _number(other[n:])


_COMPARISONS: dict[str, Callable[[str, str], bool]] = {
    "=": lambda a, b: a == b,
    "==": lambda a, b: a == b,
    "!=": lambda a, b: a != b,
    "<": lambda a, b: a < b,
    "<=": lambda a, b: a <= b,
    ">": lambda a, b: a > b,
    ">=": lambda a, b: a >= b,
    "-eq": lambda a, b: _number(a) == _number(b),
    "-ne": lambda a, b: _number(a) != _number(b),
    "-ge": lambda a, b: _number(a) >= _number(b),
    "-gt": lambda a, b: _number(a) > _number(b),
    "-le": lambda a, b: _number(a) <= _number(b),
    "-lt": lambda a, b: _number(a) < _number(b),
    "-pgt": lambda a, b: _prefixed(a, b, 1),
    "-plt": lambda a, b: _prefixed(a, b, -1),
}

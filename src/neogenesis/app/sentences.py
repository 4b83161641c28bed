"""Sentences of the core in another language.

The core and the records speak English, so that a plan or a logbook reads the same on every bench. The English template
of a sentence, with its places in braces, is its code: the catalogue holds it, and here template and arguments of a
finished sentence are found again, and the arguments put into the translation. What no template fits stays as it is.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass

from PyQt6.QtCore import QDate, QLocale, Qt

_PLACE = re.compile(r"\{(\w*)(?:![rsa])?(?::[^{}]*)?\}")
_NUMBER = re.compile(r"[\d,]+(?:\.\d+)?")
_FIGURE = re.compile(
    r"(?:[\d,]+(?:\.\d+)?(?: ?(?:%|°C|s|h|min|ms|times|bytes|[kKMGTP]?i?B)(?:/s)?)?)(?: \([\d.]+ [KMGTP]?i?B\))?"
)
_DAY = re.compile(r"\d{4}-\d{2}-\d{2}")
_FEWEST_LETTERS = 3
_DEEPEST = 4
_MOST_PARTS = 8
#: What is longer was not made from a template.
_LONGEST = 1200


@dataclass(frozen=True, slots=True)
class _Shape:
    """A template with places; `fixed` is what stands between them."""

    letters: int
    fixed: tuple[str, ...]
    pattern: re.Pattern[str]
    names: list[str]
    translated: str


class Sentences:
    """Finds the template that a finished sentence was made from."""

    def __init__(self, templates: Iterable[tuple[str, str]]) -> None:
        self._whole: dict[str, str] = {}
        shaped: list[_Shape] = []
        for source, translated in templates:
            names = _PLACE.findall(source)
            if not names:
                self._whole[source] = translated
                continue
            if any(name.isdigit() for name in names):
                continue  # a text of the window, filled when it is shown
            fixed = _PLACE.split(source)[::2]
            letters = sum(c.isalpha() for part in fixed for c in part)
            if letters < _FEWEST_LETTERS:
                continue
            pattern = "(.+?)".join(re.escape(part) for part in fixed)
            shaped.append(
                _Shape(letters, tuple(filter(None, fixed)), re.compile(pattern, re.DOTALL), names, translated)
            )
        self._shaped = sorted(shaped, key=lambda shape: -shape.letters)  # the most telling first

    def translated(self, text: str, depth: int = 0) -> str | None:
        """`text` in this language; None where no template fits."""
        if len(text) > _LONGEST:
            return None
        found = self._single(text, depth) or _shown_alone(text)
        return found if found is not None else self._joined(text, depth)

    def _single(self, text: str, depth: int) -> str | None:
        """Made from one template."""
        if text in self._whole:
            return self._whole[text]
        number, _, things = text.partition(" ")
        if things in self._whole and _NUMBER.fullmatch(number):
            return f"{local_figures(number)} {self._whole[things]}"
        for shape in self._shaped:
            if all(part in text for part in shape.fixed) and (found := shape.pattern.fullmatch(text)):
                inner = [self._argument(value, depth + 1) for value in found.groups()]
                return filled(shape.translated, shape.names, inner)
        return None

    def _argument(self, text: str, depth: int) -> str:
        """What stands in a place of a template: a figure, a sentence of its own, or a name that stays."""
        alone = _shown_alone(text)
        if alone is not None or depth > _DEEPEST:
            return alone or text
        return self.translated(text, depth) or text

    def _joined(self, text: str, depth: int) -> str | None:
        """Several sentences in a row, or several reasons in a list."""
        if depth > _DEEPEST:
            return None
        for joint in ("; ", ". ", ", "):
            parts = text.split(joint)
            if joint == ". ":
                parts = [*(f"{part}." for part in parts[:-1]), parts[-1]]
            glue = " " if joint == ". " else joint
            for cut in range(min(len(parts) - 1, _MOST_PARTS), 0, -1):
                known = self._single(glue.join(parts[:cut]), depth)
                if known is not None:
                    return f"{known}{glue}{self._argument(glue.join(parts[cut:]), depth + 1)}"
        return None


def filled(template: str, names: list[str], values: list[str]) -> str:
    """`template` with its places filled by name, or in their order where they have none."""
    known = dict(zip(names, values, strict=True))
    left = iter(values)
    return _PLACE.sub(lambda found: known.get(found.group(1)) or next(left, ""), template)


def local_figures(text: str) -> str:
    """Digits grouped and parted as the reader writes them."""
    locale = QLocale()
    if locale.decimalPoint() == "." and locale.groupSeparator() == ",":
        return text
    swap = {",": locale.groupSeparator(), ".": locale.decimalPoint()}
    return _NUMBER.sub(lambda number: "".join(swap.get(c, c) for c in number.group()), text)


def _shown_alone(text: str) -> str | None:
    """A figure or a day that stands by itself."""
    if _FIGURE.fullmatch(text):
        return local_figures(text)
    if _DAY.fullmatch(text):
        day = QDate.fromString(text, Qt.DateFormat.ISODate)
        return QLocale().toString(day, QLocale.FormatType.ShortFormat) if day.isValid() else None
    return None

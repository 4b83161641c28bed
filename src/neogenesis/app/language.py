"""The language of the window: its catalogue, its plurals, and the sentences that the core writes.

The core and the records speak English, so that a plan or a logbook reads the same on every bench. The English template
of a sentence, with its places in braces, is its code: the catalogue holds it, and `said` finds template and arguments
of a finished sentence again and puts the arguments into the translation. What no template fits stays as it is.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass
from functools import lru_cache
from gettext import c2py
from pathlib import Path
from typing import TYPE_CHECKING

from PyQt6.QtCore import QCoreApplication, QDate, QLibraryInfo, QLocale, Qt, QTranslator
from PyQt6.QtGui import QGuiApplication

from neogenesis.core.errors import BadRecord

if TYPE_CHECKING:
    from babel.messages.catalog import Catalog

FOLDER = Path(__file__).parents[1] / "data" / "languages"
CONTEXT = "Neogenesis"
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


class Catalogue(QTranslator):
    """The texts of one language, as Qt's translator asks for them."""

    def __init__(self, catalog: Catalog) -> None:
        super().__init__()
        self._plain: dict[tuple[str, str], str] = {}
        self._counted: dict[str, tuple[str, ...]] = {}
        self._form = c2py(catalog.plural_expr)
        templates: list[tuple[str, str]] = []
        for message in catalog:
            if not message.id or message.fuzzy:
                continue
            forms = message.string if isinstance(message.string, tuple) else (str(message.string or ""),)
            if not all(forms):
                continue
            if isinstance(message.id, str):
                self._plain[(message.id, message.context or "")] = forms[0]
                if not message.context:
                    templates.append((message.id, forms[0]))
            else:
                self._counted[message.id[0]] = forms
        self.sentences = Sentences(templates)

    def isEmpty(self) -> bool:
        return False

    def translate(  # type: ignore[override]
        self, context: str | None, text: str | None, disambiguation: str | None = None, n: int = -1
    ) -> str | None:
        """None lets Qt ask the next translator; an empty text would be taken for the translation."""
        return self._plain.get((text or "", disambiguation or "")) if context == CONTEXT else None

    def counted(self, one: str, n: int) -> str:
        """The form for `n` things; empty where the language has none."""
        forms = self._counted.get(one)
        return forms[min(self._form(n), len(forms) - 1)] if forms else ""


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


def languages() -> dict[str, str]:
    """Codes of the languages that ship, with the name that each has for itself."""
    known = {"en": "English"}
    for file in sorted(FOLDER.glob("*.po")):
        locale = QLocale(file.stem)
        known[file.stem] = locale.nativeLanguageName() or file.stem
    return known


def load_catalogue(path: Path) -> Catalogue:
    """The texts in a .po file; raises BadRecord for one that is damaged."""
    from babel.messages.pofile import PoFileError, read_po  # only who speaks another language than English waits for it

    try:
        with path.open("rb") as file:
            return Catalogue(read_po(file, abort_invalid=True))
    except (OSError, ValueError, PoFileError, UnicodeDecodeError) as error:
        raise BadRecord(
            f"The texts of the language “{path.stem}” cannot be read ({error}).", "Install the program again."
        ) from error


class Language:
    """What is spoken now; one for the process, as Qt's translators are. `changes` counts how often it changed."""

    def __init__(self) -> None:
        self.code = ""
        self.changes = 0
        self._ours: Catalogue | None = None
        self._qt: QTranslator | None = None

    def speak(self, code: str, catalogue: Catalogue | None = None) -> None:
        """Change to a language that ships, or to a catalogue that is given; an unknown code is English."""
        for old in (self._ours, self._qt):
            if old is not None and QCoreApplication.instance() is not None:
                QCoreApplication.removeTranslator(old)
        self._ours = self._qt = None
        self.changes += 1
        said.cache_clear()
        self.code = code if code in languages() or catalogue else "en"
        system = QLocale.system()
        wanted = QLocale(self.code)
        # a region's way of writing figures is kept where the system speaks the same language
        QLocale.setDefault(system if system.language() == wanted.language() else wanted)
        if self.code != "en":
            self._qt = QTranslator()
            if self._qt.load(f"qtbase_{self.code}", QLibraryInfo.path(QLibraryInfo.LibraryPath.TranslationsPath)):
                QCoreApplication.installTranslator(self._qt)
            self._ours = catalogue or load_catalogue(FOLDER / f"{self.code}.po")
            QCoreApplication.installTranslator(self._ours)
        application = QGuiApplication.instance()
        if isinstance(application, QGuiApplication):
            application.setLayoutDirection(QLocale().textDirection())

    def counted(self, one: str, n: int) -> str:
        return self._ours.counted(one, n) if self._ours else ""

    def sentence(self, text: str) -> str | None:
        return self._ours.sentences.translated(text) if self._ours else None


def system_language() -> str:
    """The first language of the system that ships; English otherwise."""
    known = languages()
    return next((c for n in QLocale.system().uiLanguages() if (c := n.replace("-", "_").split("_")[0]) in known), "en")


LANGUAGE = Language()


def tr(text: str, context: str = "") -> str:
    """The text in the language of the window; `context` tells two meanings of one English word apart."""
    return QCoreApplication.translate(CONTEXT, text, context)


def trn(one: str, many: str, n: int) -> str:
    """The text for `n` things, with `{0}` for the number itself still in it."""
    return LANGUAGE.counted(one, n) or (one if n == 1 else many)


def mark(text: str, context: str = "") -> str:
    """The text as it is, for the catalogue: `tr` translates it when it is shown."""
    return text


@lru_cache(maxsize=4096)
def said(text: str) -> str:
    """A sentence of the core or of a record in the language of the window."""
    return LANGUAGE.sentence(text) or text


def _shown_alone(text: str) -> str | None:
    """A figure or a day that stands by itself."""
    if _FIGURE.fullmatch(text):
        return local_figures(text)
    if _DAY.fullmatch(text):
        day = QDate.fromString(text, Qt.DateFormat.ISODate)
        return QLocale().toString(day, QLocale.FormatType.ShortFormat) if day.isValid() else None
    return None


def is_mirrored() -> bool:
    """Whether the window runs from right to left."""
    return QLocale().textDirection() == Qt.LayoutDirection.RightToLeft

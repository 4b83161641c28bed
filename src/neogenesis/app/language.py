"""The language of the window: its catalogue and plurals, and the translation of what the core said (`sentences`)."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from functools import lru_cache
from gettext import c2py
from pathlib import Path
from typing import TYPE_CHECKING

from PyQt6.QtCore import QCoreApplication, QLibraryInfo, QLocale, QTranslator
from PyQt6.QtGui import QGuiApplication

from neogenesis.app.sentences import Sentences
from neogenesis.core.errors import BadRecord

if TYPE_CHECKING:
    from babel.messages.catalog import Catalog

FOLDER = Path(__file__).parents[1] / "data" / "languages"
CONTEXT = "Neogenesis"


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

    def speak(self, code: str) -> None:
        """Change to a language that ships; an unknown code is English. Raises BadRecord, and then speaks English."""
        for old in (self._ours, self._qt):
            if old is not None and QCoreApplication.instance() is not None:
                QCoreApplication.removeTranslator(old)
        self._ours = self._qt = None
        self.changes += 1
        said.cache_clear()
        self.code = "en"
        ours = load_catalogue(FOLDER / f"{code}.po") if code != "en" and code in languages() else None
        self.code = code if ours is not None else "en"
        system = QLocale.system()
        wanted = QLocale(self.code)
        # a region's way of writing figures is kept where the system speaks the same language
        QLocale.setDefault(system if system.language() == wanted.language() else wanted)
        if ours is not None:
            self._qt = QTranslator()
            if self._qt.load(f"qtbase_{self.code}", QLibraryInfo.path(QLibraryInfo.LibraryPath.TranslationsPath)):
                QCoreApplication.installTranslator(self._qt)
            self._ours = ours
            QCoreApplication.installTranslator(ours)
        application = QGuiApplication.instance()
        if isinstance(application, QGuiApplication):
            application.setLayoutDirection(QLocale().textDirection())

    def counted(self, one: str, n: int) -> str:
        return self._ours.counted(one, n) if self._ours else ""

    def sentence(self, text: str) -> str | None:
        return self._ours.sentences.translated(text) if self._ours else None


@contextmanager
def spoken_in(code: str) -> Iterator[None]:
    """What is written meanwhile is in another language, for paper; then the window's is spoken again."""
    before = LANGUAGE.code
    if code == before:
        yield
        return
    LANGUAGE.speak(code)
    try:
        yield
    finally:
        LANGUAGE.speak(before)


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

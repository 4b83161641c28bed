"""A language that nobody speaks: every text that can be translated stands in brackets, so that what escapes is seen."""

from __future__ import annotations

import re
from pathlib import Path

from babel.messages.catalog import Catalog
from babel.messages.pofile import read_po
from PyQt6.QtWidgets import QAbstractButton, QComboBox, QLabel, QLineEdit, QListView, QWidget

from neogenesis.app.language import FOLDER, Catalogue
from neogenesis.app.parts.controls import Elided
from neogenesis.app.parts.rows import RowsModel

_PLACE = re.compile(r"(\{\w*\})")
_ACCENTS = str.maketrans("aeiouAEIOUcnsy", "áéíóúÁÉÍÓÚçñšý")
_WORD = re.compile(r"[A-Za-z]{3,}")
_NAMES = re.compile(r"(?:/[^\s/]+)+|\b[0-9a-f]{16}\b")  # paths and checksums


def pseudo(text: str) -> str:
    """`text` accented, a third longer, in brackets; its places stay."""
    parts = [part if _PLACE.fullmatch(part) else part.translate(_ACCENTS) for part in _PLACE.split(text)]
    return f"⟦{''.join(parts)}{'·' * (len(text) // 3)}⟧"


def pseudo_catalogue(source: Path = FOLDER / "de.po") -> Catalogue:
    """Everything that ships for translation, in brackets."""
    with source.open("rb") as file:
        shipped = read_po(file)
    made = Catalog(locale="de")
    for message in shipped:
        if message.id:
            string = tuple(map(pseudo, message.id)) if isinstance(message.id, tuple) else pseudo(message.id)
            made.add(message.id, string, context=message.context)
    return Catalogue(made)


def texts_in_sight(window: QWidget) -> list[str]:
    """Every text that the window shows or reads out."""
    found: list[str] = []
    for widget in [window, *window.findChildren(QWidget)]:
        if not widget.isVisible():
            continue
        found += [widget.toolTip(), widget.accessibleName(), widget.windowTitle()]
        if isinstance(widget, Elided):
            found.append(widget.whole())
        elif isinstance(widget, QLabel | QAbstractButton):
            found.append(widget.text())
        elif isinstance(widget, QComboBox):
            found += [widget.itemText(i) for i in range(widget.count())]
        elif isinstance(widget, QLineEdit):
            found.append(widget.placeholderText())
        elif isinstance(widget, QListView) and isinstance(widget.model(), RowsModel):
            found += [row.spoken for row in widget.model().rows]
    return [text for text in dict.fromkeys(found) if text]


def escaped(texts: list[str], names: tuple[str, ...]) -> list[str]:
    """Those with words outside brackets that are no names of customers, drives or units."""
    left = []
    for text in texts:
        outside = _NAMES.sub("", without_brackets(text))
        for name in sorted(names, key=len, reverse=True):
            outside = outside.replace(name, "")
        if _WORD.search(outside):
            left.append(text)
    return left


def without_brackets(text: str) -> str:
    depth, out = 0, []
    for character in text:
        if character == "⟦":
            depth += 1
        elif character == "⟧":
            depth = max(0, depth - 1)
        elif depth == 0:
            out.append(character)
    return "".join(out)

"""The window in other languages: catalogues, sentences of the core, plurals, figures, and what escapes."""

from __future__ import annotations

import json
import re
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from babel.messages.pofile import read_po
from PyQt6.QtCore import QLocale, Qt
from PyQt6.QtGui import QColor, QGuiApplication
from PyQt6.QtWidgets import QAbstractButton, QComboBox, QLineEdit, QPlainTextEdit, QWidget
from pytestqt.qtbot import QtBot

from neogenesis.app import language
from neogenesis.app.language import FOLDER, LANGUAGE, load_catalogue, said, tr, trn
from neogenesis.app.settings import Settings, save_settings
from neogenesis.app.shell.window import MainWindow
from neogenesis.app.theme.tokens import tag_look
from neogenesis.app.words import both, when
from neogenesis.core.errors import BadRecord
from tests.pseudo import escaped, pseudo_catalogue, texts_in_sight
from tests.test_window import texts
from tests.tour import tour

pytestmark = pytest.mark.usefixtures("qapp")

Open = Callable[[Path], MainWindow]
ROOT = Path(__file__).parents[1]
#: Names and units that are the same in every language, and what the small bench's customer wrote.
_NAMES = """
Saltmarsh Repair, Gullhaven Pilots' Office, Petrel 14, Halden 500, Corvane N2, Ada, Neogenesis, neogenesis, BLAKE3,
KiB, MiB, GiB, NTFS, FAT, exFAT, ext4, GPT, SATA, NVMe, USB, English, Deutsch, EUR, Ctrl, Shift, Alt, Return,
Umschalt, Strg, Enter, Anchor Linux, root, Meridian, papers, Recovery, START, Brightwell, Petrel, Quayside, Desk, Pane,
Parlour, Shell, Turn, Kiosk, Pilot, Pocket, Till, Ostrel, Corvane, heat pad, M.2 under the cover, MB/s, GB/s, D4
"""
NAMES = tuple(name.strip() for name in _NAMES.split(","))


@pytest.fixture(autouse=True)
def english_afterwards() -> Iterator[None]:
    yield
    LANGUAGE.speak("en")
    QGuiApplication.setLayoutDirection(Qt.LayoutDirection.LeftToRight)


def places(text: str) -> list[str]:
    return sorted(re.findall(r"\{\w*\}", text))


def test_catalogues_hold_everything_that_is_said() -> None:
    check = [sys.executable, str(ROOT / "packaging/languages.py"), "--check"]
    done = subprocess.run(check, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stdout + done.stderr


@pytest.mark.parametrize("file", sorted(FOLDER.glob("*.po")), ids=lambda file: file.stem)
def test_translations_keep_their_places(file: Path) -> None:
    with file.open("rb") as opened:
        for message in read_po(opened):
            sources = message.id if isinstance(message.id, tuple) else (message.id,)
            forms = message.string if isinstance(message.string, tuple) else (message.string,)
            for form in forms if message.id else ():
                assert form and places(form) == places(sources[-1]), message.id


@pytest.mark.parametrize(
    ("english", "german"),
    [
        ("Nothing is written.", "Es wird nichts geschrieben."),
        ("Transfer started: 1.2 GB (1.12 GiB) to copy", "Übertragung begonnen: 1,2 GB (1,12 GiB) zu kopieren"),
        ("The drive is failing: 1,232 reallocated sectors.", "Das Laufwerk stirbt: 1.232 ersetzte Sektoren."),
        (
            "“new.img” is mounted or in use (swap space); nothing was written. Unmount it first.",
            "„new.img“ ist eingehängt oder in Gebrauch (Auslagerungsplatz); es wurde nichts geschrieben. "
            "Hängen Sie es zuerst aus.",
        ),
        ("Copy Partition 3: used blocks only", "Partition 3 kopieren: nur belegte Blöcke"),
        (
            "the drive itself warns; its structures are cut short",
            "das Laufwerk warnt selbst; seine Strukturen sind abgeschnitten",
        ),
        ("Faster, everything exactly as it was", "Faster, everything exactly as it was"),
        ("Old drive: Halden 500 HD5-00009K3D", "Altes Laufwerk: Halden 500 HD5-00009K3D"),
    ],
)
def test_sentences_of_the_core_are_known_by_their_template(english: str, german: str) -> None:
    LANGUAGE.speak("de")
    assert said(english) == german
    LANGUAGE.speak("en")
    assert said(english) == english


def test_what_nobody_said_costs_no_time() -> None:
    LANGUAGE.speak("de")
    for text in (", ".join(["and so on"] * 300), ". ".join("We the people wrote to all of it" for _ in range(12))):
        begun = time.perf_counter()
        assert said(text) == text
        assert time.perf_counter() - begun < 2


def test_plurals_and_figures() -> None:
    LANGUAGE.speak("de")
    assert [trn("{0} open job", "{0} open jobs", n).format(n) for n in (0, 1, 2)] == [
        "0 offene Aufträge",
        "1 offener Auftrag",
        "2 offene Aufträge",
    ]
    assert both(1_230_000_000) == "1,23 GB (1,15 GiB)" and tr("Open", "jobs") == "Offen" and tr("Open") == "Öffnen"
    LANGUAGE.speak("en")
    assert both(1_230_000_000) == "1.23 GB (1.15 GiB)" and trn("{0} open job", "{0} open jobs", 1) == "{0} open job"
    LANGUAGE.speak("xx")
    assert LANGUAGE.code == "en" and tr("Open") == "Open"


def test_a_damaged_catalogue_is_said(tmp_path: Path) -> None:
    (tmp_path / "fr.po").write_bytes(b'msgid "a\nmsgstr \xff"')
    with pytest.raises(BadRecord, match="“fr”"):
        load_catalogue(tmp_path / "fr.po")


def test_a_window_opens_in_english_where_its_texts_are_damaged(
    small_bench: Path, open_window: Open, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    (tmp_path / "de.po").write_bytes(b'msgid "a\nmsgstr \xff"')
    monkeypatch.setattr(language, "FOLDER", tmp_path)
    save_settings(small_bench / "bench", Settings(language="de"))
    window = open_window(small_bench)
    assert LANGUAGE.code == "en" and "1 open job" in texts(window)


@pytest.mark.timeout(300)
def test_nothing_escapes_translation_and_every_control_has_a_name(
    small_bench: Path, open_window: Open, qtbot: QtBot, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(language, "load_catalogue", lambda path: pseudo_catalogue())
    save_settings(small_bench / "bench", Settings(language="de", technician="Ada"))
    window = open_window(small_bench)
    seen: dict[str, list[str]] = {}
    nameless: dict[str, list[str]] = {}
    for screen, widget in tour(small_bench, window, qtbot):
        left = escaped(texts_in_sight(widget), NAMES)
        if left:
            seen[screen] = left
        mute = [describe(w) for w in controls(widget) if not spoken(w)]
        if mute:
            nameless[screen] = mute
    assert not seen, json.dumps(seen, indent=1)
    assert not nameless, json.dumps(nameless, indent=1)
    kinds = {entry.kind for entry in window.bench.log("T-7")}
    assert {"survey", "transfer-start", "transfer-done", "measure"} <= kinds
    assert all("⟦" not in entry.text and entry.who == "Ada" for entry in window.bench.log("T-7")), "records are English"


def controls(widget: QWidget) -> list[QWidget]:
    kinds = QAbstractButton | QComboBox | QLineEdit | QPlainTextEdit
    found = [
        w for w in widget.findChildren(QWidget) if isinstance(w, kinds) or w.focusPolicy() & Qt.FocusPolicy.TabFocus
    ]
    return [w for w in found if w.isVisible() and not w.objectName().startswith("qt_") and type(w) is not QWidget]


def spoken(widget: QWidget) -> str:
    """What a screen reader says of it."""
    text = widget.text() if isinstance(widget, QAbstractButton) else ""
    parent = widget.parentWidget()
    inside = isinstance(widget, QLineEdit) and parent is not None and parent.accessibleName()
    return widget.accessibleName() or text or (str(inside) if inside else "")


def describe(widget: QWidget) -> str:
    parent = widget.parentWidget()
    return f"{type(widget).__name__} in {type(parent).__name__}"


def test_the_window_speaks_german(small_bench: Path, open_window: Open, qtbot: QtBot) -> None:
    window = open_window(small_bench)
    window.open_job("T-7")
    assert "The old drive is connected and sealed." in texts(window)
    window.appearance.keep(Settings(language="de"))
    assert "Das alte Laufwerk ist angeschlossen und versiegelt." in texts(window)
    assert window.rail.stations[1].text() == "Sichtung" and window.stop == "survey"
    assert window.actions_.made["larger"].text() == "Größerer Text"
    window.bench.record("T-7", "parting", "Everything is on the medium; an image file needs nothing more.")
    window.job.note("survey", "Done.")
    qtbot.wait(50)
    assert "eine Abbilddatei braucht nichts weiter" in texts(window) and "Done." in texts(window)
    window.appearance.keep(Settings(language="en"))
    qtbot.wait(50)
    assert "an image file needs nothing more" in texts(window)


def test_right_to_left_is_mirrored(
    small_bench: Path, open_window: Open, qtbot: QtBot, monkeypatch: pytest.MonkeyPatch
) -> None:
    window = open_window(small_bench)
    assert window.rail.mapTo(window, window.rail.rect().topLeft()).x() == 0
    colour = QColor(tag_look(0)[2]).rgb()

    def place_of_tag() -> float:
        """Where the tag of the first dock stands in its card, as a share of its width."""
        shelf = window.shelf
        image = shelf.viewport().grab(shelf.visualRect(shelf.model().index(0, 0))).toImage()
        found = [x for x in range(image.width()) if image.pixel(x, image.height() // 2) == colour]
        return sum(found) / len(found) / image.width()

    qtbot.wait(50)
    assert place_of_tag() < 0.3
    monkeypatch.setattr(language, "languages", lambda: {"en": "English", "ar": "ar"})
    monkeypatch.setattr(language, "load_catalogue", lambda path: pseudo_catalogue())
    window.appearance.keep(Settings(language="ar"))
    qtbot.wait(50)
    assert QGuiApplication.layoutDirection() == Qt.LayoutDirection.RightToLeft
    assert window.rail.mapTo(window, window.rail.rect().topRight()).x() >= window.width() - 2
    assert QLocale().textDirection() == Qt.LayoutDirection.RightToLeft and place_of_tag() > 0.7


def test_moments_are_said_in_the_language() -> None:
    from datetime import datetime

    now = datetime(2026, 11, 26, 9, 0)
    LANGUAGE.speak("de")
    assert when("2026-11-27 16:00", now) == "morgen, 16:00" and when("2026-11-29 16:00", now).startswith("So")

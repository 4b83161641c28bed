"""The sheet of preferences: the person's own, which follow them, and the shop's, which are one for the bench."""

from __future__ import annotations

from collections.abc import Callable

import msgspec
from PyQt6.QtWidgets import QDialog, QWidget

from neogenesis.app.language import languages, system_language, tr
from neogenesis.app.parts.controls import button, label, row, scrolled, stack
from neogenesis.app.parts.form import ChoiceField, Form, TextField
from neogenesis.app.settings import Settings
from neogenesis.app.theme.look import TEXT_PERCENTS, look
from neogenesis.core.errors import NeogenesisError
from neogenesis.core.job import Shop
from neogenesis.core.job.shop import parse_currency, parse_labour, parse_lines, parse_tax

_LINES = 3


class PreferencesSheet(QDialog):
    """`take` is given both when they are to be kept; where it refuses, its sentence is shown."""

    def __init__(
        self, parent: QWidget, settings: Settings, shop: Shop, take: Callable[[Settings, Shop], None], login: str
    ) -> None:
        super().__init__(parent)
        self.setWindowTitle(tr("Preferences"))
        self._settings, self._shop, self._take = settings, shop, take
        known = languages()
        system = tr("as the system: {0}").format(known[system_language()])
        people = [("", tr("as the computer knows you: {0}").format(login)), *((who, who) for who in shop.technicians)]
        if settings.technician and settings.technician not in shop.technicians:
            people.append((settings.technician, settings.technician))
        self.yours = Form(
            (
                ChoiceField("technician", tr("You are"), people),
                ChoiceField("language", tr("Language"), [("", system), *known.items()]),
                ChoiceField("theme", tr("Look"), [("day", tr("day")), ("night", tr("night"))]),
                ChoiceField("percent", tr("Size of text"), [(str(p), f"{p} %") for p in TEXT_PERCENTS]),
                TextField("photo_folder", tr("Camera's folder"), tr("new photographs in it go to the open job")),
            )
        )
        self.shops = Form(
            (
                TextField("name", tr("Name of the shop")),
                TextField(
                    "letterhead",
                    tr("Letterhead"),
                    tr("street, telephone: below the name on reports"),
                    parse_lines,
                    "\n".join,
                    lines=_LINES,
                ),
                TextField(
                    "technicians", tr("Technicians"), tr("a name on each line"), parse_lines, "\n".join, lines=_LINES
                ),
                ChoiceField(
                    "paper",
                    tr("Paper of reports"),
                    [("", tr("as the region has it")), ("a4", "A4"), ("letter", tr("letter, 8.5 × 11 inches"))],
                ),
                TextField("currency", tr("Currency"), tr("three letters, such as EUR"), parse_currency),
                TextField("labour_per_hour", tr("Labour, an hour"), tr("an amount, such as 54"), parse_labour),
                TextField("tax_percent", tr("Tax on quotes"), tr("per cent, such as 19"), parse_tax),
            )
        )
        self.yours.align_with(self.shops)
        self.yours.show_values({**msgspec.structs.asdict(settings), "percent": str(settings.percent)})
        self.shops.show_values(msgspec.structs.asdict(shop))
        inner = QWidget()
        parts = (label(tr("Yours"), "head"), self.yours, label(tr("The shop's"), "head"), self.shops)
        inner.setLayout(stack(*parts, None, gap=10))
        keep = button(tr("Keep"), self._done, "main")
        keep.setDefault(True)
        foot = row(None, button(tr("Cancel"), self.reject), keep, gap=10)
        self.setLayout(stack(scrolled(inner), foot, gap=14, margin=20))
        self.resize(look().px(600), min(look().px(620), parent.height() - 40))

    def _done(self) -> None:
        yours, shops = self.yours.values(), self.shops.values()
        if yours is None or shops is None:
            return
        settings = msgspec.structs.replace(self._settings, **{**yours, "percent": int(yours["percent"])})
        try:
            self._take(settings, msgspec.structs.replace(self._shop, **shops))
        except NeogenesisError as error:
            self.shops.say_fault(error.sentence())
        else:
            self.accept()

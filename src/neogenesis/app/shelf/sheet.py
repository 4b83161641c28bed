"""All about one connected drive, to read and to copy."""

from __future__ import annotations

from PyQt6.QtWidgets import QDialog, QGridLayout, QWidget

from neogenesis.app.desk.bench import Dock
from neogenesis.app.language import said, tr
from neogenesis.app.parts.controls import button, label, mono, row, stack
from neogenesis.app.parts.tag import TagMark
from neogenesis.app.theme.look import look
from neogenesis.app.words import both, bus_name, health_word, whole_bytes


class DriveSheet(QDialog):
    """Facts and readings of a drive; nothing here writes to it."""

    def __init__(self, parent: QWidget, dock: Dock) -> None:
        super().__init__(parent)
        docked = dock.docked
        if docked is None:
            raise ValueError("an empty dock has no sheet")
        drive, reading = docked.drive, docked.drive.reading
        self.setWindowTitle(drive.model or docked.name)
        mark = TagMark()
        mark.setFixedSize(mark.sizeHint())
        mark.show_tag(dock.tag)
        facts = [
            (tr("Serial"), drive.serial or "–"),
            (tr("Size"), both(drive.size_bytes)),
            (tr("Bytes"), whole_bytes(drive.size_bytes)),
            (tr("Sectors"), tr("{0} bytes each").format(drive.sector_size)),
            (tr("Connected by"), bus_name(drive.bus)),
            (tr("Place"), docked.name),
            (tr("Health"), f"{health_word(docked.health.verdict)}: {said(docked.health.why)}".rstrip(": ")),
        ]
        if reading is not None:
            if reading.temperature_c is not None:
                facts.append((tr("Temperature"), f"{reading.temperature_c:.0f} °C"))
            if reading.power_on_hours is not None:
                facts.append((tr("Powered on"), tr("{0} hours").format(whole_bytes(reading.power_on_hours))))
            if reading.wear_percent is not None:
                facts.append((tr("Worn"), f"{reading.wear_percent:.0f} %"))
            if reading.spare_percent is not None:
                facts.append((tr("Spare left"), f"{reading.spare_percent:.0f} %"))
        if docked.trouble:
            facts.append((tr("Trouble"), said(docked.trouble)))
        grid = QGridLayout()
        grid.setHorizontalSpacing(look().px(16))
        for index, (name, value) in enumerate(facts):
            grid.addWidget(label(name, "muted"), index, 0)
            figure = name == tr("Serial")
            grid.addWidget(mono(value) if figure else label(value, wrap=True, copyable=True), index, 1)
        head = row(mark, label(drive.model or docked.name.rsplit("/", 1)[-1], "title"), None, gap=10)
        self.setLayout(stack(head, grid, row(None, button(tr("Close"), self.accept)), gap=16, margin=22))
        self.setMinimumWidth(look().px(460))

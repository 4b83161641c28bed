"""Photographs at a step, chosen as files."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtWidgets import QFileDialog, QWidget

from neogenesis.app.language import tr
from neogenesis.app.swap.model import SwapModel
from neogenesis.bench.records.photographs import SUFFIXES


def ask_for_photograph(parent: QWidget, model: SwapModel) -> None:
    kinds = " ".join(f"*{suffix}" for suffix in sorted(SUFFIXES))
    paths, _ = QFileDialog.getOpenFileNames(parent, tr("Photograph"), "", tr("Photographs ({0})").format(kinds))
    model.photograph([Path(path) for path in paths])

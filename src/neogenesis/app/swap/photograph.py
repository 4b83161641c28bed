"""Photographs at a step: chosen as a file, or dropped by a camera into its folder."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtWidgets import QFileDialog, QWidget

from neogenesis.app.language import tr
from neogenesis.app.swap.model import SwapModel
from neogenesis.bench.photographs import SUFFIXES


def ask_for_photograph(parent: QWidget, model: SwapModel) -> None:
    """Raises NeogenesisError for what cannot be kept."""
    kinds = " ".join(f"*{suffix}" for suffix in sorted(SUFFIXES))
    path, _ = QFileDialog.getOpenFileName(parent, tr("Photograph"), "", tr("Photographs ({0})").format(kinds))
    if path:
        model.photograph(Path(path))

"""Copying files out of a drive that need not start any more: with checksums, and a list of what could not be read."""

from neogenesis.core.salvage.run import BESIDE, Beside, Salvage, SalvageSummary, Saved
from neogenesis.core.salvage.wanted import Wanted, each_kind, wanted_files

__all__ = ["BESIDE", "Beside", "Salvage", "SalvageSummary", "Saved", "Wanted", "each_kind", "wanted_files"]

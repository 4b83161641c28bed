"""Copying files out of a drive that need not start any more: with checksums, and a list of what could not be read."""

from neogenesis.core.salvage.run import Salvage, SalvageSummary, Saved, Wanted, wanted_files

__all__ = ["Salvage", "SalvageSummary", "Saved", "Wanted", "wanted_files"]

"""Installer media: what an image is and will do, and whether a stick is as large as it says."""

from neogenesis.core.media.checksums import Checksum, listed_checksum
from neogenesis.core.media.inspected import Inspected, inspect_disc, notes_for
from neogenesis.core.media.probe import Probed, probe_full, probe_quick

__all__ = [
    "Checksum",
    "Inspected",
    "Probed",
    "inspect_disc",
    "listed_checksum",
    "notes_for",
    "probe_full",
    "probe_quick",
]

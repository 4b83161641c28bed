"""Running a plan: prepared volumes, pipeline, journal, region map, verification, manifest, events.

A transfer knows nothing of screens and of how drives are opened; it is handed stores, utilities and a clock.
"""

from neogenesis.core.transfer.control import Clock, Control
from neogenesis.core.transfer.events import Event, Outcome
from neogenesis.core.transfer.identify import check_target, table_mark
from neogenesis.core.transfer.manifest import Manifest, load_manifest, verify_against
from neogenesis.core.transfer.prepare import VolumeTools
from neogenesis.core.transfer.run import RunFiles, Transfer

__all__ = [
    "Clock",
    "Control",
    "Event",
    "Manifest",
    "Outcome",
    "RunFiles",
    "Transfer",
    "VolumeTools",
    "check_target",
    "load_manifest",
    "table_mark",
    "verify_against",
]

"""Running a plan: prepared volumes, pipeline, journal, region map, verification, manifest, events.

A transfer knows nothing of screens and of how drives are opened; it is handed stores, utilities and a clock.
"""

from neogenesis.core.transfer.admission import check_target, planned_target, table_mark
from neogenesis.core.transfer.ends import Ends, Verify
from neogenesis.core.transfer.manifest import Manifest, load_manifest, verify_against
from neogenesis.core.transfer.prepare import VolumeTools
from neogenesis.core.transfer.records import RunFiles
from neogenesis.core.transfer.run import Transfer

__all__ = [
    "Ends",
    "Manifest",
    "RunFiles",
    "Transfer",
    "Verify",
    "VolumeTools",
    "check_target",
    "load_manifest",
    "planned_target",
    "table_mark",
    "verify_against",
]

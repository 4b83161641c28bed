"""Who a drive is, by what it is known again, and what its own readings say of its health. Knows nothing of stores."""

from neogenesis.core.drive.health import Attribute, Health, HealthReading, Reason, Verdict, judge
from neogenesis.core.drive.identity import Drive, Identity, refuse_mounted, refuse_wrong_tail, same_drive
from neogenesis.core.drive.mark import TABLE_AREA_BYTES, is_cleared, mark_of
from neogenesis.core.drive.sighting import Sighting, is_blank, is_one

__all__ = [
    "TABLE_AREA_BYTES",
    "Attribute",
    "Drive",
    "Health",
    "HealthReading",
    "Identity",
    "Reason",
    "Sighting",
    "Verdict",
    "is_blank",
    "is_cleared",
    "is_one",
    "judge",
    "mark_of",
    "refuse_mounted",
    "refuse_wrong_tail",
    "same_drive",
]

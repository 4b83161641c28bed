"""Who a drive is, by what it is known again, and what its own readings say of its health. Knows nothing of stores."""

from neogenesis.core.drive.health import Attribute, Health, HealthReading, Reason, Verdict, judge
from neogenesis.core.drive.identity import Drive, Identity, refuse_mounted, same_drive
from neogenesis.core.drive.mark import TABLE_AREA_BYTES, is_cleared, mark_of

__all__ = [
    "TABLE_AREA_BYTES",
    "Attribute",
    "Drive",
    "Health",
    "HealthReading",
    "Identity",
    "Reason",
    "Verdict",
    "is_cleared",
    "judge",
    "mark_of",
    "refuse_mounted",
    "same_drive",
]

"""Everything read from one drive without writing: identity, health, table, volumes, usage, systems, findings."""

from neogenesis.core.drive import Drive
from neogenesis.core.survey.model import Finding, InheritedLosses, PartitionFacts, Survey, TableFacts, VolumeFacts
from neogenesis.core.survey.survey import Surveyed, survey_drive

__all__ = [
    "Drive",
    "Finding",
    "InheritedLosses",
    "PartitionFacts",
    "Survey",
    "Surveyed",
    "TableFacts",
    "VolumeFacts",
    "survey_drive",
]

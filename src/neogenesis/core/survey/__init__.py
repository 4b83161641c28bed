"""Everything read from one drive without writing: identity, health, table, volumes, usage, systems, findings."""

from neogenesis.core.survey.model import Drive, Finding, PartitionFacts, Survey, TableFacts, VolumeFacts
from neogenesis.core.survey.survey import Surveyed, survey_drive

__all__ = [
    "Drive",
    "Finding",
    "PartitionFacts",
    "Survey",
    "Surveyed",
    "TableFacts",
    "VolumeFacts",
    "survey_drive",
]

"""The frame of anything long, whatever it is: control, clock, events, the journal it goes on from, how it ended."""

from neogenesis.core.work.chunks import ZEROS, Chunk, ChunkLog
from neogenesis.core.work.confirmation import Confirmation, short_hash, work_hash
from neogenesis.core.work.control import Clock, Control, SharedControl
from neogenesis.core.work.events import Event, EventKind, Outcome
from neogenesis.core.work.frame import Frame
from neogenesis.core.work.journal import Journal, JournalLimits

__all__ = [
    "ZEROS",
    "Chunk",
    "ChunkLog",
    "Clock",
    "Confirmation",
    "Control",
    "Event",
    "EventKind",
    "Frame",
    "Journal",
    "JournalLimits",
    "Outcome",
    "SharedControl",
    "short_hash",
    "work_hash",
]

"""Places that hold bytes: files, block devices, ranges of other stores, memory.

A `ReadableStore` has no way to write: a sealed drive is one. Only a `WritableStore` can change anything.
"""

from neogenesis.core.store.alive import LiveStore, still_answers
from neogenesis.core.store.base import ReadableStore, WritableStore
from neogenesis.core.store.file import FileStore, Grip, SealedFileStore
from neogenesis.core.store.lost import LostStore
from neogenesis.core.store.memory import MemoryStore
from neogenesis.core.store.narrow import Patience, PutOff, read_or_narrow
from neogenesis.core.store.opener import Opener, PathOpener
from neogenesis.core.store.overlay import OverlayStore
from neogenesis.core.store.parts import JoinedStore, PartFile, existing_parts
from neogenesis.core.store.pieces import PieceStore
from neogenesis.core.store.requests import ReadWay, choose_way
from neogenesis.core.store.shared import SharedStore
from neogenesis.core.store.view import RangeView, WritableRangeView
from neogenesis.core.store.watched import WatchedStore

__all__ = [
    "FileStore",
    "Grip",
    "JoinedStore",
    "LiveStore",
    "LostStore",
    "MemoryStore",
    "Opener",
    "OverlayStore",
    "PartFile",
    "PathOpener",
    "Patience",
    "PieceStore",
    "PutOff",
    "RangeView",
    "ReadWay",
    "ReadableStore",
    "SealedFileStore",
    "SharedStore",
    "WatchedStore",
    "WritableRangeView",
    "WritableStore",
    "choose_way",
    "existing_parts",
    "read_or_narrow",
    "still_answers",
]

"""What lives inside volumes: files, the systems that they belong to, and what people keep there."""

from neogenesis.core.system.describe import LISTED_KINDS, with_system
from neogenesis.core.system.elsewhere import NOT_HERE_WORDS, NotHere, NotHereFile, not_here_lines
from neogenesis.core.system.people import is_of_people
from neogenesis.core.system.touched import LostFile, Touched, files_touching
from neogenesis.core.system.tree import NO_MARKS, Channel, Entry, EntryKind, FileMarks, FileTree, ServedStore, Trees

__all__ = [
    "LISTED_KINDS",
    "NOT_HERE_WORDS",
    "NO_MARKS",
    "Channel",
    "Entry",
    "EntryKind",
    "FileMarks",
    "FileTree",
    "LostFile",
    "NotHere",
    "NotHereFile",
    "ServedStore",
    "Touched",
    "Trees",
    "files_touching",
    "is_of_people",
    "not_here_lines",
    "with_system",
]

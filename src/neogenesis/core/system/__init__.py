"""What lives inside volumes: files, the systems that they belong to, and what people keep there."""

from neogenesis.core.system.describe import LISTED_KINDS, with_system
from neogenesis.core.system.people import is_of_people
from neogenesis.core.system.touched import LostFile, Touched, files_touching
from neogenesis.core.system.tree import Channel, FileTree, ServedStore, Trees

__all__ = [
    "LISTED_KINDS",
    "Channel",
    "FileTree",
    "LostFile",
    "ServedStore",
    "Touched",
    "Trees",
    "files_touching",
    "is_of_people",
    "with_system",
]

"""Volumes: what a partition holds, how much of it is in use, where, and in what state.

`read_volume` recognises a volume by its signature and never fails on damaged data: a volume that cannot be
understood has no allocation and is then copied whole. Knows nothing of plans.
"""

from neogenesis.core.filesystem.model import RESIZABLE_KINDS, Volume, VolumeKind
from neogenesis.core.filesystem.read import read_volume

__all__ = ["RESIZABLE_KINDS", "Volume", "VolumeKind", "read_volume"]

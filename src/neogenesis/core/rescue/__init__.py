"""Getting what can be had from a failing drive, gentlest first, and saying what could not."""

from neogenesis.core.rescue.map import RescueMap, load_map
from neogenesis.core.rescue.rest import Rests
from neogenesis.core.rescue.run import PASSES, Rescue, RescueStore

__all__ = ["PASSES", "Rescue", "RescueMap", "RescueStore", "Rests", "load_map"]

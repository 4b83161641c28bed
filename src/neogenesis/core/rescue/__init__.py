"""Getting what can be had from a failing drive, gentlest first, and saying what could not."""

from neogenesis.core.rescue.map import MapEnds, RescueMap, distrusted, load_map
from neogenesis.core.rescue.passes import PASSES
from neogenesis.core.rescue.rest import Rests
from neogenesis.core.rescue.run import Rescue

__all__ = ["PASSES", "MapEnds", "Rescue", "RescueMap", "Rests", "distrusted", "load_map"]

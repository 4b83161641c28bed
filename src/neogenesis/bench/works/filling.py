"""Whatever fills the volumes of a plan without an old drive, by how its image is packed."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from neogenesis.bench.works.tools import VolumeMaker
from neogenesis.core.plan import Plan
from neogenesis.core.plan.model import SystemImage


def filler_of(plan: Plan, image: SystemImage, scratch: Path, check: Callable[[], None]) -> VolumeMaker:
    """Raises Refused when the image is not the one that was planned with; loaded only when it is needed."""
    if image.form == "disc":
        from neogenesis.bench.works.media import DiscFiles

        return DiscFiles(image, scratch, check)
    from neogenesis.bench.works.system_files import SystemFiles

    return SystemFiles(plan, scratch, check)

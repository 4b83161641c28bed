"""Stops that only take a note yet, as the window knows them."""

from __future__ import annotations

from neogenesis.app.later.view import LaterView
from neogenesis.app.parts.stop import StopSpec
from neogenesis.core.job.route import Stop

_NEXT = {
    "first-boot": "Start the machine",
}


def later(stop: Stop) -> StopSpec:
    """A place for a note until the stop is built."""
    return StopSpec(stop.key, lambda desk: LaterView(desk, stop), _NEXT.get(stop.key, stop.title), (stop.what,))

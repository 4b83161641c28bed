"""The Transfer stop, as the window knows it."""

from __future__ import annotations

from typing import TYPE_CHECKING

from neogenesis.app.language import mark
from neogenesis.app.parts.stop import StopAction, StopSpec

if TYPE_CHECKING:
    from neogenesis.app.transfer.view import TransferView

_HELP = (
    mark(
        "First the gates: each must be open. Then type the last four characters of the new drive's serial, read off "
        "the drive itself."
    ),
    mark(
        "The copy can be paused and stopped at any time, and goes on when this window is closed. The table of the new "
        "drive is written last: until then no machine takes it for a finished drive."
    ),
    mark(
        "Soundings: how long each read took, by place on the old drive. Deep places are slow; crosses could not be "
        "read, dotted places are left for later. They are listed, never silently left out."
    ),
    mark(
        "Ctrl+I begins something else: an image, a rescue of a failing drive, files copied out, or an image put onto "
        "several drives. It is watched here. A rescue goes through its passes by itself, and rests when it must."
    ),
)


def _view() -> type[TransferView]:
    from neogenesis.app.transfer.view import TransferView

    return TransferView


SPEC = StopSpec(
    "transfer",
    _view,
    next_step="Copy and check",
    help=_HELP,
    actions=(
        StopAction(
            "pause", "Pause or go on", "Ctrl+P", lambda view: view.pause_or_go_on(), lambda view: view.can_pause()
        ),
        StopAction(
            "stop", "Stop safely", "Ctrl+Shift+P", lambda view: view.stop_safely(), lambda view: view.can_stop()
        ),
    ),
)

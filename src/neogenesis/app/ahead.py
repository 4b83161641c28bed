"""What an open job needs is loaded beside the window once that stands, so that neither has to wait for the other."""

from __future__ import annotations

import gc
import threading
from importlib import import_module

from neogenesis.app.stops import STOPS

#: Before the views, what NumPy itself leaves until it is asked for among it.
_FIRST = ("neogenesis.app.open_job", "numpy.random", "numpy.ma")


def load_ahead() -> threading.Thread:
    """Load the models and views of all stops in a thread; whoever needs one before waits only for that one."""
    thread = threading.Thread(target=_load, name="load-ahead", daemon=True)
    thread.start()
    return thread


def _load() -> None:
    for name in _FIRST:
        import_module(name)
    for spec in STOPS.values():
        spec.view()
    gc.freeze()  # all of that stays: looking through it again and again for rubbish takes longer than a picture may

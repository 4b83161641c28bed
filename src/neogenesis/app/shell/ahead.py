"""What an open job needs is loaded beside the window once that stands, so that neither has to wait for the other."""

from __future__ import annotations

import gc
import threading
from collections.abc import Callable
from functools import partial
from importlib import import_module

from neogenesis.app.stops import STOPS

#: Before the views, what NumPy itself leaves until it is asked for among it.
_FIRST = ("neogenesis.app.desk.open_job", "numpy.random", "numpy.ma")


class Ahead:
    """Loads the models and views of all stops in a thread; whoever needs one before waits only for that one."""

    def __init__(self) -> None:
        self._ended = threading.Event()
        self._thread = threading.Thread(target=self._load, name="load-ahead", daemon=True)

    def begin(self) -> None:
        """Once; nothing when it was ended before."""
        if not self._ended.is_set():
            self._thread.start()

    def end(self) -> None:
        """No more than what is being loaded now: the program ends."""
        self._ended.set()
        if self._thread.ident is not None:
            self._thread.join()

    def _load(self) -> None:
        steps: list[Callable[[], object]] = [partial(import_module, name) for name in _FIRST]
        for load in (*steps, *(spec.view for spec in STOPS.values())):
            if self._ended.is_set():
                return
            load()
        gc.freeze()  # all of that stays: looking through it again and again for rubbish takes longer than a picture may

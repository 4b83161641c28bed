"""Long work outside the window's thread: surveys in a process of their own, short looks in threads.

Each call gets exactly one answer. What a person can act on arrives as a `Failure`; anything else is a bug and is
raised in the window's thread.
"""

from __future__ import annotations

import multiprocessing
from collections.abc import Callable
from concurrent.futures import Future, ProcessPoolExecutor, ThreadPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from dataclasses import dataclass
from typing import Any

from PyQt6.QtCore import QObject, pyqtSignal

from neogenesis.core.errors import NeogenesisError


@dataclass(frozen=True, slots=True)
class Failure:
    """What went wrong, in words."""

    text: str
    remedy: str = ""
    code: str = ""

    def sentence(self) -> str:
        return " ".join(f"{self.text} {self.remedy}".split())


def failure_of(error: NeogenesisError) -> Failure:
    return Failure(error.text, error.remedy, getattr(error, "code", ""))


def guarded(function: Callable[..., Any], *arguments: Any) -> Any:
    """The result, or a Failure, which unlike an exception always crosses a process boundary whole."""
    try:
        return function(*arguments)
    except NeogenesisError as error:
        return failure_of(error)


class Work(QObject):
    """Runs functions elsewhere and hands their results to callbacks in the window's thread."""

    _finished = pyqtSignal(object, object)

    def __init__(self) -> None:
        super().__init__()
        self._threads = ThreadPoolExecutor(2, "look")
        self._processes: ProcessPoolExecutor | None = None
        self._closed = False
        self._finished.connect(self._answer)

    def in_thread(self, done: Callable[[Any], None], function: Callable[..., Any], *arguments: Any) -> None:
        """For short work that mostly waits."""
        self._watch(self._threads.submit(guarded, function, *arguments), done)

    def in_process(self, done: Callable[[Any], None], function: Callable[..., Any], *arguments: Any) -> None:
        """For work that computes: the window's own process stays free. Arguments and result are pickled."""
        if self._processes is None:
            self._processes = ProcessPoolExecutor(1, multiprocessing.get_context("spawn"))
        try:
            future = self._processes.submit(guarded, function, *arguments)
        except BrokenProcessPool:  # the process was killed from outside; a new one takes its place
            self._processes = ProcessPoolExecutor(1, multiprocessing.get_context("spawn"))
            future = self._processes.submit(guarded, function, *arguments)
        self._watch(future, done)

    def _watch(self, future: Future[Any], done: Callable[[Any], None]) -> None:
        def ended(finished: Future[Any]) -> None:
            if not finished.cancelled() and not self._closed:
                self._finished.emit(finished, done)

        future.add_done_callback(ended)

    def _answer(self, finished: Future[Any], done: Callable[[Any], None]) -> None:
        if self._closed:
            return
        error = finished.exception()
        if error is None:
            done(finished.result())
        elif isinstance(error, BrokenProcessPool):
            self._processes = None
            done(Failure("The reading process ended unexpectedly; nothing was written.", "Try again."))
        else:
            done(Failure(f"Unexpected failure ({type(error).__name__}: {error}); nothing was written.", "Try again."))

    def close(self) -> None:
        """Give up what is still under way; nothing of it writes."""
        self._closed = True
        self._threads.shutdown(wait=True, cancel_futures=True)
        if self._processes is not None:
            for process in list(getattr(self._processes, "_processes", {}).values()):
                process.terminate()
            self._processes.shutdown(wait=True, cancel_futures=True)

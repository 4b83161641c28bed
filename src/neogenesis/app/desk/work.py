"""Long work outside the window's thread: reading a drive in a process of its own, short looks in threads.

Each call gets exactly one answer, unless it is given up. What a person can act on arrives as a `Failure`.
"""

from __future__ import annotations

import multiprocessing
import threading
import time
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass
from multiprocessing.connection import Connection
from typing import Any

from PyQt6.QtCore import QObject, pyqtSignal

from neogenesis.core.errors import NeogenesisError

_MOST_AT_ONCE, _MOST_IDLE, _MOST_LOOKS = 8, 2, 4
#: A sound drive is surveyed in seconds; one that takes so long is in trouble.
_LONGEST_S = 900.0
_GENTLY = "Do not keep testing it: image or rescue it first, gently (Ctrl+I)."


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


def _serve(connection: Connection) -> None:
    """A reading process: one call after the other, until nobody asks any more."""
    while True:
        try:
            function, arguments, tells = connection.recv()
        except (EOFError, OSError):
            return
        try:
            more = (lambda news: connection.send((None, news)),) if tells else ()
            answer: tuple[bool, Any] = (True, guarded(function, *arguments, *more))
        except Exception as error:  # noqa: BLE001 - a bug there is said in the window
            answer = (False, f"{type(error).__name__}: {error}")
        connection.send(answer)


class _Reader:
    """A process that reads, and the way to it."""

    def __init__(self) -> None:
        context = multiprocessing.get_context("spawn")
        self.ours, theirs = context.Pipe()
        self.process = context.Process(target=_serve, args=(theirs,), daemon=True)
        self.process.start()
        theirs.close()

    def end(self) -> None:
        """At once, whatever it does; nothing of it writes."""
        self.process.kill()
        self.process.join()
        self.ours.close()


class Handle:
    """One call that is under way. A call that was given up gets no answer any more, and its process ends."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._reader: _Reader | None = None
        self.given_up = False

    def give_up(self) -> None:
        with self._lock:
            self.given_up = True
            if self._reader is not None:
                self._reader.process.kill()

    def begin(self, reader: _Reader) -> bool:
        """Whether it is still wanted; then `reader` works for it."""
        with self._lock:
            self._reader = reader
            return not self.given_up

    def end(self) -> None:
        with self._lock:
            self._reader = None


class Work(QObject):
    """Runs functions elsewhere and hands their results to callbacks in the window's thread.

    Each drive that is read has a process to itself, so one that hangs holds up nobody else.
    """

    _finished = pyqtSignal(object, object, object)
    _news = pyqtSignal(object, object, object)

    def __init__(self) -> None:
        super().__init__()
        self._looks = threading.Semaphore(_MOST_LOOKS)
        self._waiting = ThreadPoolExecutor(_MOST_AT_ONCE, "read")
        self._idle: list[_Reader] = []
        self._handles: set[Handle] = set()
        self._lock = threading.Lock()
        self._closed = False
        self._finished.connect(self._answer)
        self._news.connect(self._hear)

    def in_thread(self, done: Callable[[Any], None], function: Callable[..., Any], *arguments: Any) -> None:
        """For short work that mostly waits. A dock that hangs holds up neither the window nor its closing."""
        found: Future[Any] = Future()

        def look() -> None:
            with self._looks:
                try:
                    result = guarded(function, *arguments)
                except Exception as error:  # noqa: BLE001 - a bug there is said in the window
                    found.set_exception(error)
                else:
                    found.set_result(result)

        self._watch(found, done, Handle())
        threading.Thread(target=look, daemon=True, name="look").start()

    def in_process(
        self,
        done: Callable[[Any], None],
        function: Callable[..., Any],
        *arguments: Any,
        longest_s: float = _LONGEST_S,
        heard: Callable[[Any], None] | None = None,
    ) -> Handle:
        """For work that reads a drive and computes. Arguments and result are pickled.

        With `heard`, the function is given one more argument: what it calls that with is heard here meanwhile.
        """
        handle = Handle()
        self._handles.add(handle)
        self._watch(self._waiting.submit(self._ask, handle, function, arguments, longest_s, heard), done, handle)
        return handle

    def _hear(self, heard: Callable[[Any], None], news: Any, handle: Handle) -> None:
        if not self._closed and not handle.given_up:
            heard(news)

    def _ask(
        self,
        handle: Handle,
        function: Callable[..., Any],
        arguments: tuple[Any, ...],
        longest_s: float,
        heard: Callable[[Any], None] | None,
    ) -> Any:
        """In a thread of its own: wait for the answer, the end of the process, or of the time that it has."""
        with self._lock:
            reader = self._idle.pop() if self._idle else None
        if reader is None or not reader.process.is_alive():
            reader = _Reader()
        try:
            if not handle.begin(reader):
                reader.end()
                return None
            reader.ours.send((function, arguments, heard is not None))
            until = time.monotonic() + longest_s
            whole = None
            while whole is None:
                if not reader.ours.poll(max(0.0, until - time.monotonic())):
                    reader.end()
                    return Failure(
                        "The drive was not read to the end in the time that it had; nothing was written.", _GENTLY
                    )
                whole, answer = reader.ours.recv()
                if whole is None:
                    self._news.emit(heard, answer, handle)
        except (EOFError, OSError):
            reader.end()
            return Failure("The reading process ended unexpectedly; nothing was written.", "Try again.")
        finally:
            handle.end()
        with self._lock:
            keep = not self._closed and len(self._idle) < _MOST_IDLE
            if keep:
                self._idle.append(reader)
        if not keep:
            reader.end()
        return answer if whole else Failure(f"Unexpected failure ({answer}); nothing was written.", "Try again.")

    def _watch(self, future: Future[Any], done: Callable[[Any], None], handle: Handle) -> None:
        def ended(finished: Future[Any]) -> None:
            if not finished.cancelled() and not self._closed:
                self._finished.emit(finished, done, handle)

        future.add_done_callback(ended)

    def _answer(self, finished: Future[Any], done: Callable[[Any], None], handle: Handle) -> None:
        self._handles.discard(handle)
        if self._closed or handle.given_up:
            return
        error = finished.exception()
        if error is None:
            done(finished.result())
        else:
            done(Failure(f"Unexpected failure ({type(error).__name__}: {error}); nothing was written.", "Try again."))

    def close(self) -> None:
        """Give up what is still under way; nothing of it writes."""
        self._closed = True
        for handle in list(self._handles):
            handle.give_up()
        self._waiting.shutdown(wait=True, cancel_futures=True)
        with self._lock:
            idle, self._idle = self._idle, []
        for reader in idle:
            reader.end()

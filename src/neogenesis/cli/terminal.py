"""Progress on a terminal: one line that is written anew, and gone when the work has ended. Nothing when piped."""

from __future__ import annotations

import shutil
import sys
import time

import msgspec

from neogenesis.core.units import decimal_text, duration_text
from neogenesis.core.work import Event

_CLEAR = "\r\x1b[2K"
_WORDS = {
    "copy": "copying",
    "verify": "reading back",
    "prepare": "preparing",
    "fill": "putting files together",
    "image": "imaging",
    "rescue": "rescuing",
}
_SECONDS = 0.2


def is_watched() -> bool:
    """Whether a person sits in front of it."""
    return sys.stderr.isatty()


class Terminal:
    """Hears events as JSON lines, as a file of events would."""

    def __init__(self) -> None:
        self._decoder = msgspec.json.Decoder(Event)
        self._shown = 0.0

    def hear(self, line: bytes) -> None:
        event = self._decoder.decode(line)
        if event.event == "progress":
            self._put(progress_text(event))
        elif event.event == "operation" and not event.target:
            self._put(event.text)
        elif event.event == "outcome":
            self.clear()

    def count(self, what: str, done: int, total: int) -> None:
        """As a progress event, for work that tells none; at most five times a second."""
        if done < total:
            self.say(f"{what} {decimal_text(done)} of {decimal_text(total)}, {100 * done // max(1, total)} %")
        else:
            self.clear()

    def say(self, text: str) -> None:
        """Anything else, at most five times a second."""
        if time.monotonic() - self._shown >= _SECONDS:
            self._shown = time.monotonic()
            self._put(text)

    def clear(self) -> None:
        """The line is gone."""
        sys.stderr.write(_CLEAR)
        sys.stderr.flush()

    def _put(self, text: str) -> None:
        width = shutil.get_terminal_size().columns
        sys.stderr.write(_CLEAR + text[: max(20, width - 1)])
        sys.stderr.flush()


def progress_text(event: Event) -> str:
    """What is being done, how much of it is done, how fast, and how long it will still take."""
    share = 100 * event.copied_bytes // max(1, event.total_bytes)
    parts = [
        f"{event.target}: " if event.target else "",
        _WORDS.get(event.phase, event.phase or "working"),
        f" {decimal_text(event.copied_bytes)} of {decimal_text(event.total_bytes)}, {share} %",
    ]
    if event.rate_bytes_per_s:
        parts.append(f", {decimal_text(int(event.rate_bytes_per_s))}/s")
    if event.left_s is not None:
        parts.append(f", {duration_text(event.left_s[0])} to {duration_text(event.left_s[1])} left")
    return "".join(parts)

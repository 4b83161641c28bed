"""Listening to a worker: the file of events that it writes, read as it grows."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import msgspec

from neogenesis.core.work import Event

_DECODER = msgspec.json.Decoder(Event)


class EventFile:
    """Knows how far it has read; a torn last line waits for its rest."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self._offset = 0
        self._rest = b""

    def news(self) -> Iterator[Event]:
        """What was written since the last time."""
        try:
            with self.path.open("rb") as file:
                file.seek(self._offset)
                raw = file.read()
        except OSError:
            return
        self._offset += len(raw)
        *lines, self._rest = (self._rest + raw).split(b"\n")
        for line in lines:
            try:
                yield _DECODER.decode(line)
            except msgspec.MsgspecError:
                continue  # events are a courtesy; the journal is what counts

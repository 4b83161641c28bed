"""The process in which the file listing library runs: started when it is needed, killed when it hangs, started again.

It has no right to anything: it reads volumes by asking this process, which serves it from a sealed store.
"""

from __future__ import annotations

import atexit
import json
import os
import select
import struct
import subprocess
import sys
import threading
import time
from importlib.resources import files
from importlib.util import find_spec
from pathlib import Path
from typing import Any

from neogenesis.core.errors import Damaged
from neogenesis.core.store import MemoryStore, ReadableStore
from neogenesis.core.system import FileTree, ServedStore

_LENGTH = struct.Struct("<I")
_LONGEST = 256 << 20
#: So long the library may think between two messages, and about one command in all, its reads not counted.
_THINKS_SECONDS = 20.0
_COMMAND_SECONDS = 60.0


class ReaderProcess:
    """One process for all volumes that this one looks into. Safe to be used from several threads, one at a time."""

    def __init__(self, thinks_s: float = _THINKS_SECONDS, command_s: float = _COMMAND_SECONDS) -> None:
        self._thinks_s, self._command_s = thinks_s, command_s
        self._lock = threading.RLock()
        self._process: subprocess.Popen[bytes] | None = None
        self._generation = 0
        self._handles = 0

    def open(self, served: ServedStore) -> _Channel:
        """Raises Damaged when the library cannot make anything of the volume."""
        with self._lock:
            if self._process is None or self._process.poll() is not None:
                self._start()
            self._handles += 1
            channel = _Channel(self, self._handles, self._generation, served)
            channel.call("open", served.size_bytes)
            return channel

    def answers(self) -> bool:
        """Whether the process can be started and says something, if only that nothing can be listed."""
        try:
            self.open(ServedStore(MemoryStore(1 << 20, 512))).close()
        except Damaged:
            return self._process is not None  # it is ended at once where it hangs or crashes
        except OSError:
            return False
        return True

    def _start(self) -> None:
        self._generation += 1
        script = str(files("neogenesis.core.system").joinpath("library.py"))
        library = find_spec("pytsk3")
        folder = str(Path(library.origin).parent) if library and library.origin else ""
        self._process = subprocess.Popen(
            [sys.executable, "-I", script, folder],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            stderr=subprocess.DEVNULL,
            bufsize=0,
            start_new_session=True,  # Ctrl+C stops the work at a safe point, not the listing in the middle
        )

    def kill(self) -> None:
        """End it; the next volume gets a new one."""
        process, self._process = self._process, None
        if process is not None:
            process.kill()
            process.wait()
            for pipe in (process.stdin, process.stdout):
                if pipe:
                    pipe.close()

    def call(self, handle: int, generation: int, served: ServedStore, name: str, arguments: tuple[Any, ...]) -> Any:
        with self._lock:
            if generation != self._generation or self._process is None:
                raise Damaged("volume", 0, "its files cannot be listed any more")
            try:
                return self._converse(handle, served, name, arguments)
            except (OSError, ValueError) as error:
                self.kill()
                why = str(error) if isinstance(error, ValueError) else "the listing crashed"
                raise Damaged("volume", 0, f"its files cannot be listed: {why}") from error
            except BaseException as error:
                if not isinstance(error, Damaged):
                    self.kill()  # it still waits for an answer that it will not get
                raise

    def _converse(self, handle: int, served: ServedStore, name: str, arguments: tuple[Any, ...]) -> Any:
        self._send(b"C", json.dumps([handle, name, arguments]).encode())
        left = self._command_s
        while True:
            began = time.monotonic()
            letter, body = self._receive(min(left, self._thinks_s))
            left -= time.monotonic() - began
            if letter == b"R":
                _, offset, length = json.loads(body)
                self._send(b"D", served.read(offset, min(int(length), _LONGEST)))
            elif letter == b"J":
                return json.loads(body)
            elif letter == b"B":
                return body
            elif letter == b"F":
                raise Damaged("volume", 0, "its files cannot be listed")
            else:
                raise ValueError("the listing answers nonsense")

    def _send(self, letter: bytes, body: bytes) -> None:
        assert self._process is not None and self._process.stdin is not None
        view = memoryview(_LENGTH.pack(1 + len(body)) + letter + body)
        while view:
            view = view[os.write(self._process.stdin.fileno(), view) :]

    def _receive(self, seconds: float) -> tuple[bytes, bytes]:
        assert self._process is not None and self._process.stdout is not None
        deadline, source = time.monotonic() + max(0.0, seconds), self._process.stdout.fileno()

        def exactly(length: int) -> bytes:
            found = bytearray()
            while len(found) < length:
                left = deadline - time.monotonic()
                if left <= 0 or not select.select([source], [], [], left)[0]:
                    raise ValueError("the listing does not come to an end")
                piece = os.read(source, length - len(found))
                if not piece:
                    raise BrokenPipeError("it crashed")
                found += piece
            return bytes(found)

        length = _LENGTH.unpack(exactly(_LENGTH.size))[0]
        if not 0 < length <= _LONGEST:
            raise ValueError("the listing answers nonsense")
        body = exactly(length)
        return body[:1], body[1:]


class _Channel:
    """One open volume."""

    def __init__(self, reader: ReaderProcess, handle: int, generation: int, served: ServedStore) -> None:
        self._reader, self._handle, self._generation, self._served = reader, handle, generation, served

    def call(self, name: str, *arguments: Any) -> Any:
        return self._reader.call(self._handle, self._generation, self._served, name, arguments)

    def close(self) -> None:
        try:
            self.call("close")
        except Damaged:
            return  # it is gone already


_reader = ReaderProcess()
atexit.register(_reader.kill)


def reader_answers() -> bool:
    """Whether files of volumes can be listed here at all."""
    return _reader.answers()


def open_tree(store: ReadableStore) -> FileTree:
    """The files of a volume; raises Damaged when they cannot be listed."""
    return FileTree(store, _reader.open)

"""A store shown as a plain file, so that the distribution's filesystem utilities can work on it.

The file lives in a FUSE mount that only this process serves; it vanishes with it. Nothing else is exposed.
"""

from __future__ import annotations

import contextlib
import ctypes
import errno
import os
import shutil
import signal
import stat
import subprocess
import tempfile
import threading
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from neogenesis.core.errors import NeogenesisError, ToolFailed
from neogenesis.core.store import ReadableStore, WritableStore

_NAME = "volume"
_PREFIX = "neogenesis-volume-"
_MOUNT_SECONDS = 10.0
_SIG_IGN = 1


def _operations(store: ReadableStore) -> Any:
    import mfusepy

    class Operations(mfusepy.Operations):  # type: ignore[misc]
        use_ns = True

        def getattr(self, path: str, fh: Any = None) -> dict[str, Any]:
            now = time.time_ns()
            common = {"st_uid": os.getuid(), "st_gid": os.getgid(), "st_atime": now, "st_mtime": now, "st_ctime": now}
            if path == "/":
                return {"st_mode": stat.S_IFDIR | 0o700, "st_nlink": 2, **common}
            if path == f"/{_NAME}":
                return {"st_mode": stat.S_IFREG | 0o600, "st_nlink": 1, "st_size": store.size_bytes, **common}
            raise mfusepy.FuseOSError(errno.ENOENT)

        def readdir(self, path: str, fh: Any) -> list[str]:
            return [".", "..", _NAME]

        def open(self, path: str, flags: Any) -> int:
            return 0

        def read(self, path: str, size: int, offset: int, fh: Any) -> bytes:
            try:
                return store.read(offset, max(0, min(size, store.size_bytes - offset)))
            except NeogenesisError as error:
                raise mfusepy.FuseOSError(errno.EIO) from error

        def write(self, path: str, data: bytes, offset: int, fh: Any) -> int:
            if not isinstance(store, WritableStore):
                raise mfusepy.FuseOSError(errno.EROFS)
            try:
                store.write(offset, data)
            except NeogenesisError as error:
                raise mfusepy.FuseOSError(errno.ENOSPC) from error
            return len(data)

        def truncate(self, path: str, length: int, fh: Any = None) -> int:
            return 0  # the size is the plan's; a utility that trims its file after shrinking changes nothing

        def fsync(self, path: str, datasync: Any, fh: Any) -> int:
            return 0

        def flush(self, path: str, fh: Any) -> int:
            return 0

    return Operations()


@contextlib.contextmanager
def exposed(store: ReadableStore) -> Iterator[Path]:
    """A path at which `store` can be read, and written when it is writable; raises ToolFailed."""
    unmount = shutil.which("fusermount3") or shutil.which("fusermount")
    try:
        import mfusepy
    except (ImportError, OSError) as error:
        raise _unavailable(str(error)) from error
    if not unmount or not Path("/dev/fuse").exists():
        raise _unavailable("the system has no FUSE")
    _take_away(unmount)
    folder = Path(tempfile.mkdtemp(prefix=_PREFIX))
    faults: list[BaseException] = []

    def serve() -> None:
        try:
            mfusepy.FUSE(
                _operations(store),
                str(folder),
                foreground=True,
                nothreads=True,
                fsname="neogenesis",
                default_permissions=True,
            )
        except BaseException as error:  # noqa: BLE001 - handed to the waiting thread below
            faults.append(error)

    here = Path.cwd()
    thread = threading.Thread(target=serve, name="volume-server")
    thread.start()
    path = folder / _NAME
    try:
        deadline = time.monotonic() + _MOUNT_SECONDS
        while not path.exists():
            if faults or not thread.is_alive() or time.monotonic() > deadline:
                raise _unavailable(str(faults[0]) if faults else "it did not start")
            time.sleep(0.01)
        os.chdir(here)  # the library leaves for the root folder when it begins to serve
        yield path
    finally:
        subprocess.run([unmount, "-u", "-z", str(folder)], capture_output=True, check=False)
        thread.join(_MOUNT_SECONDS)
        _ignore_broken_pipes()
        with contextlib.suppress(OSError):
            folder.rmdir()


def _ignore_broken_pipes() -> None:
    """As the interpreter has it. The library leaves the system's default behind when it is done (libfuse,
    `fuse_remove_signal_handlers`), and then a process at the other end of a pipe that crashes would end this one.
    """
    ctypes.CDLL(None).signal(signal.SIGPIPE, _SIG_IGN)


def _take_away(unmount: str) -> None:
    """Take away mounts whose process was killed: they answer “not connected” to anyone who asks."""
    for folder in Path(tempfile.gettempdir()).glob(f"{_PREFIX}*"):
        try:
            folder.stat()
        except OSError as error:
            if error.errno == errno.ENOTCONN:
                subprocess.run([unmount, "-u", "-z", str(folder)], capture_output=True, check=False)
                with contextlib.suppress(OSError):
                    folder.rmdir()


def _unavailable(reason: str) -> ToolFailed:
    return ToolFailed(
        f"A volume could not be shown to the filesystem utilities ({reason}); nothing was written.",
        "Install fuse3, or plan with --grow none.",
    )

"""The emulated machine's screen and keyboard, over the emulator's own control socket (QMP)."""

from __future__ import annotations

import hashlib
import time
from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from qemu.qmp.legacy import QEMUMonitorProtocol

#: Keys as the emulator names them (QKeyCode); in a file of what was pressed, one name, or several with `-`, a line.
_SHORT_NAMES = frozenset("abcdefghijklmnopqrstuvwxyz0123456789")
_LONG_NAMES = frozenset(
    [
        "ret",
        "esc",
        "spc",
        "tab",
        "backspace",
        "delete",
        "up",
        "down",
        "left",
        "right",
        "home",
        "end",
        "pgup",
        "pgdn",
        "shift",
        "ctrl",
        "alt",
        "minus",
        "equal",
        "dot",
        "comma",
        "slash",
        "backslash",
        "semicolon",
        "apostrophe",
        "bracket_left",
        "bracket_right",
        "grave_accent",
    ]
)
KEY_NAMES = _SHORT_NAMES | _LONG_NAMES | {f"f{n}" for n in range(1, 13)}
_MOST_KEYS, _MOST_PICTURES = 4096, 6


class Screen:
    """Pictures of the emulated screen in `path`, and keys out of a file that grows. What fails is left out."""

    def __init__(self, socket: Path, path: Path, keys: Path | None) -> None:
        self._socket, self._path, self._keys = socket, path, keys
        self._monitor: QEMUMonitorProtocol | None = None
        self._sent = 0
        self._seen: list[bytes] = []
        self._since = self._last = time.monotonic()

    @property
    def still_s(self) -> float:
        """How long the screen has shown nothing that it did not show before; a blinking mark is nothing new."""
        return time.monotonic() - self._since

    def watch(self, every_s: float) -> bool:
        """Send what was pressed; take a picture when one is due. Whether one was taken."""
        self._press()
        if time.monotonic() - self._last < every_s:
            return False
        self._last = time.monotonic()
        return self.take()

    def take(self) -> bool:
        """A picture now, in the place of the one before."""
        fresh = self._path.with_name(f".{self._path.name}.new")
        if not self._order("screendump", filename=str(fresh.absolute()), format="png") or not fresh.is_file():
            return False
        mark = hashlib.blake2b(fresh.read_bytes(), digest_size=16).digest()
        if mark not in self._seen:
            self._seen = [*self._seen[-_MOST_PICTURES:], mark]
            self._since = time.monotonic()
        fresh.replace(self._path)
        return True

    def close(self) -> None:
        monitor, self._monitor = self._monitor, None
        if monitor is not None:
            try:
                monitor.close()
            except Exception:  # noqa: BLE001 - the emulator may be gone, and says so in many ways
                return

    def _press(self) -> None:
        if self._keys is None or not self._keys.is_file():
            return
        lines = self._keys.read_text("utf-8", "replace").split("\n")[:-1][:_MOST_KEYS]
        for line in lines[self._sent :]:
            names = [name for name in line.strip().split("-") if name in KEY_NAMES]
            if names:
                self._order("send-key", keys=[{"type": "qcode", "data": name} for name in names])
                self._since = time.monotonic()
        self._sent = len(lines)

    def _order(self, command: str, **arguments: object) -> bool:
        from qemu.qmp.error import QMPError
        from qemu.qmp.legacy import QEMUMonitorProtocol

        try:
            if self._monitor is None:
                monitor = QEMUMonitorProtocol(str(self._socket))
                monitor.settimeout(5)
                monitor.connect(negotiate=True)
                self._monitor = monitor
            self._monitor.cmd(command, **arguments)
        except (QMPError, OSError, TimeoutError):
            return False
        return True

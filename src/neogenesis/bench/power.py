"""Making a drive safe to pull out: everything on its medium, then its power off, and words for how far that went.

Power is switched by the system's disk service (UDisks2 over D-Bus), with the desktop's own authorisation.
"""

from __future__ import annotations

import os
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from jeepney import DBusAddress, DBusErrorResponse, MessageType, new_method_call
from jeepney.io.blocking import DBusConnection, open_dbus_connection

from neogenesis.bench.drives import SIMULATED_SUFFIX
from neogenesis.bench.mounts import in_use
from neogenesis.core.errors import Refused
from neogenesis.core.store import device

_SERVICE, _ROOT = "org.freedesktop.UDisks2", "/org/freedesktop/UDisks2"
_SECONDS = 30.0


@dataclass(frozen=True, slots=True)
class Parting:
    """Whether the drive is without power now, and what a person must know before pulling it out."""

    powered_off: bool
    text: str


def make_safe(name: str) -> Parting:
    """Flush a drive and switch it off where that can be done. Raises Refused while it is in use."""
    path = Path(name)
    if name.endswith(SIMULATED_SUFFIX):
        return Parting(
            True, "Everything is on the medium and the simulated drive is switched off; it may be pulled out."
        )
    if not path.is_block_device():
        return Parting(False, "Everything is on the medium; an image file needs nothing more.")
    mounted = in_use(path)
    if mounted:
        raise Refused("mounted", f"“{name}” is in use ({mounted}) and must not be pulled out yet.", "Unmount it first.")
    _flush(path)
    why = _power_off(path)
    if not why:
        return Parting(True, "Everything is on the medium and the drive is switched off; it may be pulled out.")
    return Parting(
        False,
        f"Everything is on the medium. The system cannot switch this drive off ({why}): switch its dock off first.",
    )


def _flush(path: Path) -> None:
    descriptor = os.open(path, os.O_RDONLY | os.O_CLOEXEC)
    try:
        os.fsync(descriptor)
        device.drop_buffers(descriptor)
    except OSError:
        return  # no right to ask; the transfer has synced everything that it wrote
    finally:
        os.close(descriptor)


def _power_off(path: Path) -> str:
    """Ask the disk service; empty when the drive has no power now, else why not."""
    try:
        connection = open_dbus_connection("SYSTEM")
    except (OSError, KeyError, ValueError):
        return "there is no disk service"
    with connection:
        try:
            found = _call(
                connection,
                DBusAddress(f"{_ROOT}/Manager", _SERVICE, f"{_SERVICE}.Manager"),
                "ResolveDevice",
                "a{sv}a{sv}",
                ({"path": ("s", str(path.resolve()))}, {}),
            )[0]
            if not found:
                return "the disk service does not know it"
            block = DBusAddress(found[0], _SERVICE, "org.freedesktop.DBus.Properties")
            drive = _call(connection, block, "Get", "ss", (f"{_SERVICE}.Block", "Drive"))[0][1]
            if drive == "/":
                return "it is no drive of its own"
            _call(connection, DBusAddress(drive, _SERVICE, f"{_SERVICE}.Drive"), "PowerOff", "a{sv}", ({},))
        except DBusErrorResponse as error:
            return str(error.data[0]).rstrip(".") if error.data else error.name
        except (OSError, TimeoutError):
            return "the disk service does not answer"
    return ""


def _call(connection: DBusConnection, address: DBusAddress, method: str, signature: str, body: tuple[Any, ...]) -> Any:
    reply = connection.send_and_get_reply(new_method_call(address, method, signature, body), timeout=_SECONDS)
    if reply.header.message_type == MessageType.error:
        raise DBusErrorResponse(reply)
    return reply.body

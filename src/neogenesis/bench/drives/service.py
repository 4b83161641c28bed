"""The desktop's disk service (UDisks2 over D-Bus): it opens drives for people who are not root, and switches them off.

The desktop's own authorisation decides; a password may be asked for there. Source: the UDisks2 reference, interfaces
Manager, Block and Drive.
"""

from __future__ import annotations

import fcntl
import os
from pathlib import Path
from typing import Any

from jeepney import DBusAddress, DBusErrorResponse, MessageType, new_method_call
from jeepney.io.blocking import DBusConnection, open_dbus_connection

_SERVICE, _ROOT = "org.freedesktop.UDisks2", "/org/freedesktop/UDisks2"
_SECONDS = 30.0
#: A person may have to type a password first.
_SECONDS_WITH_A_PERSON = 300.0


def power_off(path: Path) -> str:
    """Ask for a drive to be switched off; empty when it has no power now, else why not."""
    try:
        connection = open_dbus_connection("SYSTEM")
    except (OSError, KeyError, ValueError):
        return "there is no disk service"
    with connection:
        try:
            found = _block_of(connection, path)
            if not found:
                return "the disk service does not know it"
            block = DBusAddress(found, _SERVICE, "org.freedesktop.DBus.Properties")
            drive = _call(connection, block, "Get", "ss", (f"{_SERVICE}.Block", "Drive"))[0][1]
            if drive == "/":
                return "it is no drive of its own"
            _call(connection, DBusAddress(drive, _SERVICE, f"{_SERVICE}.Drive"), "PowerOff", "a{sv}", ({},))
        except DBusErrorResponse as error:
            return str(error.data[0]).rstrip(".") if error.data else error.name
        except (OSError, TimeoutError):
            return "the disk service does not answer"
    return ""


def open_device(path: Path, flags: int) -> int | None:
    """A descriptor of the device, opened by the service with `flags`; None where it cannot or may not.

    Raises OSError as an ordinary open would, where the service says why.
    """
    try:
        connection = open_dbus_connection("SYSTEM", enable_fds=True)
    except (OSError, KeyError, ValueError):
        return None
    with connection:
        try:
            found = _block_of(connection, path)
            if not found:
                return None
            address = DBusAddress(found, _SERVICE, f"{_SERVICE}.Block")
            mode = "rw" if flags & os.O_RDWR else "r"
            more = flags & (os.O_EXCL | os.O_DIRECT) | os.O_CLOEXEC
            options = {"flags": ("i", more)}
            given = _call(connection, address, "OpenDevice", "sa{sv}", (mode, options), _SECONDS_WITH_A_PERSON)[0]
            descriptor = int(given.to_raw_fd())
        except DBusErrorResponse as error:
            words = str(error.data[0]) if error.data else ""
            if "busy" in words.casefold():
                raise OSError(16, os.strerror(16)) from error
            return None
        except (OSError, TimeoutError):
            return None
    if flags & os.O_DIRECT and not fcntl.fcntl(descriptor, fcntl.F_GETFL) & os.O_DIRECT:
        os.close(descriptor)  # an older service opens without it
        return None
    return descriptor


def _block_of(connection: DBusConnection, path: Path) -> str:
    """The object path of a device, empty when the service does not know it."""
    manager = DBusAddress(f"{_ROOT}/Manager", _SERVICE, f"{_SERVICE}.Manager")
    found = _call(connection, manager, "ResolveDevice", "a{sv}a{sv}", ({"path": ("s", str(path.resolve()))}, {}))[0]
    return str(found[0]) if found else ""


def _call(
    connection: DBusConnection,
    address: DBusAddress,
    method: str,
    signature: str,
    body: tuple[Any, ...],
    seconds: float = _SECONDS,
) -> Any:
    reply = connection.send_and_get_reply(new_method_call(address, method, signature, body), timeout=seconds)
    if reply.header.message_type == MessageType.error:
        raise DBusErrorResponse(reply)
    return reply.body

"""The system's message bus."""

from __future__ import annotations

from jeepney.io.blocking import DBusConnection, open_dbus_connection


def system_bus(descriptors: bool = False) -> DBusConnection | None:
    """A connection of its own, with `descriptors` one that can hand over open files; None where there is no bus."""
    try:
        return open_dbus_connection("SYSTEM", enable_fds=descriptors)
    except (OSError, KeyError, ValueError):
        return None

"""Keeps the computer awake while work runs: a lock of the session manager, held as long as its descriptor is open.

Source: the reference of org.freedesktop.login1, Manager.Inhibit. Where nobody answers, work goes on without.
"""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import contextmanager

from jeepney import DBusAddress, MessageType, new_method_call
from jeepney.io.blocking import open_dbus_connection

_SERVICE, _PATH = "org.freedesktop.login1", "/org/freedesktop/login1"
_WHAT = "sleep:shutdown:handle-lid-switch"
_SECONDS = 3.0


@contextmanager
def kept_awake(why: str) -> Iterator[bool]:
    """No sleep and no shutdown in the meantime; yields whether that is so."""
    descriptor = _lock(why)
    try:
        yield descriptor is not None
    finally:
        if descriptor is not None:
            os.close(descriptor)


def _lock(why: str) -> int | None:
    manager = DBusAddress(_PATH, _SERVICE, f"{_SERVICE}.Manager")
    call = new_method_call(manager, "Inhibit", "ssss", (_WHAT, "Neogenesis", why, "block"))
    try:
        with open_dbus_connection("SYSTEM", enable_fds=True) as connection:
            reply = connection.send_and_get_reply(call, timeout=_SECONDS)
            if reply.header.message_type == MessageType.error:
                return None
            return int(reply.body[0].to_raw_fd())
    except (OSError, KeyError, ValueError, IndexError, TimeoutError):
        return None

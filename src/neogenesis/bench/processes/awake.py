"""Keeps the computer awake while work runs: a lock of the session manager, held as long as its descriptor is open.

Source: the reference of org.freedesktop.login1, Manager.Inhibit. Where nobody answers, work goes on without.
"""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import contextmanager

from jeepney import DBusAddress, MessageType, new_method_call

from neogenesis.bench.processes.bus import system_bus

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
    connection = system_bus(descriptors=True)
    if connection is None:
        return None
    try:
        with connection:
            reply = connection.send_and_get_reply(call, timeout=_SECONDS)
            if reply.header.message_type == MessageType.error:
                return None
            return int(reply.body[0].to_raw_fd())
    except (OSError, ValueError, IndexError, TimeoutError):
        return None

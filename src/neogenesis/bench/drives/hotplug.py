"""Hears from the disk service when a drive comes or goes, so that nobody has to look."""

from __future__ import annotations

import threading
from collections.abc import Callable

from jeepney import DBusAddress, MatchRule, MessageType, new_method_call
from jeepney.bus_messages import message_bus
from jeepney.io.blocking import DBusConnection

from neogenesis.bench.drives.service import ROOT, SERVICE
from neogenesis.bench.processes.bus import system_bus

_OBJECTS = "org.freedesktop.DBus.ObjectManager"
_PROPERTIES = "org.freedesktop.DBus.Properties"
_SECONDS = 5.0


def listen(changed: Callable[[], object]) -> bool:
    """Call `changed` from a thread of its own whenever a drive appears or vanishes; False where there is no service."""
    connection = system_bus()
    if connection is None:
        return False
    try:
        manager = DBusAddress(f"{ROOT}/Manager", SERVICE, "org.freedesktop.DBus.Peer")
        reply = connection.send_and_get_reply(new_method_call(manager, "Ping"), timeout=_SECONDS)
        if reply.header.message_type == MessageType.error:
            connection.close()
            return False
        for rule in _rules():
            connection.send_and_get_reply(message_bus.AddMatch(rule), timeout=_SECONDS)
    except (OSError, TimeoutError):
        connection.close()
        return False
    threading.Thread(target=_hear, args=(connection, changed), daemon=True, name="hotplug").start()
    return True


def _rules() -> list[MatchRule]:
    """Drives that come and go; and those that stay while their medium does, as card readers and loops do."""
    rules = [
        MatchRule(type="signal", interface=_OBJECTS, member=member, path=ROOT)
        for member in ("InterfacesAdded", "InterfacesRemoved")
    ]
    medium = MatchRule(type="signal", interface=_PROPERTIES, member="PropertiesChanged", path_namespace=ROOT)
    medium.add_arg_condition(0, f"{SERVICE}.Block")
    return [*rules, medium]


def _hear(connection: DBusConnection, changed: Callable[[], object]) -> None:
    """Until the bus goes away."""
    try:
        while True:
            if connection.receive().header.message_type == MessageType.signal:
                changed()
    except (OSError, EOFError, RuntimeError):
        connection.close()

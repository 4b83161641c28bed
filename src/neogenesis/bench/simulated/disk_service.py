"""A stand-in for the system's disk service on a bus of one's own: it knows some devices and takes orders to switch off.

`python -m neogenesis.bench.simulated.disk_service DEVICE...`, with DBUS_SYSTEM_BUS_ADDRESS naming the bus. Each device
that was switched off is printed, a line each.
"""

from __future__ import annotations

import sys

from jeepney import Message, MessageType, new_error, new_method_return
from jeepney.bus_messages import message_bus
from jeepney.io.blocking import open_dbus_connection
from jeepney.low_level import HeaderFields

_SERVICE, _ROOT = "org.freedesktop.UDisks2", "/org/freedesktop/UDisks2"


def answer(call: Message, devices: list[str]) -> Message:
    """The reply to one method call; devices are known by their place in the list."""
    fields = call.header.fields
    member, path = fields.get(HeaderFields.member), str(fields.get(HeaderFields.path))
    if member == "ResolveDevice":
        wanted = call.body[0]["path"][1]
        known = [f"{_ROOT}/block_devices/d{n}" for n, name in enumerate(devices) if name == wanted]
        return new_method_return(call, "ao", (known,))
    if member == "Get" and "/block_devices/" in path:
        return new_method_return(call, "v", (("o", path.replace("block_devices", "drives")),))
    if member == "PowerOff" and "/drives/d" in path:
        sys.stdout.write(devices[int(path.rpartition("d")[2])] + "\n")
        sys.stdout.flush()
        return new_method_return(call)
    return new_error(call, "org.freedesktop.DBus.Error.UnknownMethod", "s", (f"{member} is not simulated",))


def main() -> None:
    """Serve until the bus goes away."""
    with open_dbus_connection("SYSTEM") as connection:
        connection.send_and_get_reply(message_bus.RequestName(_SERVICE))
        sys.stdout.write("ready\n")
        sys.stdout.flush()
        while True:
            call = connection.receive()
            if call.header.message_type == MessageType.method_call:
                connection.send(answer(call, sys.argv[1:]))


if __name__ == "__main__":
    main()

"""A stand-in for the desktop's authorisation on a bus of one's own: it says yes to whoever asks.

`python -m neogenesis.bench.simulated.authority`, with DBUS_SYSTEM_BUS_ADDRESS naming the bus. Each action that somebody
was allowed is printed, a line each.
"""

from __future__ import annotations

import sys

from jeepney import Message, MessageType, new_error, new_method_return
from jeepney.bus_messages import message_bus
from jeepney.io.blocking import open_dbus_connection
from jeepney.low_level import HeaderFields

_PROPERTIES = {"BackendName": ("s", "stand-in"), "BackendVersion": ("s", "0"), "BackendFeatures": ("u", 0)}


def answer(call: Message) -> Message:
    """The reply to one method call."""
    member = call.header.fields.get(HeaderFields.member)
    if member == "CheckAuthorization":
        sys.stdout.write(f"{call.body[1]}\n")
        sys.stdout.flush()
        return new_method_return(call, "(bba{ss})", ((True, False, {}),))
    if member == "GetAll":
        return new_method_return(call, "a{sv}", (_PROPERTIES,))
    return new_error(call, "org.freedesktop.DBus.Error.UnknownMethod", "s", (f"{member} is not simulated",))


def main() -> None:
    """Serve until the bus goes away."""
    with open_dbus_connection("SYSTEM") as connection:
        connection.send_and_get_reply(message_bus.RequestName("org.freedesktop.PolicyKit1"))
        sys.stdout.write("ready\n")
        sys.stdout.flush()
        while True:
            call = connection.receive()
            if call.header.message_type == MessageType.method_call:
                connection.send(answer(call))


if __name__ == "__main__":
    main()

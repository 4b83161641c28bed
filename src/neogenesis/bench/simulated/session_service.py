"""A stand-in for the session manager on a bus of one's own: it gives locks against sleep, and says when one is let go.

`python -m neogenesis.bench.simulated.session_service`, with DBUS_SYSTEM_BUS_ADDRESS naming the bus. It prints `held`
with what is held off, for whom and why, and `released`, a line each.
"""

from __future__ import annotations

import os
import sys
import threading

from jeepney import MessageType, new_error, new_method_return
from jeepney.bus_messages import message_bus
from jeepney.io.blocking import open_dbus_connection
from jeepney.low_level import HeaderFields


def _say(*words: str) -> None:
    sys.stdout.write(" ".join(words) + "\n")
    sys.stdout.flush()


def _wait_for_release(reading: int) -> None:
    os.read(reading, 1)  # ends when the last copy of the other side is closed
    os.close(reading)
    _say("released")


def main() -> None:
    """Serve until the bus goes away."""
    with open_dbus_connection("SYSTEM", enable_fds=True) as connection:
        connection.send_and_get_reply(message_bus.RequestName("org.freedesktop.login1"))
        _say("ready")
        while True:
            call = connection.receive()
            if call.header.message_type != MessageType.method_call:
                continue
            if call.header.fields.get(HeaderFields.member) != "Inhibit":
                connection.send(new_error(call, "org.freedesktop.DBus.Error.UnknownMethod"))
                continue
            reading, writing = os.pipe()
            connection.send(new_method_return(call, "h", (writing,)))
            os.close(writing)
            _say("held", *call.body)
            threading.Thread(target=_wait_for_release, args=(reading,), daemon=True).start()


if __name__ == "__main__":
    main()

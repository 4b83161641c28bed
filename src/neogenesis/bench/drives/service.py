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
from jeepney.io.blocking import DBusConnection

from neogenesis.bench.processes.bus import system_bus
from neogenesis.core.drive import Attribute, HealthReading
from neogenesis.core.drive.smart import reading_of_attributes

SERVICE, ROOT = "org.freedesktop.UDisks2", "/org/freedesktop/UDisks2"
_SECONDS = 30.0
#: A person may have to type a password first.
_SECONDS_WITH_A_PERSON = 300.0


def power_off(path: Path) -> str:
    """Ask for a drive to be switched off; empty when it has no power now, else why not."""
    connection = system_bus()
    if connection is None:
        return "there is no disk service"
    with connection:
        try:
            found = _block_of(connection, path)
            if not found:
                return "the disk service does not know it"
            drive = _drive_of(connection, found)
            if not drive:
                return "it is no drive of its own"
            _call(connection, DBusAddress(drive, SERVICE, f"{SERVICE}.Drive"), "PowerOff", "a{sv}", ({},))
        except DBusErrorResponse as error:
            return str(error.data[0]).rstrip(".") if error.data else error.name
        except (OSError, TimeoutError):
            return "the disk service does not answer"
    return ""


def open_device(path: Path, flags: int) -> int | None:
    """A descriptor of the device, opened by the service with `flags`; None where it cannot or may not.

    Raises OSError as an ordinary open would, where the service says why.
    """
    connection = system_bus(descriptors=True)
    if connection is None:
        return None
    with connection:
        try:
            found = _block_of(connection, path)
            if not found:
                return None
            address = DBusAddress(found, SERVICE, f"{SERVICE}.Block")
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


def health(path: Path) -> HealthReading | None:
    """What the service has read of a drive's own readings, without asking the drive anew; None where it has none."""
    connection = system_bus()
    if connection is None:
        return None
    with connection:
        try:
            found = _block_of(connection, path)
            if not found:
                return None
            drive = _drive_of(connection, found)
            if not drive:
                return None
            for kind, read in ((f"{SERVICE}.Drive.Ata", ata_reading), (f"{SERVICE}.NVMe.Controller", nvme_reading)):
                address = DBusAddress(drive, SERVICE, "org.freedesktop.DBus.Properties")
                facts = {
                    name: value[1] for name, value in _call(connection, address, "GetAll", "s", (kind,))[0].items()
                }
                if not facts.get("SmartUpdated"):
                    continue
                options = {"nowakeup": ("b", True)}
                asked = DBusAddress(drive, SERVICE, kind)
                return read(facts, _call(connection, asked, "SmartGetAttributes", "a{sv}", (options,))[0])
        except (DBusErrorResponse, OSError, TimeoutError, KeyError, IndexError, TypeError, ValueError):
            return None
    return None


def ata_reading(facts: dict[str, Any], rows: list[tuple[Any, ...]]) -> HealthReading:
    """Rows are (id, name, flags, value, worst, threshold, pretty, unit, more) as the service gives them."""
    attributes = tuple(
        Attribute(
            number=row[0],
            name=str(row[1]).replace("-", " "),
            value=row[3] if row[3] >= 0 else None,
            worst=row[4] if row[4] >= 0 else None,
            threshold=row[5] if row[5] >= 0 else None,
            raw=row[6] if row[6] >= 0 else None,
            failed="now" if 0 <= row[3] <= row[5] and row[5] > 0 else ("past" if 0 <= row[4] <= row[5] > 0 else ""),
        )
        for row in rows
    )
    kelvin, seconds = facts.get("SmartTemperature", 0.0), facts.get("SmartPowerOnSeconds", 0)
    return reading_of_attributes(
        attributes,
        temperature_c=round(kelvin - 273.15, 1) if kelvin else None,
        power_on_hours=seconds // 3600 if seconds else None,
        self_assessment=not facts.get("SmartFailing", False),
        failed_self_tests=1 if str(facts.get("SmartSelftestStatus", "")).startswith("error") else 0,
    )


def nvme_reading(facts: dict[str, Any], given: dict[str, Any]) -> HealthReading:
    """`given` are the attributes of the health log as the service names them, each a variant."""
    values = {name: value[1] for name, value in given.items()}
    bits = {"spare": 1, "temperature": 2, "degraded": 4, "readonly": 8, "volatile_mem": 16, "pmr_readonly": 32}
    kelvin = facts.get("SmartTemperature", 0)
    return HealthReading(
        temperature_c=round(kelvin - 273.15, 1) if kelvin else None,
        power_on_hours=facts.get("SmartPowerOnHours"),
        critical_warning=sum(bits.get(str(word), 0) for word in facts.get("SmartCriticalWarning", [])),
        spare_percent=values.get("avail_spare"),
        spare_threshold_percent=values.get("spare_thresh"),
        wear_percent=values.get("percent_used"),
        media_errors=values.get("media_errors", 0),
        written_bytes=values.get("total_data_written"),
    )


def _drive_of(connection: DBusConnection, block: str) -> str:
    """The object path of the drive that a block device is on, empty when it is none of its own."""
    address = DBusAddress(block, SERVICE, "org.freedesktop.DBus.Properties")
    found = str(_call(connection, address, "Get", "ss", (f"{SERVICE}.Block", "Drive"))[0][1])
    return "" if found == "/" else found


def _block_of(connection: DBusConnection, path: Path) -> str:
    """The object path of a device, empty when the service does not know it."""
    manager = DBusAddress(f"{ROOT}/Manager", SERVICE, f"{SERVICE}.Manager")
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

"""Lists of hardware: our own record, or one of the listings that other systems print.

Identifiers are written as the NT family writes them (`PCI\\VEN_8086&DEV_A0EF&SUBSYS_…&REV_…`), the more exact ones
first. Sources: its published rules for identifiers of PCI, USB and HD-audio devices; the aliases of the Linux kernel
(`include/linux/mod_devicetable.h`, `scripts/mod/file2alias.c`); the outputs of `lspci -nn` and `lsusb`.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from typing import ClassVar, Literal

import msgspec

from neogenesis.core.errors import BadRecord
from neogenesis.core.record import StrictRecord, strict_from_json

Architecture = Literal["amd64", "x86", "arm64"]
_MOST_DEVICES, _MOST_IDS, _LARGEST = 4096, 512, 16 << 20

_PCI = re.compile(
    r"pci:v0*([0-9A-F]{4})d0*([0-9A-F]{4})sv0*([0-9A-F]{4})sd0*([0-9A-F]{4})bc([0-9A-F]{2})sc([0-9A-F]{2})i([0-9A-F]{2})",
    re.I,
)
_USB = re.compile(
    r"usb:v([0-9A-F]{4})p([0-9A-F]{4})d([0-9A-F]{4})dc[0-9A-F]{2}dsc[0-9A-F]{2}dp[0-9A-F]{2}"
    r"ic([0-9A-F]{2})isc([0-9A-F]{2})ip([0-9A-F]{2})(?:in([0-9A-F]{2}))?",
    re.I,
)
_AUDIO = re.compile(r"hdaudio:v([0-9A-F]{4})([0-9A-F]{4})r([0-9A-F]{8})a", re.I)
_LSPCI = re.compile(
    r"^(?:[0-9a-f]{4}:)?[0-9a-f]{2}:[0-9a-f]{2}\.[0-7] (?P<class>[^\[\]]*)\[(?P<code>[0-9a-f]{4})\]: (?P<name>.*)"
    r"\[(?P<vendor>[0-9a-f]{4}):(?P<device>[0-9a-f]{4})\](?: \(rev (?P<rev>[0-9a-f]{2})\))?",
    re.I,
)
_SUBSYSTEM = re.compile(r"^\s+Subsystem: .*\[([0-9a-f]{4}):([0-9a-f]{4})\]", re.I)
_LSUSB = re.compile(r"^Bus \d+ Device \d+: ID ([0-9a-f]{4}):([0-9a-f]{4})\s*(.*)$", re.I)
_ID = re.compile(
    r"(?:PCI|USB|ACPI|HDAUDIO|HID|USBSTOR|SCSI|BTHENUM|ROOT|SWC|DISPLAY|MONITOR|PCMCIA|SD|I2C)\\[^\s,;\"']+", re.I
)


class Device(StrictRecord, frozen=True, kw_only=True):
    """`hardware_ids` and `compatible_ids` are in the order in which the system asks for them.

    `class_name` is what the system calls its kind; `modalias` the alias that a Linux kernel looks for.
    """

    name: str = ""
    class_name: str = msgspec.field(name="class", default="")
    hardware_ids: tuple[str, ...] = ()
    compatible_ids: tuple[str, ...] = ()
    has_driver: bool = False
    modalias: str = ""

    @property
    def title(self) -> str:
        return self.name or next(iter((*self.hardware_ids, *self.compatible_ids, self.modalias)), "")


class Hardware(StrictRecord, frozen=True, kw_only=True):
    """`system_version` is that of the system that will be installed, such as 10.0.19045."""

    SCHEMA: ClassVar[str] = "neogenesis.hardware/1"

    schema: str = SCHEMA
    architecture: Architecture = "amd64"
    system_version: str = "10.0"
    devices: tuple[Device, ...] = ()

    def version(self) -> tuple[int, int, int]:
        """Major, minor, build; raises BadRecord for text that is none."""
        found = re.fullmatch(r"\s*(\d{1,9})(?:\.(\d{1,9}))?(?:\.(\d{1,9}))?(?:\.\d{1,9})?\s*", self.system_version)
        if found is None:
            raise BadRecord(
                f"“{self.system_version[:40]}” is no version of a system.", "Write it as numbers, such as 10.0.19045."
            )
        major, minor, build = (int(part or 0) for part in found.groups())
        return major, minor, build


def read_hardware(data: bytes, what: str = "hardware list") -> Hardware:
    """Our own record, or any of the listings; raises BadRecord."""
    if len(data) > _LARGEST:
        raise BadRecord(f"The {what} is too large to be one.", "Give the right file.")
    if data.lstrip()[:1] == b"{":
        found = strict_from_json(data, Hardware, what)
    else:
        found = Hardware(devices=tuple(_listed(_text(data))))
        if not found.devices:
            raise BadRecord(
                f"No device is named in the {what}.",
                "Give a record, modalias files, what lspci -nn or lsusb print, or an export with device identifiers.",
            )
    if len(found.devices) > _MOST_DEVICES or any(
        len(d.hardware_ids) + len(d.compatible_ids) > _MOST_IDS for d in found.devices
    ):
        raise BadRecord(f"The {what} names more devices than any machine has.", "Give the right file.")
    found.version()
    return found


def _text(data: bytes) -> str:
    if data[:2] in (b"\xff\xfe", b"\xfe\xff"):
        return data.decode("utf-16", "replace")
    return data.decode("utf-8-sig", "replace")


def _listed(text: str) -> Iterator[Device]:
    lines = text.replace("\r", "").split("\n")
    seen: set[tuple[str, ...]] = set()
    for device in _of_lines(lines):
        key = (*device.hardware_ids, *device.compatible_ids, device.modalias)
        if key not in seen:
            seen.add(key)
            yield device


def _of_lines(lines: list[str]) -> Iterator[Device]:
    named = ""
    for n, line in enumerate(lines):
        stripped = line.strip().removeprefix("MODALIAS=")
        if found := from_modalias(stripped):
            yield found
        elif match := _LSPCI.match(line):
            subsystem = _SUBSYSTEM.match(lines[n + 1]) if n + 1 < len(lines) else None
            yield _pci(
                match["vendor"],
                match["device"],
                (subsystem[2] + subsystem[1]) if subsystem else "",
                match["code"],
                match["rev"] or "",
                match["name"].strip(),
                match["class"].strip(),
            )
        elif match := _LSUSB.match(line):
            yield Device(name=match[3].strip(), hardware_ids=(f"USB\\VID_{match[1]}&PID_{match[2]}".upper(),))
        elif ids := _ID.findall(line):
            yield Device(name=named, hardware_ids=tuple(i.upper() for i in ids))
            named = ""
        elif ":" in line and "\\" not in line:
            named = line.split(":", 1)[1].strip() or named


def from_modalias(alias: str) -> Device | None:
    """A device from the alias that a Linux kernel gives it; None for one of another kind."""
    if match := _PCI.match(alias):
        vendor, device, sub_vendor, sub_device, base, sub, interface = match.groups()
        subsystem = "" if sub_vendor + sub_device == "00000000" else sub_device + sub_vendor
        made = _pci(vendor, device, subsystem, base + sub + interface, "", "", "")
        return msgspec.structs.replace(made, modalias=alias)
    if match := _USB.match(alias):
        vendor, product, revision, ic, isc, ip, number = match.groups()
        base = f"USB\\VID_{vendor}&PID_{product}"
        ids = [f"{base}&REV_{revision}&MI_{number}", f"{base}&MI_{number}"] if number else []
        ids += [f"{base}&REV_{revision}", base]
        kinds = (f"Class_{ic}&SubClass_{isc}&Prot_{ip}", f"Class_{ic}&SubClass_{isc}", f"Class_{ic}")
        return Device(hardware_ids=_upper(ids), compatible_ids=tuple(f"USB\\{k}" for k in kinds), modalias=alias)
    if match := _AUDIO.match(alias):
        base = f"HDAUDIO\\FUNC_01&VEN_{match[1]}&DEV_{match[2]}"
        return Device(class_name="MEDIA", hardware_ids=_upper([base]), modalias=alias)
    if alias.startswith("acpi:"):
        names = [n for n in alias[5:].split(":") if n]
        ids = [form for n in names for form in (f"ACPI\\{n}", f"*{n}")]
        return Device(hardware_ids=_upper(ids), modalias=alias) if ids else None
    return None


def _upper(ids: Iterable[str]) -> tuple[str, ...]:
    return tuple(i.upper() for i in ids)


def _pci(vendor: str, device: str, subsystem: str, code: str, revision: str, name: str, class_name: str) -> Device:
    """The identifiers that the NT family makes of a PCI device, in its order; `code` has four or six digits."""
    base = f"PCI\\VEN_{vendor}&DEV_{device}"
    ids = []
    if subsystem:
        ids += [f"{base}&SUBSYS_{subsystem}&REV_{revision}"] if revision else []
        ids.append(f"{base}&SUBSYS_{subsystem}")
    whole, short = (code, code[:4]) if len(code) == 6 else ("", code)
    ids += [f"{base}&CC_{whole}"] if whole else []
    ids.append(f"{base}&CC_{short}")
    compatible = [f"{base}&REV_{revision}"] if revision else []
    compatible += [base]
    compatible += [f"PCI\\VEN_{vendor}&CC_{c}" for c in (whole, short) if c]
    compatible += [f"PCI\\VEN_{vendor}", *(f"PCI\\CC_{c}" for c in (whole, short) if c)]
    return Device(name=name, class_name=class_name, hardware_ids=_upper(ids), compatible_ids=_upper(compatible))

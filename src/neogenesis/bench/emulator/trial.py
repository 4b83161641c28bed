"""One trial: an emulated machine with the drives in its slots, its serial text, and what that proves."""

from __future__ import annotations

import ctypes
import os
import re
import shutil
import signal
import subprocess
import time
from collections.abc import Callable, Sequence
from contextlib import ExitStack
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import ClassVar

import msgspec

from neogenesis.bench.drives import OpenDrive, open_sealed, same_bytes
from neogenesis.bench.emulator.monitor import Screen
from neogenesis.bench.emulator.variables import entries_in, store_with
from neogenesis.bench.processes.exposed import exposed
from neogenesis.bench.processes.scratch import scratch
from neogenesis.core.boot.drives import is_usb
from neogenesis.core.boot.entries import BootList
from neogenesis.core.errors import BadRecord, Refused, ToolFailed
from neogenesis.core.machine import Machine
from neogenesis.core.record import Record
from neogenesis.core.table import read_table

_FIRMWARE = (
    ("/usr/share/OVMF/OVMF_CODE_4M.fd", "/usr/share/OVMF/OVMF_VARS_4M.fd"),
    ("/usr/share/OVMF/OVMF_CODE.fd", "/usr/share/OVMF/OVMF_VARS.fd"),
)
_MEMORY_MIB = 384
_FIRST_SLOT = 4
_POLL_S, _PICTURE_S = 0.05, 0.5
#: After a loader ran and nothing more is said or shown for so long, nothing more is waited for.
_QUIET_S = 6.0
#: A firmware that has said nothing for so long does not run.
_SILENT_S = 2.5
_LARGEST_SERIAL = 1 << 20
#: What the drives bring along may take over the emulator: it starts no other programs and gets no rights.
_CONFINED = ("-sandbox", "on,obsolete=deny,elevateprivileges=deny,spawn=deny,resourcecontrol=deny")
_STARTING = re.compile(rb"BdsDxe: starting Boot([0-9A-F]{4}) \"([^\"]*)\" from ([^\r\n]*)")
_OWN = (b"UiApp", b"EFI Internal Shell", b"BootManagerMenuApp", b"PXE", b"HTTP")
_GIVEN_UP = b"No bootable option or device was found"
_LEGACY_RAN, _LEGACY_GAVE_UP = b"Booting from 0000:7c00", b"No bootable device"
_DOES_NOT_PROVE = (
    "Drivers of the real machine.",
    "The real firmware's own order and settings.",
    "Licences and activation.",
)


class TrialAnswer(Record, frozen=True, kw_only=True):
    """`started` is the drive that the firmware handed on to, as it was named; empty where that cannot be told.

    `firmware_list` is what the firmware's own variable store held at the end.
    """

    SCHEMA: ClassVar[str] = "neogenesis.trial-boot/1"

    schema: str = SCHEMA
    loader_ran: bool
    seen: str | None
    seconds: float
    serial: str
    started: str = ""
    mode: str = "uefi"
    firmware_list: BootList | None = None
    proves: tuple[str, ...] = ()
    does_not_prove: tuple[str, ...] = _DOES_NOT_PROVE


@dataclass
class Trial:
    """What is tried. `hardware` asks for hardware virtualisation; `tell` hears the serial text, `stop` ends it.

    With `live`, the picture in `screenshot` is taken anew each half second and `tell` hears an empty text of it; keys
    that are written to the file `keys`, one a line, are pressed.
    """

    drives: Sequence[str]
    machine: Machine | None = None
    legacy: bool = False
    expect: str = ""
    seconds: float = 90.0
    screenshot: Path | None = None
    live: bool = False
    keys: Path | None = None
    hardware: bool = False
    stop: Callable[[], bool] = lambda: False
    tell: Callable[[str], None] = lambda text: None


def try_drives(
    drives: Sequence[str],
    machine: Machine | None,
    legacy: bool,
    expect: str,
    picture: Path,
    keys: Path,
    tell: Callable[[str], None],
) -> TrialAnswer:
    """For the window, as a Trial that is live. Raises NeogenesisError."""
    return run_trial(Trial(drives, machine, legacy, expect, screenshot=picture, live=True, keys=keys, tell=tell))


def firmware_files() -> tuple[str, str] | None:
    """The emulated firmware and its empty variables; None where the system has none."""
    return next((pair for pair in _FIRMWARE if all(Path(p).is_file() for p in pair)), None)


def run_trial(trial: Trial) -> TrialAnswer:
    """Start the drives and watch. Raises ToolFailed when the emulator is missing or does not run."""
    qemu = shutil.which("qemu-system-x86_64")
    if qemu is None:
        raise ToolFailed("The emulator qemu-system-x86_64 is missing; nothing was started.", "Install qemu-system-x86.")
    firmware = firmware_files()
    if firmware is None and not trial.legacy:
        raise ToolFailed("The emulated firmware is missing; nothing was started.", "Install the package ovmf.")
    if trial.machine is not None and trial.machine.architecture not in (None, "x86_64", "amd64", "x64", "x86"):
        raise Refused(
            "architecture",
            f"Machines of the architecture {trial.machine.architecture} are not emulated here; nothing was started.",
            "Look at the forecast instead.",
        )
    with ExitStack() as stack:
        folder = stack.enter_context(scratch("trial"))
        slots: list[str] = []
        marks: list[frozenset[str]] = []
        for n, name in enumerate(trial.drives):
            opened = open_sealed(name)
            stack.callback(opened.close)
            table = read_table(opened.store, opened.drive.sector_size)
            marks.append(frozenset(p.unique_id.casefold() for p in table.partitions))
            slots += _drive(n, opened, stack.enter_context(exposed(opened.store)), trial)
        confined = _CONFINED if _can_confine(qemu) else ()
        for way in _ways(trial.hardware):
            found = _watched([qemu, *confined, *way, *_machine(trial, firmware, folder), *slots], trial, folder)
            if found is not None:
                return _with_started(_with_list(found, folder / "variables.fd"), trial, marks)
        raise ToolFailed("The emulator says nothing at all; nothing was started.", "Install qemu-system-x86 anew.")


@cache
def _can_confine(qemu: str) -> bool:
    """Whether this emulator was built so that it can give up what it does not need."""
    asked = [qemu, *_CONFINED, "-version"]
    done = subprocess.run(asked, capture_output=True, stdin=subprocess.DEVNULL, check=False, timeout=20)
    return done.returncode == 0


def _ways(hardware: bool) -> list[list[str]]:
    """With hardware virtualisation only where it was asked for: what is offered does not always work."""
    plain = ["-accel", "tcg"]
    return [["-accel", "kvm"], plain] if hardware and os.access("/dev/kvm", os.R_OK | os.W_OK) else [plain]


def _machine(trial: Trial, firmware: tuple[str, str] | None, folder: Path) -> list[str]:
    found = ["-nodefaults", "-no-user-config", "-machine", "q35", "-m", str(_MEMORY_MIB)]
    found += ["-smp", "1", "-nic", "none", "-display", "none", "-no-reboot"]
    found += ["-vga", "none" if trial.screenshot is None and not trial.legacy else "std"]  # a screen takes a second
    found += ["-serial", f"file:{folder / 'serial'}", "-qmp", f"unix:{folder / 'qmp'},server=on,wait=off"]
    if trial.legacy or firmware is None:
        log = f"file,id=log,path={folder / 'bios'}"
        return [*found, "-chardev", log, "-device", "isa-debugcon,iobase=0x402,chardev=log"]
    variables = folder / "variables.fd"
    empty = Path(firmware[1]).read_bytes()
    listed = trial.machine if _has_entries(trial) else None
    variables.write_bytes(store_with(empty, listed) if listed is not None else empty)
    return [
        *found,
        *("-drive", f"if=pflash,unit=0,format=raw,readonly=on,file={firmware[0]}"),
        *("-drive", f"if=pflash,unit=1,format=raw,file={variables}"),
    ]


def _drive(n: int, opened: OpenDrive, path: Path, trial: Trial) -> list[str]:
    """One drive in slot `n`, behind an overlay that is thrown away; a stick on a USB socket of its own there."""
    size = opened.drive.sector_size
    node = f"if=none,id=d{n},format=raw,file.driver=file,file.filename={path},file.locking=off,snapshot=on,cache=unsafe"
    place = f"addr={_FIRST_SLOT + n:#x}"
    found = ["-drive", node]
    if _is_stick(trial, trial.drives[n]):
        found += ["-device", f"qemu-xhci,id=u{n},{place}"]
        device = f"usb-storage,bus=u{n}.0,removable=on,drive=d{n}"
    else:
        device = f"virtio-blk-pci,drive=d{n},{place}"
    device += f",logical_block_size={size},physical_block_size={size}"
    if trial.legacy or not (_has_entries(trial) or any(_is_stick(trial, name) for name in trial.drives)):
        device += f",bootindex={n}"  # else the firmware's own order is what is tried
    return [*found, "-device", device]


def _has_entries(trial: Trial) -> bool:
    return trial.machine is not None and bool(trial.machine.boot_entries)


def _is_stick(trial: Trial, name: str) -> bool:
    slots = trial.machine.slots if trial.machine is not None else ()
    return any(is_usb(slot.name) and (slot.drive == name or same_bytes(slot.drive, name)) for slot in slots)


def _watched(command: list[str], trial: Trial, folder: Path) -> TrialAnswer | None:
    """None where hardware virtualisation was asked for and the firmware has said nothing for a while."""
    begun, by_hardware = time.monotonic(), "kvm" in command
    serial, log = folder / "serial", folder / "bios"
    for file in (serial, log, folder / "qmp"):
        file.unlink(missing_ok=True)
    process = subprocess.Popen(
        command,
        stdin=subprocess.DEVNULL,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.PIPE,
        start_new_session=True,
        env={**os.environ, "TMPDIR": str(folder)},
        preexec_fn=_end_with_us,
    )
    text, since, ran, told = b"", time.monotonic(), False, 0
    screen = Screen(folder / "qmp", trial.screenshot, trial.keys) if trial.screenshot is not None else None
    try:
        while time.monotonic() - begun < trial.seconds and not trial.stop():
            time.sleep(_POLL_S)
            new = _read(serial)
            if new != text:
                text, since = new, time.monotonic()
                trial.tell(_words(text)[told:])
                told = len(_words(text))
            if screen is not None and trial.live and screen.watch(_PICTURE_S):
                trial.tell("")
            ran = _has_run(text, _read(log), trial.legacy)
            if trial.expect and trial.expect.encode() in text:
                break
            if by_hardware and not text and not _read(log) and time.monotonic() - begun > _SILENT_S:
                return None
            if len(text) >= _LARGEST_SERIAL:  # it says something without end
                break
            if process.poll() is not None or _is_over(text, _read(log), trial.legacy):
                break
            still_s = screen.still_s if screen is not None and trial.live else _QUIET_S + 1
            if ran and not trial.expect and time.monotonic() - since > _QUIET_S and still_s > _QUIET_S:
                break
        if screen is not None and process.poll() is None:
            screen.take()
    finally:
        if screen is not None:
            screen.close()
        if process.poll() is None:
            process.kill()
        errors = process.communicate()[1].decode("utf-8", "replace").strip()
    text = _read(serial)
    if process.returncode not in (0, -9) and not text:
        if by_hardware:
            return None
        raise ToolFailed(
            f"The emulator ended at once ({errors.splitlines()[-1][:200] if errors else process.returncode}).",
            "Try again; if it stays so, install qemu-system-x86 anew.",
        )
    return _answer(trial, text, _read(log), time.monotonic() - begun)


def _end_with_us() -> None:
    """When this process is killed, the emulator goes too (prctl PR_SET_PDEATHSIG)."""
    ctypes.CDLL(None).prctl(1, signal.SIGKILL)


def _read(path: Path) -> bytes:
    try:
        with path.open("rb") as file:
            return file.read(_LARGEST_SERIAL)
    except OSError:
        return b""


def _words(text: bytes) -> str:
    """Without the escape sequences of a terminal."""
    plain = re.sub(rb"\x1b\[[0-9;?=]*[A-Za-z]", b"", text).decode("utf-8", "replace").replace("\r", "")
    return "".join(c if c.isprintable() or c in "\n\t" else "\ufffd" for c in plain)


def _starts(text: bytes) -> list[tuple[bytes, bytes]]:
    """Titles and paths of what the firmware handed on to, but for programs of its own."""
    return [(m[2], m[3]) for m in _STARTING.finditer(text) if not any(own in m[2] for own in _OWN)]


def _has_run(text: bytes, log: bytes, legacy: bool) -> bool:
    return _LEGACY_RAN in log if legacy else bool(_starts(text))


def _is_over(text: bytes, log: bytes, legacy: bool) -> bool:
    """The firmware found nothing, or went on to a program of its own."""
    if legacy:
        return _LEGACY_GAVE_UP in log
    own = [m for m in _STARTING.finditer(text) if any(o in m[2] for o in _OWN)]
    return _GIVEN_UP in text or bool(own)


def _answer(trial: Trial, text: bytes, log: bytes, seconds: float) -> TrialAnswer:
    ran = _has_run(text, log, trial.legacy)
    seen = trial.expect if trial.expect and trial.expect.encode() in text else None
    proves = []
    if ran:
        proves.append("The firmware found the loader and started it.")
    if seen is not None:
        proves.append(f"“{seen}” was said: the loader went on that far, and could read where that stands.")
    return TrialAnswer(
        loader_ran=ran,
        seen=seen,
        seconds=round(seconds, 1),
        serial=_words(text),
        started=trial.drives[0] if trial.legacy and ran and trial.drives else "",
        mode="legacy" if trial.legacy else "uefi",
        proves=tuple(proves),
    )


def _with_started(answer: TrialAnswer, trial: Trial, marks: Sequence[frozenset[str]]) -> TrialAnswer:
    """With the drive that the last start came from: by its slot, or by the identity of its partition."""
    starts = _starts(answer.serial.encode())
    path = starts[-1][1].decode("utf-8", "replace") if starts else ""
    slot = re.search(r"Pci\(0x([0-9A-Fa-f]+),0x0\)", path)
    part = re.search(r"HD\(\d+,GPT,([0-9A-Fa-f-]{36})", path)
    place = int(slot[1], 16) - _FIRST_SLOT if slot is not None else -1
    if slot is None and part is not None:
        place = next((n for n, ids in enumerate(marks) if part[1].casefold() in ids), -1)
    known = 0 <= place < len(trial.drives)
    return msgspec.structs.replace(answer, started=trial.drives[place]) if known else answer


def _with_list(answer: TrialAnswer, variables: Path) -> TrialAnswer:
    """With what the firmware's own store held at the end; it may have added entries, and takes away a next start."""
    try:
        return msgspec.structs.replace(answer, firmware_list=entries_in(variables.read_bytes()))
    except (OSError, BadRecord):
        return answer

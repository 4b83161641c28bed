"""What a loader does once the firmware has started it: where it reads its menu or store, which system it reaches."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, field

from neogenesis.core.boot.answer import BootFinding, Link
from neogenesis.core.boot.drives import BootDrive, Place
from neogenesis.core.boot.entry_files import EntryFile, default_of, entries_of
from neogenesis.core.boot.grub import MISSING, THERE, GrubRun
from neogenesis.core.boot.program import Program
from neogenesis.core.boot.root import system_of
from neogenesis.core.boot.store import STORES, read_store, referred

_NT_LOADER = "microsoft/boot/bootmgfw.efi"
_DEEPEST = 4
_BESIDE = {"x86_64": "grubx64.efi", "x86": "grubia32.efi", "arm64": "grubaa64.efi"}
_FALLBACKS = {"x86_64": "fbx64.efi", "x86": "fbia32.efi", "arm64": "fbaa64.efi"}
_LARGEST_LIST = 1 << 16


@dataclass
class Reached:
    """`broke` is the step at which it does not go on; `used` are volumes that it reads.

    `returned` tells that the program gives up and the firmware goes on with what comes next; `stands_in` that what it
    shows is taken for a system.
    """

    links: list[Link] = field(default_factory=list)
    broke: str = ""
    used: list[Place] = field(default_factory=list)
    findings: list[BootFinding] = field(default_factory=list)
    returned: bool = False
    stands_in: bool = False

    @property
    def starts(self) -> bool | None:
        if self.broke or self.returned:
            return False
        return None if any(link.ok is None for link in self.links) else True


def follow(
    drives: Sequence[BootDrive], home: Place, path: str, program: Program, architecture: str, depth: int = 0
) -> Reached:
    """From a program that was started at `path` of `home`."""
    if depth > _DEEPEST:
        return Reached(
            broke="loader", links=[Link(step="loader", text="Loaders start each other in a circle", ok=False)]
        )
    if ".linux" in program.sections:
        return _follow_unified(drives, home, program)
    if program.is_grub:
        return _follow_grub(drives, home, path, program, architecture, depth)
    if "systemd-boot" in program.names:
        return _follow_entries(drives, home, architecture, depth)
    drive, facts = home
    store = next((s for s in STORES if drive.find(facts.number, s) is not None), None)
    if path.replace("\\", "/").casefold().endswith(_NT_LOADER) or store is not None:
        return follow_store(drives, home)
    if "shim" in program.names:
        return _follow_shim(drives, home, path, architecture, depth)
    if "systemd-stub" in program.names:
        text = "The program carries no kernel, and gives up"
        return Reached(links=[_at(home, "kernel", text, False)], returned=True)
    return Reached(links=[_at(home, "system", "What this program starts cannot be told from here", None)])


def _at(place: Place, step: str, text: str, ok: bool | None = True) -> Link:
    drive, facts = place
    return Link(step=step, text=text, ok=ok, drive=drive.name, partition=facts.number)


def _follow_grub(
    drives: Sequence[BootDrive], home: Place, path: str, program: Program, architecture: str, depth: int
) -> Reached:
    run = GrubRun(drives, home, architecture, entry_files="blscfg" in program.names)
    return reached_by(run, program, drives, architecture, depth, path.replace("\\", "/").rpartition("/")[0])


def reached_by(
    run: GrubRun, program: Program, drives: Sequence[BootDrive], architecture: str, depth: int = 0, folder: str = ""
) -> Reached:
    """What a loader of that family comes to, by the scripts that are built in and those on the drives."""
    if program.memory_config:
        inside = program.prefix.removeprefix("(memdisk)").strip("/") if program.prefix.startswith("(memdisk)") else ""
        run.memory_files = {f"{inside or 'boot/grub'}/grub.cfg": program.memory_config}
    run.start(program.config, program.prefix, folder)
    doubts = [_doubt(text) for text in run.doubtful]
    reached = Reached(run.links, run.broke, run.used, [*doubts, *run.findings], run.returned, run.shows)
    if run.chained is not None and not reached.broke:
        if run.platform != "efi":
            reached.links.append(Link(step="loader", text="What this program starts cannot be told from here", ok=None))
        else:
            _chain(drives, run.chained, architecture, depth, reached)
    return reached


def _doubt(text: str) -> BootFinding:
    return BootFinding(code="ambiguous", severity="caution", text=text, remedy="Give one of them new identities.")


def _chain(
    drives: Sequence[BootDrive], found: tuple[Place, str], architecture: str, depth: int, reached: Reached
) -> None:
    """One loader starts another one."""
    (drive, facts), path = found
    _, program = drive.program(facts.number, path)
    ok = program is not None and program.architecture == architecture
    text = f"Starts {path}" if ok else f"{path} is no program for this machine"
    reached.links.append(_at(found[0], "loader", text, ok))
    if program is None or not ok:
        reached.broke = "loader"
        return
    more = follow(drives, (drive, facts), path, program, architecture, depth + 1)
    reached.links += more.links
    reached.used += [(drive, facts), *more.used]
    reached.findings += more.findings
    reached.broke, reached.returned = more.broke, more.returned


def _follow_shim(drives: Sequence[BootDrive], home: Place, path: str, architecture: str, depth: int) -> Reached:
    """It starts the loader beside it; on the fallback path first the one that a list names."""
    reached = Reached()
    drive, facts = home
    folder = path.replace("\\", "/").rpartition("/")[0]
    lister = drive.find(facts.number, f"{folder}/{_FALLBACKS.get(architecture, 'fbx64.efi')}")
    if folder.strip("/").casefold() == "efi/boot" and lister is not None:
        listed = _listed(home)
        if listed:
            _chain(drives, (home, listed), architecture, depth, reached)
            return reached
    beside = f"{folder}/{_BESIDE.get(architecture, 'grubx64.efi')}"
    _chain(drives, (home, beside), architecture, depth, reached)
    return reached


def _listed(home: Place) -> str:
    """The first program that a list of a system's folder names; empty without one."""
    drive, facts = home
    for folder in drive.names(facts.number, "EFI"):
        for name in drive.names(facts.number, f"EFI/{folder}"):
            if re.fullmatch(r"boot\w*\.csv", name.casefold()) is None:
                continue
            data = drive.read(facts.number, f"EFI/{folder}/{name}", _LARGEST_LIST) or b""
            first = data.decode("utf-16", "replace").split(",")[0].strip("\ufeff \r\n\0")
            if first:
                return f"/EFI/{folder}/{first}"
    return ""


def follow_store(drives: Sequence[BootDrive], home: Place) -> Reached:
    """The NT family's manager: store, default entry, its partition, its loader there."""
    drive, facts = home
    reached = Reached()
    tree = drive.tree(facts.number)
    path = next((found for s in STORES if (found := drive.find(facts.number, s)) is not None), None)
    store = read_store(tree, path) if tree is not None and path is not None else None
    if store is None or store.first is None:
        text = "There is no boot store" if path is None else "The boot store cannot be read, or starts nothing"
        reached.links.append(Link(step="store", text=text, ok=False, drive=drive.name, partition=facts.number))
        reached.broke = "store"
        return reached
    first = store.first
    title = first.title or first.id
    reached.links.append(Link(step="store", text=f"Entry “{title}”", drive=drive.name, partition=facts.number))
    places = referred(drives, first.system_device)
    if not places:
        reached.links.append(
            Link(step="system", text="The entry refers to a partition that is on none of the drives", ok=False)
        )
        reached.broke = "system"
        return reached
    if len(places) > 1:
        reached.findings.append(
            BootFinding(
                code="two-of-one",
                severity="caution",
                text="The system's partition is there twice with one identity; the family takes one drive offline.",
                remedy="Take the old drive out, or give one of them new identities.",
            )
        )
    system, volume = places[0]
    loader = first.path.replace("\\", "/")
    ok = not loader or system.find(volume.number, loader) is not None
    text = f"Starts the system on {volume.title}" if ok else f"{first.path} is not on {volume.title}"
    reached.links.append(Link(step="system", text=text, ok=ok, drive=system.name, partition=volume.number))
    reached.used.append((system, volume))
    reached.broke = "" if ok else "system"
    return reached


def _follow_entries(drives: Sequence[BootDrive], home: Place, architecture: str, depth: int) -> Reached:
    """A loader with one file for each entry."""
    drive, facts = home
    settings = (drive.read(facts.number, "loader/loader.conf", 1 << 16) or b"").decode("utf-8", "replace")
    fields = [line.split(None, 1) for line in settings.splitlines() if not line.lstrip().startswith("#")]
    default = next((f[1].strip() for f in reversed(fields) if len(f) == 2 and f[0] == "default"), "")
    chosen = default_of(entries_of(home, architecture), default)
    if chosen is not None:
        return _start_entry(drives, chosen, architecture, depth)
    if drive.find(facts.number, f"EFI/{_NT_LOADER}") is not None:  # found by itself, and the only thing in the menu
        reached = Reached()
        _chain(drives, (home, f"/EFI/{_NT_LOADER}"), architecture, depth, reached)
        return reached
    return Reached(links=[_at(home, "menu", "There is no entry whose files are there", False)], returned=True)


def _start_entry(drives: Sequence[BootDrive], one: EntryFile, architecture: str, depth: int) -> Reached:
    place = one.place
    reached = Reached(links=[_at(place, "menu", f"Entry {one.name}")])
    if one.program:
        _chain(drives, (place, f"/{one.program}"), architecture, depth, reached)
        return reached
    drive, facts = place
    reached.used.append(place)
    if one.first("efi") and not one.first("linux"):
        _chain(drives, (place, one.first("efi")), architecture, depth, reached)
        reached.returned = reached.broke == "loader"  # the loader says so, and gives up
        return reached
    kernel = one.first("linux")
    _, program = drive.program(facts.number, kernel)
    able = program is not None and program.architecture == architecture
    text = THERE["kernel"].format(kernel) if able else f"{kernel} is no kernel for this machine"
    reached.links.append(_at(place, "kernel", text, able))
    if not able:
        reached.broke, reached.returned = "kernel", True
        return reached
    for name in one.all("initrd"):
        there = drive.find(facts.number, name) is not None
        reached.links.append(_at(place, "initrd", (THERE if there else MISSING)["initrd"].format(name), there))
        if not there:
            reached.broke, reached.returned = "initrd", True
            return reached
    _root(drives, place, " ".join(one.all("options")), bool(one.all("initrd")), reached)
    return reached


def _follow_unified(drives: Sequence[BootDrive], home: Place, program: Program) -> Reached:
    """Kernel, ramdisk and command line in one program."""
    reached = Reached(links=[_at(home, "kernel", "Kernel inside the program")])
    _root(drives, home, program.command_line, ".initrd" in program.sections, reached)
    return reached


def _root(drives: Sequence[BootDrive], home: Place, options: str, has_ramdisk: bool, reached: Reached) -> None:
    if "root=" not in options:
        return
    links, findings = system_of(drives, options, home, has_ramdisk)
    reached.links += links
    reached.findings += findings
    reached.broke = next((link.step for link in links if link.ok is False), "")

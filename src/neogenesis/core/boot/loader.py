"""What a loader does once the firmware has started it: where it reads its menu or store, which system it reaches."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

from neogenesis.core.boot.answer import BootFinding, Link
from neogenesis.core.boot.drives import BootDrive, Place
from neogenesis.core.boot.grub import MISSING, THERE, GrubRun, root_link
from neogenesis.core.boot.program import Program, read_program
from neogenesis.core.boot.store import STORES, read_store, referred

_NT_LOADER = "microsoft/boot/bootmgfw.efi"
_DEEPEST = 4


@dataclass
class Reached:
    """`broke` is the step at which it does not go on; `used` are volumes that it reads."""

    links: list[Link] = field(default_factory=list)
    broke: str = ""
    used: list[Place] = field(default_factory=list)
    findings: list[BootFinding] = field(default_factory=list)


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
        return _follow_grub(drives, home, program, architecture, depth)
    if "systemd-boot" in program.names:
        return _follow_entries(drives, home, architecture, depth)
    drive, facts = home
    store = next((s for s in STORES if drive.find(facts.number, s) is not None), None)
    if path.replace("\\", "/").casefold().endswith(_NT_LOADER) or store is not None:
        return follow_store(drives, home)
    if "shim" in program.names:
        return _follow_shim(drives, home, path, architecture, depth)
    return Reached()


def _follow_grub(drives: Sequence[BootDrive], home: Place, program: Program, architecture: str, depth: int) -> Reached:
    run = GrubRun(drives, home)
    run.variables["cmdpath"] = f"({run.variables['root']})"
    run.variables["prefix"] = program.prefix
    if program.config:
        run.run(program.config)
    if program.memory_config and not _is_over(run):
        run.run(program.memory_config)
    elif not _is_over(run) and program.prefix and not program.prefix.startswith("(memdisk)"):
        prefix = run.variables.get("prefix", program.prefix)
        if not prefix.startswith("("):
            prefix = f"({run._device(home)}){prefix}"  # the prefix is on the volume that it was started from
        run._configfile(f"{prefix}/grub.cfg", 0)
    reached = Reached(run.links, run.broke, run.used, [_doubt(text) for text in run.doubtful])
    if run.chained is not None and not reached.broke:
        _chain(drives, run.chained, architecture, depth, reached)
    return reached


def _is_over(run: GrubRun) -> bool:
    reached = any(link.step == "system" and link.ok for link in run.links)
    return bool(run.broke or run.booted or run.ended or run.chained or reached)


def _doubt(text: str) -> BootFinding:
    return BootFinding(code="ambiguous", severity="caution", text=text, remedy="Give one of them new identities.")


def _chain(
    drives: Sequence[BootDrive], found: tuple[Place, str], architecture: str, depth: int, reached: Reached
) -> None:
    """One loader starts another one."""
    (drive, facts), path = found
    data = drive.read(facts.number, path)
    program = read_program(data) if data is not None else None
    ok = program is not None and program.architecture == architecture
    text = f"Starts {path}" if ok else f"{path} is no program for this machine"
    reached.links.append(Link(step="loader", text=text, ok=ok, drive=drive.name, partition=facts.number))
    if program is None or not ok:
        reached.broke = "loader"
        return
    more = follow(drives, (drive, facts), path, program, architecture, depth + 1)
    reached.links += more.links
    reached.used += [(drive, facts), *more.used]
    reached.findings += more.findings
    reached.broke = more.broke


def _follow_shim(drives: Sequence[BootDrive], home: Place, path: str, architecture: str, depth: int) -> Reached:
    """It starts the loader beside it."""
    reached = Reached()
    folder = path.replace("\\", "/").rpartition("/")[0]
    names = {"x86_64": "grubx64.efi", "x86": "grubia32.efi", "arm64": "grubaa64.efi"}
    _chain(drives, (home, f"{folder}/{names.get(architecture, 'grubx64.efi')}"), architecture, depth, reached)
    return reached


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
    """A loader with one file for each entry. Source: Boot Loader Specification, types 1 and 2."""
    drive, facts = home
    reached = Reached()
    settings = (drive.read(facts.number, "loader/loader.conf", 1 << 16) or b"").decode("utf-8", "replace")
    default = next(
        (line.split(None, 1)[1].strip() for line in settings.splitlines() if line.startswith("default ")), ""
    )
    names = [n for n in drive.names(facts.number, "loader/entries") if n.endswith(".conf")]
    unified = [n for n in drive.names(facts.number, "EFI/Linux") if n.casefold().endswith(".efi")]
    wanted = default.removesuffix(".conf").rstrip("*")
    chosen = next((n for n in sorted(names, reverse=True) if wanted and n.startswith(wanted)), None)
    chosen = chosen or (sorted(names, reverse=True)[0] if names else None)
    if chosen is None and unified:
        _chain(drives, (home, f"EFI/Linux/{unified[-1]}"), architecture, depth, reached)
        return reached
    if chosen is None:
        reached.links.append(
            Link(step="menu", text="There is no entry", ok=False, drive=drive.name, partition=facts.number)
        )
        reached.broke = "menu"
        return reached
    text = (drive.read(facts.number, f"loader/entries/{chosen}", 1 << 16) or b"").decode("utf-8", "replace")
    fields = [line.split(None, 1) for line in text.splitlines() if line.strip() and not line.startswith("#")]
    reached.links.append(Link(step="menu", text=f"Entry {chosen}", drive=drive.name, partition=facts.number))
    options = " ".join(f[1] for f in fields if f[0] == "options" and len(f) > 1)
    for key, step in (("linux", "kernel"), ("initrd", "initrd"), ("efi", "loader")):
        for f in fields:
            if f[0] == key and len(f) > 1:
                there = drive.find(facts.number, f[1].strip()) is not None
                said = (THERE if there else MISSING)[step].format(f[1].strip())
                reached.links.append(Link(step=step, text=said, ok=there, drive=drive.name, partition=facts.number))
                if not there:
                    reached.broke = step
                    return reached
    _root(drives, home, options, reached)
    return reached


def _follow_unified(drives: Sequence[BootDrive], home: Place, program: Program) -> Reached:
    """Kernel, ramdisk and command line in one program."""
    drive, facts = home
    reached = Reached(
        links=[Link(step="kernel", text="Kernel inside the program", drive=drive.name, partition=facts.number)]
    )
    _root(drives, home, program.command_line, reached)
    return reached


def _root(drives: Sequence[BootDrive], home: Place, options: str, reached: Reached) -> None:
    wanted = next((word[5:] for word in options.split() if word.startswith("root=")), "")
    if wanted:
        link = root_link(drives, wanted, home)
        reached.links.append(link)
        reached.broke = "" if link.ok else "system"

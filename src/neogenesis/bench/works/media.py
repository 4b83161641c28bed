"""Installers onto sticks: the gates, writing as files, testing a stick's size, trying it."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Sequence
from contextlib import suppress
from dataclasses import replace
from pathlib import Path

import msgspec
from blake3 import blake3

from neogenesis.bench.drives import Connected
from neogenesis.bench.emulator import Trial, run_trial
from neogenesis.bench.inside.discs import DiscFile, disc_files, disc_folders, opened_disc, senseless, unpacked
from neogenesis.bench.inside.laying import LaidOut
from neogenesis.bench.processes.utilities import run_tool
from neogenesis.bench.register import Asked, Consent, claimed
from neogenesis.bench.works.installing import fresh_target, recipe_of
from neogenesis.bench.works.planning import new_id
from neogenesis.bench.works.system_files import scratch_folder, verify_volume
from neogenesis.bench.works.volumes import make_volume
from neogenesis.core.errors import BadArgument, BadRecord, Mismatch, NeogenesisError, Refused, ToolFailed
from neogenesis.core.machine import Machine
from neogenesis.core.media import Inspected, Probed, probe_full, probe_quick
from neogenesis.core.media.inspected import FAT_MOST, Layout, starts_as, unsuitable
from neogenesis.core.plan import Plan
from neogenesis.core.plan.fresh import Filling, make_fresh_plan
from neogenesis.core.plan.model import SystemImage, Target
from neogenesis.core.plan.recipe import RecipeWishes
from neogenesis.core.plan.steps import MakeVolume
from neogenesis.core.reinstall.names import name_key, nameable
from neogenesis.core.store import WritableStore
from neogenesis.core.transfer.prepare import Told
from neogenesis.core.units import both_text, round_up
from neogenesis.core.work import work_hash

_SPLIT_MIB = "3800"
_SECTOR = 512
#: An emulated machine is waited for so long until its loader runs.
_TRIED_SECONDS = 60.0


def refuse_unfit(found: Inspected, machine: Machine | None, layout: Layout) -> None:
    """Raises Refused for an image that is not what its checksum says, or that will not start."""
    name = Path(found.path).name
    if found.checksum == "mismatch":
        raise Refused(
            "checksum", f"“{name}” is not what {found.checksum_file} says; nothing was written.", "Fetch it again."
        )
    why = unsuitable(found, machine, layout)
    if why and layout == "sectors" and found.files_start and not unsuitable(found, machine, "files"):
        raise Refused("machine", f"“{name}”: {why} Nothing was written.", "Write its files instead: --layout files.")
    if why:
        raise Refused("machine", f"“{name}”: {why} Nothing was written.", "Take an image for this machine.")
    if layout == "files" and found.kind != "disc":
        raise Refused(
            "layout", f"“{name}” is an image of a drive; nothing was written.", "Write it with --layout sectors."
        )
    if layout == "files" and not found.has_loader:
        raise Refused(
            "layout",
            f"The files of “{name}” hold no loader that UEFI looks for; nothing was written.",
            "Write it with --layout sectors.",
        )


def refuse_unknown(found: Inspected, drives: Sequence[str]) -> None:
    """Raises Refused for a file that is no image that is known here, onto a drive that holds anything."""
    if found.kind != "unknown":
        return
    for drive in drives:
        held = fresh_target(drive).holds
        if held or found.size_bytes < _SECTOR:
            why = f"and “{drive}” holds {held[0]}" if held else "and smaller than a sector"
            raise Refused(
                "no-image",
                f"“{Path(found.path).name}” is neither the image of a disc nor that of a drive, {why}; nothing was "
                "written.",
                "Give the right file, or a stick that holds nothing.",
            )


def fitting_layout(found: Inspected) -> Layout:
    """Sector for sector where that starts from a stick, else as files: what the window does by itself."""
    return "files" if found.kind == "disc" and not found.hybrid and found.has_loader else "sectors"


def plan_files(found: Inspected, image: Path, plain: Path, target: Target) -> Plan:
    """A plan for a stick with the files of a disc image on one FAT volume; raises Refused.

    `plain` is the image unpacked; the plan names it as it is, so that it can be gone on with.
    """
    files = list(disc_files(plain))
    _refuse_names(files)
    odd = next((f for f in files if f.size_bytes > FAT_MOST and not f.name.casefold().endswith(".wim")), None)
    if odd is not None:
        raise Refused(
            "too-large",
            f"“{odd.name}” has {both_text(odd.size_bytes)}, more than FAT holds, and cannot be split; "
            "nothing was written.",
            "Write the image with --layout sectors.",
        )
    taken = sum(round_up(f.size_bytes, 32 << 10) + 4096 for f in files)
    with image.open("rb") as file:
        digest = hashlib.file_digest(file, blake3).hexdigest()  # type: ignore[arg-type]
    source = SystemImage(
        path=str(image.absolute()), digest=digest, size_bytes=found.size_bytes, name=found.label, form="disc"
    )
    filling = Filling(source, {"startup": taken}, b"", b"", {"startup": len(files)})
    return make_fresh_plan(recipe_of("stick"), RecipeWishes(), target, new_id, filling)


def _refuse_names(files: Sequence[DiscFile]) -> None:
    """Raises Refused for what FAT cannot hold by its name, so that nothing is left out."""
    bad = [one.name for one in files if any(nameable(part, "nt") != part for part in one.name.split("/"))]
    seen: dict[str, str] = {}
    for one in files:
        if seen.setdefault(name_key(one.name, "nt"), one.name) != one.name:
            bad.append(one.name)
    if bad:
        more = f" and {len(bad) - 1} more" if len(bad) > 1 else ""
        raise Refused(
            "names",
            f"“{bad[0][:120]}”{more} cannot have that name on FAT; nothing was written.",
            "Write the image with --layout sectors.",
        )


class DiscFiles:
    """Fills a FAT volume with the files of a disc image."""

    def __init__(self, image: SystemImage, scratch: Path, check: Callable[[], None]) -> None:
        self._path, self._scratch, self._check = Path(image.path), scratch, check
        try:
            with self._path.open("rb") as file:
                digest = hashlib.file_digest(file, blake3).hexdigest()  # type: ignore[arg-type]
        except OSError as error:
            raise Refused(
                "image-changed", f"The image “{self._path}” is gone; nothing was written.", "Plan again."
            ) from error
        if digest != image.digest:
            raise Refused(
                "image-changed",
                f"The image “{self._path.name}” is not the one that the plan was made for; nothing was written.",
                "Plan again with this one.",
            )

    def notes(self) -> list[str]:
        return []  # all of it goes onto the stick, or it is refused

    def make(self, path: Path, store: WritableStore, step: MakeVolume, start_bytes: int, told: Told) -> None:
        """Make the volume with the files, and read them back. Raises ToolFailed or BadRecord."""
        made = LaidOut()
        with scratch_folder(self._scratch) as folder, unpacked(self._path) as (plain, _):
            for name in self._taken_out(plain, folder):
                told((folder / name).stat().st_size)
                with (folder / name).open("rb") as file:
                    made.digests[name] = hashlib.file_digest(file, blake3).digest()  # type: ignore[arg-type]
            make_volume(store, step, start_bytes, laid_out=folder, file=path)
        verify_volume(store, made, told, "vfat")

    def _taken_out(self, plain: Path, folder: Path) -> list[str]:
        """All files, in the scratch folder; what is too large for FAT in parts. Returns their names."""
        files = list(disc_files(plain))
        for name in disc_folders(plain):
            (folder / name).mkdir(parents=True, exist_ok=True)
        disc = opened_disc(plain)
        names = []
        try:
            for one in files:
                self._check()
                place = folder / one.name
                place.parent.mkdir(parents=True, exist_ok=True)
                kind, _, inner = one.place.partition("=")
                if one.size_bytes:
                    disc.get_file_from_iso(str(place), **{kind: inner})
                else:
                    place.touch()
                if place.stat().st_size != one.size_bytes:
                    raise BadRecord(
                        f"“{one.name[:120]}” in the image has not the size that its record says; nothing was written.",
                        "Fetch it again.",
                    )
                if one.size_bytes > FAT_MOST:
                    names += _split(place, folder)
                else:
                    names.append(one.name)
        except OSError as error:
            raise BadRecord(f"The files of the image cannot be laid out ({error.strerror}).", "Free space.") from error
        except NeogenesisError:
            raise
        except Exception as error:
            raise senseless(self._path, error) from error
        finally:
            with suppress(Exception):
                disc.close()
        return names


def _split(place: Path, folder: Path) -> list[str]:
    """An image of the NT family's own kind in parts that its installer puts together again."""
    out = place.with_suffix(".swm")
    run_tool(["wimlib-imagex", "split", str(place), str(out), _SPLIT_MIB], f"Splitting “{place.name}”")
    place.unlink()
    parts = sorted(place.parent.glob(f"{out.stem}*.swm"))
    if not parts:
        raise ToolFailed(f"“{place.name}” was not split; nothing was written.", "Write it with --layout sectors.")
    return [p.relative_to(folder).as_posix() for p in parts]


def suitable_sticks(needed_bytes: int, connected: Sequence[Connected]) -> list[Connected]:
    """Connected drives that can be taken out and are large enough, the smallest first."""
    fit = [c for c in connected if c.removable and c.may_be_target and c.drive.size_bytes >= needed_bytes]
    return sorted(fit, key=lambda c: c.drive.size_bytes)


def media_work(image: Path, layout: str) -> str:
    """What is agreed to when an installer is put onto sticks. Raises BadArgument for an image that is not there."""
    try:
        status = image.stat()
    except OSError as error:
        raise BadArgument(f"The image “{image}” cannot be read ({error.strerror}).", "Check the name.") from error
    return work_hash("media", image=[str(image.absolute()), status.st_size, status.st_mtime_ns], layout=layout)


def check_size(
    name: str,
    consent: Consent,
    full: bool,
    seed: int,
    told: Callable[[int], None] = lambda n: None,
    heard: Callable[[str, Probed], None] = lambda name, probed: None,
) -> Probed:
    """Whether a stick is as large as it says; what it holds is lost. Raises Mismatch for one that is not.

    `heard` is told what was found, whatever it is.
    """
    known = fresh_target(name, consent.tail)
    if consent.confirmed is not None:  # one claim for the test, another for what is written after it
        consent = replace(
            consent, confirmed=msgspec.structs.replace(consent.confirmed, run=f"{consent.confirmed.run}-size")
        )
    work = consent.work or work_hash("size-check", full=full)
    with claimed(consent, Asked("size-check", work, name, known.sector_size, known.holds)) as claim:
        claim.begin()
        store = claim.target.store
        probed = probe_full(store, seed, told=told) if full else probe_quick(store, seed)
        store.settle()
    heard(name, probed)
    if not probed.honest:
        raise Mismatch(
            f"“{name}” says that it has {both_text(known.size_bytes)}, and holds about {both_text(probed.real_bytes)}: "
            "it is not to be trusted.",
            "Do not use it, and tell whoever sold it.",
        )
    return probed


def try_stick(name: str, legacy: bool, seconds: float = _TRIED_SECONDS) -> bool:
    """Start a stick in an emulated machine, on an overlay that is thrown away: whether a loader ran.

    Raises NeogenesisError where none can be started here.
    """
    return run_trial(Trial([name], None, legacy, seconds=seconds)).loader_ran


def tried_by(found: Inspected, layout: Layout, machine: Machine | None) -> bool:
    """Whether the legacy way is the one to be tried: the machine's, else UEFI where it starts at all."""
    if machine is not None and machine.firmware in ("uefi", "legacy"):
        return machine.firmware == "legacy"
    return "uefi" not in starts_as(found, layout)

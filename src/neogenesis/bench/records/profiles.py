"""The machines and parts of a bench: those that ship with the program, and its own in the folders `machines` and
`parts`. What is changed keeps its former versions beside it, in `former`."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass
from functools import lru_cache
from importlib.resources import files
from importlib.resources.abc import Traversable
from pathlib import Path
from typing import Generic, TypeVar

from neogenesis.core.errors import BadArgument, BadRecord, NeogenesisError
from neogenesis.core.fit.part import Part, read_part
from neogenesis.core.machine import Machine, read_machine
from neogenesis.core.record import save, save_bytes

T = TypeVar("T", Machine, Part)
_LARGEST_BYTES = 4 << 20
_FORMER = "former"
_MOST_KEPT = 8192


@dataclass(frozen=True, slots=True)
class _Kind(Generic[T]):
    """A folder of profiles, their suffix, how one is read, and by what name it is known."""

    folder: str
    suffix: str
    word: str
    read: Callable[[bytes, str], T]
    name: Callable[[T], str]


# What was read and found sound once is not judged again as long as it says the same.
_MACHINES = _Kind("machines", ".machine.json", "machine", lru_cache(_MOST_KEPT)(read_machine), lambda m: m.title)
_PARTS = _Kind("parts", ".part.json", "part", lru_cache(_MOST_KEPT)(read_part), lambda p: p.id)


def known_machines(bench: Path) -> tuple[list[Machine], list[str]]:
    """All profiles by their titles, the bench's own before those that ship; and what is wrong with those left out."""
    return _known(bench, _MACHINES)


def known_parts(bench: Path) -> tuple[list[Part], list[str]]:
    """As `known_machines`, for the catalogue of parts, by their ids."""
    return _known(bench, _PARTS)


def keep_machine(bench: Path, machine: Machine, instead: bool = False) -> Path:
    """Put a profile of one's own on record. Raises BadArgument for one without make or model, or for one that is there
    already unless it is to stand `instead` of it, and BadRecord."""
    if not machine.make.strip() or not machine.model.strip():
        raise BadArgument("A machine needs its make and its model.", "Read both off the plate.")
    return _keep(bench, _MACHINES, machine, instead)


def keep_part(bench: Path, part: Part, instead: bool = False) -> Path:
    """As `keep_machine`, for a part."""
    return _keep(bench, _PARTS, part, instead)


def former_versions(bench: Path, profile: Machine | Part) -> list[Path]:
    """What stood there before, the oldest first."""
    kind = _MACHINES if isinstance(profile, Machine) else _PARTS
    title = profile.title if isinstance(profile, Machine) else profile.id
    folder = bench / kind.folder / _FORMER
    found = folder.glob(f"{_file_name(title)}.*{kind.suffix}") if folder.is_dir() else ()
    return sorted(found, key=_version)


def import_profiles(bench: Path, place: Path) -> tuple[list[str], list[str]]:
    """Take over a file, or all JSON files of a folder: the names of what was taken, and what was wrong with the rest.

    What is there already under that name becomes a former version. Raises BadArgument when there is nothing to read.
    """
    paths = sorted(place.glob("*.json")) if place.is_dir() else [place]
    if not paths:
        raise BadArgument(f"There is no profile in “{place}”.", "Choose a file, or a folder with JSON files.")
    taken, faults = [], []
    for path in paths:
        try:
            taken.append(_take(bench, path))
        except OSError as error:
            faults.append(f"“{path.name}” cannot be read ({error.strerror}).")
        except NeogenesisError as error:
            faults.append(error.sentence())
    return taken, faults


def _take(bench: Path, path: Path) -> str:
    text = _read(path, "profile")
    if b"neogenesis.part/" in text:
        part = read_part(text, f"part “{path.name}”")
        keep_part(bench, part, instead=True)
        return part.id
    machine = read_machine(text, f"machine “{path.name}”")
    keep_machine(bench, machine, instead=True)
    return machine.title


def _read(path: Path, word: str) -> bytes:
    if path.stat().st_size > _LARGEST_BYTES:
        raise BadRecord(f"The {word} “{path.name}” is too large to be one of ours.", "Give the right file.")
    return path.read_bytes()


def _known(bench: Path, kind: _Kind[T]) -> tuple[list[T], list[str]]:
    found: dict[str, T] = {}
    faults = []
    own = bench / kind.folder
    shipped = files("neogenesis").joinpath(f"data/{kind.folder}")
    places: list[Path] = sorted(own.glob(f"*{kind.suffix}")) if own.is_dir() else []
    ships: list[Traversable] = sorted(
        (f for f in shipped.iterdir() if f.name.endswith(kind.suffix)), key=lambda f: f.name
    )
    for path in (*places, *sorted(ships, key=lambda f: f.name)):
        try:
            text = _read(path, kind.word) if isinstance(path, Path) else path.read_bytes()
            profile = kind.read(text, f"{kind.word} “{path.name}”")
        except OSError as error:
            faults.append(f"The {kind.word} “{path.name}” cannot be read ({error.strerror}).")
        except BadRecord as error:
            faults.append(error.sentence())
        else:
            found.setdefault(kind.name(profile), profile)
    return sorted(found.values(), key=lambda p: kind.name(p).casefold()), faults


def _keep(bench: Path, kind: _Kind[T], profile: T, instead: bool) -> Path:
    folder = bench / kind.folder
    try:
        folder.mkdir(exist_ok=True)
    except OSError as error:
        raise BadRecord(f"“{folder}” cannot be made ({error.strerror}).", "Check the folder of the bench.") from error
    name = kind.name(profile)
    path = folder / f"{_file_name(name)}{kind.suffix}"
    if path.exists():
        if not instead:
            raise BadArgument(f"There is a profile of {name} already.", "Choose it from the list.")
        _put_aside(path, kind.suffix)
    save(path, profile)
    return path


def _put_aside(path: Path, suffix: str) -> None:
    """Keep what stands there as the next former version."""
    folder = path.parent / _FORMER
    stem = path.name.removesuffix(suffix)
    try:
        folder.mkdir(exist_ok=True)
        last = max((_version(p) for p in folder.glob(f"{stem}.*{suffix}")), default=0)
        save_bytes(folder / f"{stem}.{last + 1}{suffix}", path.read_bytes())
    except OSError as error:
        raise BadRecord(f"“{path}” cannot be kept ({error.strerror}).", "Check the folder of the bench.") from error


def _version(path: Path) -> int:
    found = re.search(r"\.(\d+)\.(?:machine|part)\.json$", path.name)
    return int(found.group(1)) if found else 0


def _file_name(name: str) -> str:
    return re.sub(r"[^\w-]+", "-", name, flags=re.UNICODE).strip("-").casefold() or "profile"

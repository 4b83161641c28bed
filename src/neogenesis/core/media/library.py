"""What a library of images and packages holds, against what a source offers: had, newer known, damaged, offered."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import ClassVar, Literal

from neogenesis.core.record import Record, StrictRecord, refuse_faults, strict_from_json

Kind = Literal["system", "installer", "drivers", "other"]
State = Literal["had", "newer", "damaged", "offered", "own"]
_NAME = re.compile(r"[^/\\\0]{1,200}")


class Item(StrictRecord, frozen=True, kw_only=True):
    """One file. `title` is what it is whatever its version; `date` is ISO; `blake3` of the whole file."""

    name: str
    size_bytes: int
    blake3: str
    kind: Kind = "other"
    title: str = ""
    version: str = ""
    date: str = ""


class Catalogue(StrictRecord, frozen=True, kw_only=True):
    """What a source offers: `catalogue.json` in its folder. People write it."""

    SCHEMA: ClassVar[str] = "neogenesis.catalogue/1"

    schema: str
    items: tuple[Item, ...]


class Held(Record, frozen=True, kw_only=True):
    """A file of the library; `changed_ns` is its time of last change, by which its checksum is known to hold."""

    name: str
    size_bytes: int
    changed_ns: int
    blake3: str
    kind: Kind


class Index(Record, frozen=True, kw_only=True):
    """`index.json` of a library."""

    SCHEMA: ClassVar[str] = "neogenesis.library/1"

    schema: str = SCHEMA
    files: tuple[Held, ...] = ()


class Row(Record, frozen=True, kw_only=True):
    """A file had or offered. `newer` is the name of the newer one that is known."""

    name: str
    kind: Kind
    size_bytes: int
    state: State
    newer: str = ""


def read_catalogue(data: bytes) -> Catalogue:
    """Raises BadRecord that names every fault."""
    found = strict_from_json(data, Catalogue, "catalogue")
    faults = [f"“{i.name[:40]}” is no name of a file" for i in found.items if not _is_name(i.name)]
    faults += [f"“{i.name[:40]}” has an impossible size" for i in found.items if not 0 <= i.size_bytes < 1 << 50]
    faults += [f"“{i.name[:40]}” has no checksum" for i in found.items if not re.fullmatch("[0-9a-f]{64}", i.blake3)]
    refuse_faults(faults, "catalogue")
    return found


def _is_name(name: str) -> bool:
    return bool(_NAME.fullmatch(name)) and name not in (".", "..") and not name.startswith(".")


def kind_of(name: str) -> Kind:
    """By how a file is called."""
    low = name.casefold()
    if low.endswith((".tar.zst", ".tzst", ".wim")):
        return "system"
    if low.endswith((".iso", ".img", ".img.xz", ".img.gz", ".img.zst", ".iso.xz")):
        return "installer"
    if low.endswith((".zip", ".cab", ".7z", ".inf")):
        return "drivers"
    return "other"


def compared(index: Index, catalogue: Catalogue | None) -> list[Row]:
    """Every file had, then what is offered and not had, newest first."""
    offered = catalogue.items if catalogue is not None else ()
    by_name = {item.name: item for item in offered}
    rows = []
    for held in index.files:
        item = by_name.get(held.name)
        state: State = "own"
        newer = ""
        if item is not None:
            state = "had" if (held.size_bytes, held.blake3) == (item.size_bytes, item.blake3) else "damaged"
            better = newest(offered, item)
            if state == "had" and better is not None:
                state, newer = "newer", better.name
        rows.append(Row(name=held.name, kind=held.kind, size_bytes=held.size_bytes, state=state, newer=newer))
    had = {held.name for held in index.files}
    left = sorted((i for i in offered if i.name not in had), key=lambda i: (i.date, i.name), reverse=True)
    rows += [Row(name=i.name, kind=i.kind, size_bytes=i.size_bytes, state="offered") for i in left]
    return rows


def newest(offered: Sequence[Item], item: Item) -> Item | None:
    """A newer one with the same title; None when there is none."""
    later = [i for i in offered if i.title and i.title == item.title and i.date > item.date]
    return max(later, key=lambda i: i.date, default=None)

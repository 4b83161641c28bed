"""Which model of which INF is the best for a device, by the published rules.

Source: the NT family's reference, “How the system ranks drivers” (identifier score) and “Combining platform
extensions with operating system versions” (which models section counts). Signatures are not checked here: whether a
catalogue is there is said beside the match.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from datetime import date

from neogenesis.core.drivers.hardware import Device
from neogenesis.core.drivers.inf import Inf, Model, parsed_decoration
from neogenesis.core.record import Record

_WORKSTATION = 1
#: Identifiers that only name a class of devices.
_GENERIC = re.compile(r"&?(?:CC|CLASS)_", re.I)
_EXACT_PARTS = re.compile(r"(?:DEV|PID|DEV_)_?[0-9A-F]", re.I)


class Match(Record, frozen=True, kw_only=True):
    """`rank` compares: the smaller is the better. `exact` is by one of the device's hardware ids.

    `is_extension` says that it only adds to another driver, `is_built_in` that the system has it itself, `for_suite`
    that it is for some editions of a system only. `absent` are files that it names and that do not lie there, `altered`
    those that are not what its catalogue lists.
    """

    inf: str
    section: str
    matched_id: str
    exact: bool
    date: str
    version: str
    class_name: str
    class_guid: str
    has_catalog: bool
    description: str
    rank: tuple[int, ...]
    is_extension: bool = False
    is_built_in: bool = False
    for_suite: bool = False
    absent: tuple[str, ...] = ()
    altered: tuple[str, ...] = ()

    @property
    def is_doubtful(self) -> bool:
        """No catalogue, files that are not there or not those that it lists, only an identifier of a class, or only
        for some editions."""
        return (
            not self.has_catalog
            or bool(self.absent or self.altered)
            or self.for_suite
            or (not self.exact and is_generic(self.matched_id))
        )


def is_generic(identifier: str) -> bool:
    """Whether it names a class and not a device."""
    return bool(_GENERIC.search(identifier)) and not _EXACT_PARTS.search(identifier)


def counting_models(inf: Inf, architecture: str, version: tuple[int, int, int]) -> Iterator[Model]:
    """The models that count for that system: of each maker, those of its newest section that applies."""
    chosen: dict[int, str | None] = {
        maker: _chosen(decorations, there, architecture, version)
        for maker, (decorations, there) in enumerate(zip(inf.decorations, inf.sections, strict=True))
    }
    for model in inf.models:
        wanted = chosen.get(model.maker)
        if wanted is not None and model.decoration.casefold() == wanted.casefold():
            yield model


def _chosen(
    decorations: tuple[str, ...], there: tuple[str, ...], architecture: str, version: tuple[int, int, int]
) -> str | None:
    """The decoration whose section counts, empty for the undecorated one; None where none that is there does."""
    best: tuple[tuple[int, ...], str] | None = None
    bound = False
    for text in decorations:
        found = parsed_decoration(text)
        if found is None:
            continue
        bound = bound or bool(found.architecture)
        if text not in there:
            continue
        if found.architecture != architecture and (found.architecture or architecture != "x86"):
            continue
        if (found.major, found.minor) > version[:2] or found.product not in (0, _WORKSTATION):
            continue
        if (found.major, found.minor) == version[:2] and version[2] and found.build > version[2]:
            continue  # where no build is named the newest section counts: so it is on a system of today
        own = (int(not found.suite), int(bool(found.product)), int(bool(found.architecture)))
        key = (found.major, found.minor, found.build, *own)
        if best is None or key > best[0]:
            best = (key, text)
    if best is not None:
        return best[1]
    if architecture == "x86":
        return ""
    if not decorations:
        return ""
    if not bound:  # only versions are named: the newest of them that is not too new
        return _chosen(decorations, there, "x86", version)
    return None


def matches(
    devices: Iterable[tuple[int, Device]],
    inf: Inf,
    architecture: str,
    version: tuple[int, int, int],
    has_catalog: bool,
) -> Iterator[tuple[int, Match]]:
    """The best match of this INF for each device that it is for, with the device's number."""
    by_id: dict[str, list[tuple[int, int, int, str]]] = {}
    for number, device in devices:
        for kind, ids in enumerate((device.hardware_ids, device.compatible_ids)):
            for place, one in enumerate(ids):
                by_id.setdefault(one.strip().casefold(), []).append((number, kind, place, one))
    best: dict[int, Match] = {}
    for model in counting_models(inf, architecture, version):
        decoration = parsed_decoration(model.decoration) if model.decoration else None
        day, number_text = (model.date, model.version) if model.date else (inf.date, inf.version)
        for place_in_inf, one in enumerate(model.ids):
            for number, kind, place, asked in by_id.get(one.casefold(), ()) if one else ():
                rank = (kind, int(place_in_inf > 0), place, place_in_inf, -_days(day), *_newest_first(number_text))
                held = best.get(number)
                if held is None or rank < held.rank:
                    best[number] = Match(
                        inf=inf.name,
                        section=model.section,
                        matched_id=asked,
                        exact=kind == 0,
                        date=day,
                        version=number_text,
                        class_name=inf.class_name,
                        class_guid=inf.class_guid,
                        has_catalog=has_catalog,
                        description=model.description,
                        rank=rank,
                        is_extension=inf.is_extension,
                        for_suite=bool(decoration is not None and decoration.suite),
                    )
    yield from best.items()


def _days(text: str) -> int:
    return date.fromisoformat(text).toordinal() if text else 0


def _newest_first(text: str) -> tuple[int, ...]:
    parts = [int(p) for p in text.split(".")] if text else []
    return tuple(-p for p in (*parts, 0, 0, 0, 0)[:4])

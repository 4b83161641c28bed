"""What was lost when an image or a rescue was made, found again by whoever reads it as a drive.

An image names its losses in its own header, and in the manifest beside it; a rescue names them in its region map, which
is known by the samples of the drive that stand in it, whatever either file is called now.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import suppress
from itertools import islice
from pathlib import Path
from typing import TYPE_CHECKING

from blake3 import blake3

from neogenesis.bench.drives.provider import OpenDrive
from neogenesis.core.drive import Identity
from neogenesis.core.errors import BadRecord, NeogenesisError, ReadFailed, Refused
from neogenesis.core.extent import Extents
from neogenesis.core.image import Qcow2Store
from neogenesis.core.record import load
from neogenesis.core.store import ReadableStore

if TYPE_CHECKING:  # where a record is found, what reads it is loaded
    from neogenesis.core.transfer.regions import RegionMap

_MOST_FILES = 512
_HEAD_BYTES = 4096
_MARKS = {"map": b"neogenesis.region-map/", "manifest": b"neogenesis.manifest/"}
_SAMPLES = 16
_MOST_SAMPLE_BYTES = 1 << 20


def losses_of(opened: OpenDrive, name: str, region_map: Path | None = None) -> Extents | None:
    """What of an open drive was lost when it was made; None where no record of that is found.

    `region_map` is named by a person: raises BadRecord when it cannot be read, Refused when it is of another drive.
    """
    if region_map is not None:
        from neogenesis.core.transfer.regions import RegionMap

        found = load(region_map, RegionMap, "region map")
        if not _is_of(found, opened, name, named=True):
            raise Refused(
                "other-drive",
                f"The region map “{region_map.name}” is not of what stands on “{name}”; nothing was written.",
                "Name the map that its rescue was made with.",
            )
        return _lost_of(found)
    if isinstance(opened.store, Qcow2Store):
        own = opened.store.lost
        return own if own is not None else _by_manifest(opened.store, Path(name))
    folder = Path(name).parent
    for path in _records(folder, "map"):
        from neogenesis.core.transfer.regions import RegionMap

        with suppress(NeogenesisError, ValueError):
            found = load(path, RegionMap, "region map")
            if _is_of(found, opened, name):
                return _lost_of(found)
    return None


def _by_manifest(store: ReadableStore, image: Path) -> Extents | None:
    """By the name of the image; else by the checksums of it that stand in any manifest beside it."""
    from neogenesis.core.transfer.manifest import load_manifest_head

    for path in (image.with_name(f"{image.name}.manifest.json"), *_records(image.parent, "manifest")):
        with suppress(NeogenesisError):
            head = load_manifest_head(path)
            if head.survey is None or head.size_bytes != store.size_bytes:
                continue
            if path.name.startswith(image.name) or _holds(store, _sample_of(path)):
                return Extents.of(head.lost)
    return None


def _records(folder: Path, kind: str) -> Iterator[Path]:
    """Our records of a kind in a folder, by how they begin."""
    with suppress(OSError):
        for path in islice(sorted(folder.glob("*.json")), _MOST_FILES):
            with suppress(OSError):
                if path.is_file() and _MARKS[kind] in _head_of(path):
                    yield path


def _head_of(path: Path) -> bytes:
    with path.open("rb") as file:
        return file.read(_HEAD_BYTES)


def _sample_of(path: Path) -> list[tuple[int, int, bytes]]:
    """A few chunks of a manifest, those of zeros left out: they stand anywhere."""
    from neogenesis.core.transfer.manifest import load_manifest

    chunks = [(c.start, c.end, c.digest) for c in load_manifest(path).chunks if any(c.digest)]
    return chunks[:: max(1, len(chunks) // _SAMPLES)]


def _is_of(found: RegionMap, opened: OpenDrive, name: str, named: bool = False) -> bool:
    """Whether a map tells what stands on this drive; `named` by a person, so it need not lie under its old name."""
    drive, onto = opened.drive, found.target
    if found.size_bytes > drive.size_bytes or not found.samples:
        return False
    if found.source is not None and _is_one(found.source, drive.identity):
        return False
    if onto is not None and not named and onto.serial != drive.serial:
        return False
    samples = [(s, e, bytes.fromhex(digest)) for s, e, digest in found.samples if 0 < e - s <= _MOST_SAMPLE_BYTES]
    if onto is not None and not _is_one(onto, drive.identity):
        samples = [one for one in samples if any(opened.store.read(one[0], min(one[1] - one[0], _HEAD_BYTES)))]
    return _holds(opened.store, samples)


def _is_one(record: Identity, drive: Identity) -> bool:
    """By serial, else by the name of the file: its folder may have been moved."""
    if record.serial or drive.serial:
        return record.serial == drive.serial
    return Path(record.path).name == Path(drive.path).name


def _holds(store: ReadableStore, samples: Sequence[tuple[int, int, bytes]]) -> bool:
    """Whether most samples stand where they stood: a few may have changed since, on a drive that was used."""
    right = 0
    for start, end, digest in samples:
        with suppress(ReadFailed):
            right += blake3(store.read(start, end - start)).digest() == digest
    return right > 0 and 2 * right >= len(samples)


def _lost_of(found: RegionMap) -> Extents:
    """Raises BadRecord for a map whose regions make no sense."""
    at = 0
    for start, end, _ in found.regions:
        if start != at or end <= start:
            raise BadRecord(f"The region map is damaged at byte {at}.", "Restore a copy.")
        at = end
    if at != found.size_bytes:
        raise BadRecord(f"The region map is damaged at byte {at}.", "Restore a copy.")
    return Extents.of((start, end) for start, end, state in found.regions if state != "read")

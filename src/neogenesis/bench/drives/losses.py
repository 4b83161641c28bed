"""What was lost when an image or a rescue was made, found again by whoever reads it as a drive.

An image names its losses in its own header, and in the manifest beside it; a rescue names them in its region map, which
is known by the samples of the drive that stand in it, whatever either file is called now.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import suppress
from itertools import islice
from pathlib import Path

from blake3 import blake3

from neogenesis.bench.drives.provider import OpenDrive
from neogenesis.core.drive import Identity
from neogenesis.core.errors import NeogenesisError, ReadFailed, Refused
from neogenesis.core.extent import Extents
from neogenesis.core.image import Qcow2Store
from neogenesis.core.store import ReadableStore

_MOST_FILES = 512
_HEAD_BYTES = 4096
_MARKS = {"map": b"neogenesis.region-map/", "manifest": b"neogenesis.manifest/"}
_SAMPLES = 16


def losses_of(
    opened: OpenDrive, name: str, region_map: Path | None = None, own_map: Path | None = None
) -> Extents | None:
    """What of an open drive was lost when it was made; None where no record of that is found.

    `region_map` is named by a person: raises BadRecord when it cannot be read, Refused when it is of another drive.
    `own_map` is that of a rescue which reads this drive: it tells of what is made, not of what is read.
    """
    if region_map is not None:
        found = _by_map(region_map, opened, named=True)
        if found is None:
            raise Refused(
                "other-drive",
                f"The region map “{region_map.name}” is not of what stands on “{name}”; nothing was written.",
                "Name the map that its rescue was made with.",
            )
        return found
    if isinstance(opened.store, Qcow2Store):
        own = opened.store.lost
        return own if own is not None else _by_manifest(opened.store, Path(name))
    for path in _records(Path(name).parent, "map"):
        with suppress(NeogenesisError):
            found = _by_map(path, opened) if path.absolute() != own_map else None
            if found is not None:
                return found
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


def _by_map(path: Path, opened: OpenDrive, named: bool = False) -> Extents | None:
    """What a map says was not read of what stands on this drive; None where it tells of another.

    `named` by a person, so the drive need not have the serial that it had. Raises BadRecord.
    """
    from neogenesis.core.transfer.regions import RegionMap, load_regions, load_regions_head

    drive = opened.drive

    def is_of_another(found: RegionMap) -> bool:
        if found.size_bytes > drive.size_bytes or (found.source is not None and _is_one(found.source, drive.identity)):
            return True
        return found.target is not None and not named and found.target.serial != drive.serial

    head = load_regions_head(path)  # a map may have millions of regions, and most of a folder are of other drives
    if head is not None and is_of_another(head):
        return None
    found = load_regions(path)
    if is_of_another(found):
        return None
    onto = found.target
    lost = Extents.of((start, end) for start, end, state in found.regions if state != "read")
    samples = [(start, end, bytes.fromhex(digest)) for start, end, digest in found.samples]
    known = onto is not None and _is_one(onto, drive.identity)
    # by its contents alone it might be the old drive itself, which has something where nothing could be saved
    fits = known or named or not any(_says_something(opened.store, *one) for one in islice(lost, _SAMPLES))
    return lost if fits and _holds(opened.store, samples, empty_counts=known) else None


def _says_something(store: ReadableStore, start: int, end: int) -> bool:
    with suppress(ReadFailed):
        return any(store.read(start, min(end - start, _HEAD_BYTES)))
    return True


def _is_one(record: Identity, drive: Identity) -> bool:
    """By serial, else by the name of the file: its folder may have been moved."""
    if record.serial or drive.serial:
        return record.serial == drive.serial
    return Path(record.path).name == Path(drive.path).name


def _holds(store: ReadableStore, samples: Sequence[tuple[int, int, bytes]], empty_counts: bool = False) -> bool:
    """Whether most samples stand where they stood: a few may have changed since, on a drive that was used.

    Zeros stand anywhere, so they count only where `empty_counts`.
    """
    asked = right = 0
    for start, end, digest in samples:
        data = b""
        with suppress(ReadFailed):
            data = store.read(start, end - start)
        if empty_counts or not data or any(data):
            asked += 1
            right += blake3(data).digest() == digest
    return right > 0 and 2 * right >= asked

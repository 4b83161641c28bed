"""A folder of driver packages: indexed once, kept in a cache, asked for a machine, and packed for a stick."""

from __future__ import annotations

import hashlib
import os
import shutil
import sqlite3
import stat
import tempfile
import zlib
from collections.abc import Iterable, Iterator, Sequence
from concurrent.futures import ProcessPoolExecutor
from contextlib import ExitStack, closing, suppress
from dataclasses import dataclass
from pathlib import Path

import msgspec
import numpy as np

from neogenesis.bench.inside.archives import is_archive, unpack
from neogenesis.bench.inside.id_names import with_names
from neogenesis.bench.inside.old_system import OwnPackages, devices_of, is_drive, own_packages
from neogenesis.bench.processes.folders import cache_folder
from neogenesis.core.drivers.answer import Answer, Skipped, answer, shopping_list, sorted_matches
from neogenesis.core.drivers.catalog import digests_of, listed_digests
from neogenesis.core.drivers.hardware import Device, Hardware, read_hardware
from neogenesis.core.drivers.inf import Inf, InfFault, read_inf
from neogenesis.core.drivers.modules import built_in_aliases, claimed, firmware_of
from neogenesis.core.drivers.rank import Match, matches
from neogenesis.core.errors import BadArgument, BadRecord, NeogenesisError
from neogenesis.core.record import to_json

_LARGEST_INF, _LARGEST_MODULE, _MOST_FILES, _DEEPEST = 16 << 20, 256 << 20, 2_000_000, 40
_LARGEST_CATALOG, _LARGEST_PROGRAM = 64 << 20, 256 << 20
#: Written into the name of the cache: another version of the reader reads anew.
_READER = "4"
_SEVERAL = 400
#: Who provides the packages that come with the system, and are there again when it is installed anew.
_SYSTEM_MAKERS = frozenset({"microsoft"})
_OWN_NOTE = (
    "These packages come from the old system's own store: they are as old as it is, and after malware not to be "
    "trusted. The makers' own come first."
)


def read_devices(path: Path) -> Hardware:
    """A hardware list from a file, a folder with modalias files, or the old system itself on its drive or image.

    Raises BadArgument or BadRecord.
    """
    if is_drive(path):
        return with_names(devices_of(path))
    try:
        if path.is_dir():
            texts = [p.read_bytes() for p in sorted(path.rglob("modalias")) if p.is_file()]
            return with_names(read_hardware(b"\n".join(texts), f"hardware list “{path.name}”"))
        return with_names(read_hardware(path.read_bytes(), f"hardware list “{path.name}”"))
    except OSError as error:
        raise BadArgument(
            f"The hardware list “{path}” cannot be read ({error.strerror}).", "Check the name."
        ) from error


@dataclass(frozen=True, slots=True)
class Indexed:
    """One INF of a folder: `folder` is where its package stands, `error` why it cannot be used."""

    name: str
    folder: Path
    inf: Inf | None
    error: str = ""


@dataclass(frozen=True, slots=True)
class Found:
    """What was found, and the files of each INF that would be packed, as (file, name in the pack)."""

    answer: Answer
    packages: dict[str, list[tuple[Path, str]]]


def find_drivers(hardware: Hardware, packages: Path, pack: Path | None = None) -> Found:
    """Ask a folder of packages, a kernel tree, or the drive of the old system with the packages that it keeps.

    With `pack`, what is needed is put there. Raises NeogenesisError.
    """
    of_drive = not packages.is_dir() and is_drive(packages)
    if not (of_drive or packages.is_dir()):
        raise BadArgument(f"The folder of packages “{packages}” is not there.", "Check the name.")
    with ExitStack() as stack:
        scratch = Path(stack.enter_context(tempfile.TemporaryDirectory(prefix="neogenesis-drivers-")))
        trees = [] if of_drive else sorted(packages.rglob("modules.alias"))
        if of_drive:
            own = stack.enter_context(own_packages(packages, scratch))
            found = _from_infs(hardware, scratch, scratch, packages, own)
        elif trees:
            found = _from_kernel(hardware, packages, trees)
        else:
            found = _from_infs(hardware, packages, scratch, packages)
        if pack is not None:
            _pack(found, pack)
        return found


def _from_infs(
    hardware: Hardware, packages: Path, unpacked: Path, known_by: Path, own: OwnPackages | None = None
) -> Found:
    """`known_by` names the cache. Of an old system's `own` packages those of the system itself do not count."""
    numbered = list(enumerate(hardware.devices))
    version = hardware.version()
    by_device: dict[int, list[Match]] = {}
    skipped: list[Skipped] = []
    places: dict[str, Indexed] = {}
    for one in _indexed(packages, unpacked, hardware, skipped, known_by):
        if own is not None and one.inf is not None and one.inf.provider.casefold() in _SYSTEM_MAKERS:
            continue
        if one.inf is None:
            skipped.append(Skipped(inf=one.name, text=one.error))
            continue
        inf = msgspec.structs.replace(one.inf, name=one.name)
        hits = list(matches(numbered, inf, hardware.architecture, version, _has_catalog(one, hardware.architecture)))
        if not hits:
            continue
        places[one.name] = one
        absent = () if own is not None else tuple(_absent(one, hardware.architecture))
        for number, match in hits:
            by_device.setdefault(number, []).append(msgspec.structs.replace(match, absent=absent))
    if own is None:
        _compare_with_catalogs(by_device, places, hardware.architecture)
    files: dict[str, list[tuple[Path, str]]] = {}
    for held in by_device.values():
        drivers, adding = sorted_matches(held)
        for match in (*drivers[:1], *adding):
            if own is not None:
                own.complete(places[match.inf].folder)
            files.setdefault(match.inf, list(_package_files(places[match.inf], hardware.architecture)))
    sizes = {name: sum(_size(path) for path, _ in some) for name, some in files.items()}
    made = answer(hardware, by_device, sizes, sorted(skipped, key=lambda s: s.inf.casefold()))
    if own is not None:
        made = msgspec.structs.replace(made, notes=(_OWN_NOTE,))
    return Found(made, {name: files[name] for name in made.order})


# The index


def _walk(folder: Path) -> Iterator[Path]:
    """Files below, in order, no links followed."""
    count = 0
    waiting = [(folder, 0)]
    while waiting:
        current, depth = waiting.pop()
        try:
            entries = sorted(os.scandir(current), key=lambda e: e.name)
        except OSError:
            continue
        for entry in entries:
            count += 1
            if count > _MOST_FILES:
                raise BadArgument(f"“{folder}” holds too many files to be looked through.", "Give a smaller folder.")
            if entry.is_dir(follow_symlinks=False):
                if depth < _DEEPEST:
                    waiting.append((Path(entry.path), depth + 1))
            elif entry.is_file(follow_symlinks=False):
                yield Path(entry.path)


def _indexed(
    packages: Path, unpacked: Path, hardware: Hardware, skipped: list[Skipped], known_by: Path
) -> Iterator[Indexed]:
    """Each INF of the folder and of archives in it that matters, out of the cache where it has not changed since."""
    infs: list[tuple[str, Path]] = []
    for path in _walk(packages):
        name = path.relative_to(packages).as_posix()
        if name.casefold().endswith(".inf"):
            infs.append((name, path))
        elif is_archive(name):
            infs += _of_archive(name, path, unpacked, skipped)
    yield from _read_all(known_by, infs, hardware)


def _of_archive(name: str, path: Path, unpacked: Path, skipped: list[Skipped]) -> list[tuple[str, Path]]:
    """The INF files in an archive, unpacked; what is wrong with it is said."""
    inside = Path(tempfile.mkdtemp(dir=unpacked))
    try:
        refused = unpack(path, inside)
    except NeogenesisError as error:
        shutil.rmtree(inside, ignore_errors=True)
        skipped.append(Skipped(inf=name, text=error.text))
        return []
    if refused:
        skipped.append(Skipped(inf=name, text=f"It names files outside of itself: {refused[0]}. They were left out."))
    found = [p for p in _walk(inside) if p.name.casefold().endswith(".inf")]
    return [(f"{name}/{p.relative_to(inside).as_posix()}", p) for p in found]


def _read_all(packages: Path, infs: list[tuple[str, Path]], hardware: Hardware) -> Iterator[Indexed]:
    """Those that name an identifier of the machine, and those that cannot be used; the others are not even decoded."""
    decoder = msgspec.msgpack.Decoder(Inf)
    asked = _marks(i for d in hardware.devices for i in (*d.hardware_ids, *d.compatible_ids))
    with closing(_Cache(_cache_path(packages))) as cache:
        keys = {name: f"{name}\n{_mark(path)}" for name, path in infs}
        known = cache.keys()
        for name, parsed in _parsed([(name, path) for name, path in infs if keys[name] not in known]):
            cache.put(keys[name], parsed)
        cache.forget(known - set(keys.values()))
        for name, path in infs:
            error, marks = cache.summary(keys[name])
            if error:
                yield Indexed(name, path.parent, None, error)
            elif np.isin(asked, np.frombuffer(marks, np.uint32)).any():
                yield Indexed(name, path.parent, decoder.decode(cache.data(keys[name])))


#: An INF as it is kept: why it cannot be used, the marks of its identifiers, and itself.
_Parsed = tuple[str, bytes, bytes]


def _marks(ids: Iterable[str]) -> np.ndarray[tuple[int], np.dtype[np.uint32]]:
    """Short marks of identifiers: two of them may share one, so a hit is looked at closely."""
    return np.array(sorted({zlib.crc32(i.strip().casefold().encode()) for i in ids if i}), np.uint32)


class _Cache:
    """What was read of each INF, by its name, size and time; in memory where there is no place for a file."""

    def __init__(self, path: Path) -> None:
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            self._open(str(path))
        except (OSError, sqlite3.DatabaseError):
            with suppress(OSError):
                path.unlink(missing_ok=True)
            try:
                self._open(str(path))
            except sqlite3.DatabaseError:
                self._open(":memory:")

    def _open(self, place: str) -> None:
        self._database = sqlite3.connect(place, timeout=0.2)
        try:
            self._database.execute("pragma synchronous = off")
            self._database.execute(
                "create table if not exists inf (key text primary key, error text, marks blob, data blob)"
            )
        except sqlite3.DatabaseError:
            self._database.close()
            raise

    def keys(self) -> set[str]:
        return {key for (key,) in self._database.execute("select key from inf")}

    def summary(self, key: str) -> tuple[str, bytes]:
        """Why it cannot be used, empty where it can, and the marks of its identifiers."""
        found = self._database.execute("select error, marks from inf where key = ?", (key,)).fetchone()
        return found or ("It could not be read.", b"")

    def data(self, key: str) -> bytes:
        return bytes(self._database.execute("select data from inf where key = ?", (key,)).fetchone()[0])

    def put(self, key: str, parsed: _Parsed) -> None:
        self._database.execute("insert or replace into inf values (?, ?, ?, ?)", (key, *parsed))

    def forget(self, keys: Iterable[str]) -> None:
        self._database.executemany("delete from inf where key = ?", [(key,) for key in keys])
        self._database.commit()

    def close(self) -> None:
        self._database.close()


def _mark(path: Path) -> str:
    try:
        status = path.stat()
    except OSError:
        return "gone"
    return f"{status.st_size} {status.st_mtime_ns}"


def _parsed(infs: list[tuple[str, Path]]) -> Iterator[tuple[str, _Parsed]]:
    """Read on all cores where there are many."""
    if len(infs) < _SEVERAL:
        for name, path in infs:
            yield name, _parse(path)
        return
    with ProcessPoolExecutor() as pool:
        names = [name for name, _ in infs]
        yield from zip(names, pool.map(_parse, [path for _, path in infs], chunksize=64), strict=True)


def _parse(path: Path) -> _Parsed:
    try:
        with path.open("rb") as file:
            data = file.read(_LARGEST_INF + 1)
        inf = read_inf(data, path.name)
    except InfFault as fault:
        return str(fault), b"", b""
    except OSError as error:
        return f"It cannot be read ({error.strerror}).", b"", b""
    return "", _marks(i for m in inf.models for i in m.ids).tobytes(), msgspec.msgpack.encode(inf)


def _cache_path(packages: Path) -> Path:
    mark = hashlib.blake2b(str(packages.absolute()).encode(), digest_size=12).hexdigest()
    return cache_folder() / "drivers" / f"{mark}-{_READER}.index"


# The files of a package


def _has_catalog(one: Indexed, architecture: str) -> bool:
    return _catalog(one, architecture) is not None


def _catalog(one: Indexed, architecture: str) -> Path | None:
    """The catalogue that counts for the architecture; None where none is named, or it does not lie beside the INF."""
    assert one.inf is not None
    catalogs = one.inf.catalogs
    wanted = next((catalogs[k] for k in (f"nt{architecture}", "nt", "") if k in catalogs), None)
    return _beside(one.folder, wanted) if wanted is not None else None


def _compare_with_catalogs(by_device: dict[int, list[Match]], places: dict[str, Indexed], architecture: str) -> None:
    """Marks the packages whose files are not those that were signed. Only what comes first for a device is read: a
    package that is marked goes to the end, and the next one is looked at."""
    known: dict[str, tuple[str, ...]] = {}
    for number, held in by_device.items():
        ordered = held
        while True:
            drivers, adding = sorted_matches(ordered)
            fresh = [m for m in (*drivers[:1], *adding) if not m.altered and m.inf not in known]
            for match in fresh:
                known[match.inf] = tuple(_altered(places[match.inf], architecture))
            ordered = [msgspec.structs.replace(m, altered=known.get(m.inf, m.altered)) for m in ordered]
            if not fresh:
                break
        by_device[number] = ordered


def _altered(one: Indexed, architecture: str) -> Iterator[str]:
    """Files that are named and that the catalogue lists otherwise; nothing where it cannot be read."""
    catalog = _catalog(one, architecture)
    if catalog is None or _size(catalog) > _LARGEST_CATALOG:
        return
    listed = listed_digests(catalog.read_bytes())
    if not listed:
        return
    assert one.inf is not None
    for name in (Path(one.name).name, *one.inf.files.get(architecture, ())):
        path = _beside(one.folder, name)
        if path is not None and not _digests(path) & listed:
            yield name


def _digests(path: Path) -> frozenset[bytes]:
    """Of a file too large for a program only those of all of it."""
    with path.open("rb") as file:
        if _size(path) <= _LARGEST_PROGRAM:
            return digests_of(file.read())
        found = [hashlib.file_digest(file, "sha1").digest()]
        file.seek(0)
        return frozenset([*found, hashlib.file_digest(file, "sha256").digest()])


def _beside(folder: Path, name: str) -> Path | None:
    """A file by its name in any letters, beneath a folder; no link is followed."""
    current = folder
    for part in name.replace("\\", "/").split("/"):
        if part in ("", ".", ".."):
            return None
        direct = current / part
        if not direct.exists():
            try:
                direct = next(p for p in current.iterdir() if p.name.casefold() == part.casefold())
            except (StopIteration, OSError):
                return None
        if direct.is_symlink():
            return None
        current = direct
    return current if current.is_file() else None


def _absent(one: Indexed, architecture: str) -> Iterator[str]:
    """Files that the INF names for that architecture, and that do not lie where it says."""
    assert one.inf is not None
    for name in one.inf.files.get(architecture, ()):
        if _beside(one.folder, name) is None and _beside(one.folder, f"{name[:-1]}_") is None:
            yield name


def _package_files(one: Indexed, architecture: str) -> Iterator[tuple[Path, str]]:
    """The INF, its catalogues, what it names; all of its folder where it names nothing. Names are below the folder."""
    assert one.inf is not None
    inf_path = one.folder / Path(one.name).name
    own = one.inf.files.get(architecture, ())
    packed = [f"{name[:-1]}_" for name in own]  # as older packages hold them: drv.sy_ for drv.sys
    names = [inf_path.name, *one.inf.catalogs.values(), *own, *packed, *one.inf.includes]
    seen: set[Path] = set()
    for name in names:
        path = _beside(one.folder, name)
        if path is not None and path not in seen:
            seen.add(path)
            yield path, path.relative_to(one.folder).as_posix()
    if not own:
        for path in sorted(one.folder.iterdir()):
            if path.is_file() and not path.is_symlink() and path not in seen and path.suffix.casefold() != ".inf":
                yield path, path.name


def _size(path: Path) -> int:
    try:
        return path.stat().st_size
    except OSError:
        return 0


def _pack(found: Found, out: Path) -> None:
    """A folder for the stick: one for each package, numbered in its order, an index, a checklist, what is missing."""
    if out.exists() and (not out.is_dir() or any(out.iterdir())):
        raise BadArgument(f"“{out}” is there already and not empty; nothing was packed.", "Name a new folder.")
    try:
        out.mkdir(parents=True, exist_ok=True)
        lines = ["Drivers, in the order in which they are installed", ""]
        absent = {one.best.inf: one.absent for one in found.answer.devices if one.best is not None}
        for n, (name, files) in enumerate(found.packages.items(), 1):
            folder = out / f"{n:03d}-{Path(name).stem[:60]}"
            for path, inner in files:
                place = folder.joinpath(*inner.split("/"))
                place.parent.mkdir(parents=True, exist_ok=True)
                shutil.copyfile(path, place)
                os.utime(place, (path.stat().st_atime, path.stat().st_mtime))
            during = "  during the installation" if name in found.answer.during_installation else ""
            lines.append(f"[ ] {folder.name}  {name}{during}")
            lines += [f"      {inner}" for _, inner in files]
            lines += [f"      NOT THERE: {missing}" for missing in absent.get(name, ())]
        missing = shopping_list(found.answer)
        if missing:
            lines += ["", "Still missing", ""]
            for title, without, ids in missing:
                lines += [f"[ ] {title}: {without}", *(f"      {one}" for one in ids[:4])]
        (out / "checklist.txt").write_text("\n".join(lines) + "\n", "utf-8")
        (out / "index.json").write_bytes(to_json(found.answer))
    except OSError as error:
        raise BadRecord(f"“{out}” cannot be written ({error.strerror}).", "Choose another place.") from error


# A kernel tree


def _from_kernel(hardware: Hardware, packages: Path, trees: Iterable[Path]) -> Found:
    """Modules that claim the devices, with the firmware that they want beside them."""
    numbered: list[tuple[int, Device]] = list(enumerate(hardware.devices))
    by_device: dict[int, list[Match]] = {}
    files: dict[str, list[tuple[Path, str]]] = {}
    skipped: list[Skipped] = []
    for alias_file in trees:
        try:
            text = alias_file.read_text("utf-8", "replace")
        except OSError as error:
            skipped.append(Skipped(inf=alias_file.name, text=f"It cannot be read ({error.strerror})."))
            continue
        root = alias_file.parent
        modules = {p.name.split(".ko")[0].replace("-", "_"): p for p in root.rglob("*.ko*") if p.is_file()}
        for number, pairs in claimed(numbered, text).items():
            for n, (pattern, module) in enumerate(pairs):
                path = modules.get(module.replace("-", "_"))
                by_device.setdefault(number, []).append(_module_match(module, pattern, path is not None, n))
                if path is not None:
                    files[module] = [(path, path.name), *_firmware(path, packages, module, skipped)]
        built_in = _bytes_of(root / "modules.builtin.modinfo")
        for number, pairs in claimed(numbered, built_in_aliases(built_in)).items():
            for n, (pattern, module) in enumerate(pairs):
                match = _module_match(module, pattern, True, n)
                by_device.setdefault(number, []).append(msgspec.structs.replace(match, is_built_in=True))
    sizes = {name: sum(_size(path) for path, _ in some) for name, some in files.items()}
    made = answer(hardware, by_device, sizes, skipped)
    return Found(made, {name: files.get(name, []) for name in made.order})


def _module_match(module: str, pattern: str, is_there: bool, place: int) -> Match:
    return Match(
        inf=module,
        section="",
        matched_id=pattern,
        exact=True,
        date="",
        version="",
        class_name="",
        class_guid="",
        description="",
        has_catalog=is_there,
        rank=(place,),
    )


def _firmware(path: Path, packages: Path, module: str, skipped: list[Skipped]) -> Iterator[tuple[Path, str]]:
    """The firmware files that a module wants, where they are; what is missing is said."""
    wanted = firmware_of(_module_bytes(path))
    roots = [p for p in packages.rglob("firmware") if p.is_dir()]
    for name in wanted:
        places = (root / (name + end) for root in roots for end in ("", ".xz", ".zst"))
        found = next((p for p in places if p.is_file() and _is_beneath(p, roots)), None)
        if found is None:
            skipped.append(Skipped(inf=module, text=f"It wants the firmware file {name}, which is not there."))
        else:
            yield found, f"firmware/{name}"


def _is_beneath(path: Path, roots: Sequence[Path]) -> bool:
    """Also where links lead, of which such trees have many."""
    real = path.resolve()
    return any(real.is_relative_to(root.resolve()) for root in roots)


def _bytes_of(path: Path) -> bytes:
    try:
        with path.open("rb") as file:
            return file.read(_LARGEST_MODULE)
    except OSError:
        return b""


def _module_bytes(path: Path) -> bytes:
    """A module unpacked, as far as one may be large."""
    try:
        if not stat.S_ISREG(path.stat().st_mode) or path.stat().st_size > _LARGEST_MODULE:
            return b""
        data = path.read_bytes()
        if path.suffix == ".xz":
            import lzma

            return lzma.LZMADecompressor().decompress(data, _LARGEST_MODULE)
        if path.suffix == ".zst":
            import zstandard

            return zstandard.ZstdDecompressor().stream_reader(data).read(_LARGEST_MODULE)
        if path.suffix == ".gz":
            return zlib.decompressobj(wbits=31).decompress(data, _LARGEST_MODULE)
        return data
    except Exception:  # noqa: BLE001 - whatever a decompressor makes of damage: the module names no firmware then
        return b""

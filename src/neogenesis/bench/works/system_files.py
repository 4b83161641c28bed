"""The files of a system image and of people, put onto new volumes and read back by another library."""

from __future__ import annotations

import os
import shutil
import stat
import tempfile
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path

import msgspec
from blake3 import blake3

from neogenesis.bench.inside.bringing import bring_back
from neogenesis.bench.inside.laying import LaidOut, inside, put_file, put_link
from neogenesis.bench.inside.returning import given_back, people_files
from neogenesis.bench.inside.system_image import inspect_system, lay_out
from neogenesis.bench.inside.wim import apply_wim, lay_out_startup
from neogenesis.bench.processes.mounting import CannotMount, in_own_mount
from neogenesis.bench.processes.reader import open_tree
from neogenesis.bench.works.installing import people_key, recipe_of
from neogenesis.bench.works.volumes import fill_ntfs, make_volume, own_ext_files
from neogenesis.core.errors import BadRecord, Refused, ToolFailed
from neogenesis.core.plan import Plan
from neogenesis.core.plan.model import FreshSource
from neogenesis.core.plan.steps import MakeVolume
from neogenesis.core.record import save
from neogenesis.core.reinstall import Answers, answer_files, answer_links
from neogenesis.core.reinstall.returned import BackWish, GivingBack, NotKept, as_text
from neogenesis.core.store import ReadableStore, WritableStore
from neogenesis.core.system import Entry, FileMarks, FileTree
from neogenesis.core.transfer.prepare import Told

_PIECE = 1 << 20
#: Filesystems keep times in steps of their own; the coarsest here is a second, one more for rounding.
_NEAR_S = 1.01
#: Attributes of the NT family that are read back: read-only, hidden, of the system.
_ATTRIBUTES = 0x7
_MOST_EXAMPLES, _MOST_NAMED = 200, 5


class SystemFiles:
    """Fills volumes with the system image of a plan. `check` may end the work."""

    def __init__(self, plan: Plan, scratch: Path, check: Callable[[], None]) -> None:
        source = plan.source
        if not isinstance(source, FreshSource) or source.system is None:
            raise Refused("plan", "The plan names no system image; nothing was written.", "Plan again.")
        self._image, self._check, self._scratch = source.system, check, scratch
        edition = str(self._image.edition) if self._image.edition > 1 else ""
        found = inspect_system(Path(self._image.path), lambda _: check(), edition)
        if found.digest != self._image.digest:
            raise Refused(
                "image-changed",
                f"The system image “{found.path.name}” is not the one that the plan was made for; nothing was written.",
                "Plan again with this one.",
            )
        self._system = found
        self._keys = [part.key for part in recipe_of(source.recipe).parts]
        #: What no volume was given, or could not have.
        self._left_out: list[str] = []
        self._not_kept: dict[str, list[str]] = {}

    def make(self, path: Path, store: WritableStore, step: MakeVolume, start_bytes: int, told: Told) -> None:
        """Make a volume with its files, and read them back. Raises ToolFailed, BadRecord or Stopped."""
        made, kind = LaidOut(), step.volume_kind

        def put(folder: Path) -> None:
            nonlocal made
            made = self._put(step.tree, folder, kind, told)

        if self._system.form == "wim" and step.tree == "system":
            make_volume(store, step, start_bytes, file=path)
            apply_wim(self._system.path, path, self._system.edition)
            fill_ntfs(path, put)
        elif kind == "ntfs":
            make_volume(store, step, start_bytes, put=put, file=path)
        elif kind == "ext4" and self._fill_mounted(path, store, step, start_bytes, put):
            pass
        elif kind in ("vfat", "ext4"):
            with scratch_folder(self._scratch) as folder:
                put(folder)
                make_volume(store, step, start_bytes, laid_out=folder, file=path)
                if kind == "ext4" and os.geteuid() != 0:
                    own_ext_files(path, _owned(folder, made))
        else:
            raise ToolFailed(f"A volume of the kind {kind} cannot be filled; nothing was written.", "Plan again.")
        verify_volume(store, made, told, kind)
        self._left_out += made.left_out
        for what, places in made.not_kept.items():
            self._not_kept.setdefault(what, []).extend(places)

    def notes(self) -> list[str]:
        """What is to be known of volumes that were made: what of the image they were not given, or could not have."""
        left = "Of the image was left out, since the volumes do not hold it"
        found = [f"{left}: {_some(self._left_out)}."] if self._left_out else []
        if self._image.drivers and not self._system.description.drivers_to:
            name = self._system.description.name
            found.append(
                f"The drivers were not laid: {name} has no place where it looks for them. Take them on a stick."
            )
        return found + [f"Not kept: {what}: {_some(places)}." for what, places in self._not_kept.items()]

    def _fill_mounted(
        self, path: Path, store: WritableStore, step: MakeVolume, start_bytes: int, put: Callable[[Path], None]
    ) -> bool:
        """Through the kernel, which stays quick with many files in a folder; whether that can be done."""
        if os.geteuid() != 0:
            return False
        make_volume(store, step, start_bytes, file=path)
        try:
            in_own_mount(path, "ext4", put)
        except CannotMount:
            return False
        return True

    def _put(self, key: str, folder: Path, kind: str, told: Told) -> LaidOut:
        image, settings = self._system, self._image.settings
        if image.form != "wim":
            made = lay_out(image, key, folder, settings, told, self._check, kind)
        elif key == "startup":
            made = lay_out_startup(image.path, folder, image.description.name, settings, image.edition)
        else:
            made = LaidOut()
        if self._image.data and key == people_key(image.description.family, self._keys):
            self._give_back(key, folder, made, told)
        if key != "system":
            return made
        about = image.description
        answers = Answers(**{k: v for k, v in self._image.answers.items() if k in Answers.__struct_fields__})
        drivers = about.drivers_to if self._image.drivers else ""
        there = lambda name: os.path.lexists(folder / inside(folder, name))  # noqa: E731
        for name, data in answer_files(about.family, answers, drivers, there).items():
            _write(folder, name, data, made)
        for name, target in answer_links(about.family, answers).items():
            put_link(folder, name, target, made)
        if drivers:
            root = Path(self._image.drivers)
            for path in sorted(p for p in root.rglob("*") if p.is_file() and not p.is_symlink()):
                self._check()
                _write(folder, f"{drivers}/{path.relative_to(root).as_posix()}", path.read_bytes(), made)
        return made

    def _give_back(self, key: str, folder: Path, made: LaidOut, told: Told) -> None:
        """People's files to where people's folders are; on a volume of its own without the folder above them."""
        image, system = self._image, self._system
        with people_files(Path(image.data), image.data_drive) as source:
            held = {as_text(h.stored) or h.path: h for h in source.files()}
            wish = BackWish(
                programs=image.programs,
                kinds=image.kinds,
                same=image.same,
                persons=image.persons,
                without=image.without,
            )
            found = given_back(source, held.values(), system.destination, wish)
            bring_back(source, found, held, folder, system.description.family, key == "home", made, told)
        save(self._scratch.with_name(f"{self._scratch.stem}.returned.json"), _with_not_kept(found, made))


def _with_not_kept(found: GivingBack, made: LaidOut) -> GivingBack:
    """With what the volume did not take of them."""
    more = [
        NotKept(what=what, files=len(places), places=tuple(map(as_text, places[:_MOST_EXAMPLES])))
        for what, places in made.not_kept.items()
    ]
    return msgspec.structs.replace(found, not_kept=(*found.not_kept, *more))


def _owned(folder: Path, made: LaidOut) -> dict[str, tuple[int, int, int | None]]:
    """Owner and group of everything below a folder, and its mode where that could not be set on its way.

    Folders that the image only implies belong to the system.
    """
    found: dict[str, tuple[int, int, int | None]] = {}
    for at, folders, files_ in os.walk(folder):
        for name in (*folders, *files_):
            place = Path(at) / name
            inner = place.relative_to(folder).as_posix()
            user, group, mode = made.owners.get(inner, (0, 0, 0))
            now = place.lstat().st_mode
            wanted = stat.S_IFMT(now) | stat.S_IMODE(mode)
            found[inner] = (user, group, wanted if mode and not stat.S_ISLNK(now) and wanted != now else None)
    return found


def _write(folder: Path, name: str, data: bytes, made: LaidOut) -> None:
    try:
        put_file(folder, name, [data], made)
    except OSError as error:
        raise BadRecord(
            f"“{name}” cannot be written ({error.strerror}); nothing was written.", "Plan again."
        ) from error


@contextmanager
def scratch_folder(beside: Path) -> Iterator[Path]:
    """A folder for files on their way; what a killed run left is taken away first."""
    for left in beside.parent.glob(f".{beside.name}-files-*"):
        shutil.rmtree(left, ignore_errors=True)
    folder = Path(tempfile.mkdtemp(prefix=f".{beside.name}-files-", dir=beside.parent))
    inner = folder / "root"  # nobody else comes there: programs in it may have rights that are meant for the new drive
    try:
        inner.mkdir()
        inner.chmod(0o755)
        yield inner
    finally:
        with suppress(OSError):
            shutil.rmtree(folder, ignore_errors=True)


def verify_volume(store: ReadableStore, made: LaidOut, told: Told, kind: str) -> None:
    """Read a volume back by another way than it was written: names, sizes, contents, links, and where the volume has
    them dates, owners, permissions and attributes. Raises ToolFailed for what differs.

    `told` hears of the bytes of files, and may end it. On FAT a name counts in any letters, and only contents do.
    """
    key = str.casefold if kind == "vfat" else str
    left = {key(name): digest for name, digest in made.digests.items()}
    links = dict(made.links)
    tree = open_tree(store)
    try:
        for one in tree.walk_entries(with_data=True):
            if one.kind == "link":
                if one.path in links:
                    _same_link(one, links.pop(one.path))
                continue
            if kind != "vfat":
                _same_marks(one, made.marks.get(one.path))
            digest = left.pop(key(one.path), None) if one.kind == "file" else None
            if digest is None:
                continue
            told(one.size_bytes)
            if one.data is not None and _digest_of_data(store, one.data, one.size_bytes) == digest:
                continue
            if _digest_of_file(tree, one.inode) != digest:
                raise _differs(one)
        missing = [*left, *links]
        if missing:
            name = as_text(missing[0])
            raise ToolFailed(
                f"{len(missing)} files are missing on the new volume, such as “{name}”; nothing was written.",
                "Try again.",
            )
    finally:
        tree.close()


def _some(names: Sequence[str]) -> str:
    more = f", and {len(names) - _MOST_NAMED} more" if len(names) > _MOST_NAMED else ""
    return ", ".join(map(as_text, names[:_MOST_NAMED])) + more


def _differs(one: Entry, what: str = "") -> ToolFailed:
    more = f" ({what})" if what else ""
    return ToolFailed(
        f"“{as_text(one.path)}” on the new volume is not what it should be{more}; nothing was written.", "Try again."
    )


def _same_link(one: Entry, target: str) -> None:
    if one.target.replace("\\", "/") != target.replace("\\", "/"):
        raise _differs(one, "it leads elsewhere")


def _same_marks(one: Entry, wanted: FileMarks | None) -> None:
    """As far as the volume has such marks."""
    if wanted is None:
        return
    found = one.marks
    for name in ("user", "group", "mode"):
        here, asked = getattr(found, name), getattr(wanted, name)
        if here is not None and asked is not None and here != asked:
            raise _differs(one, f"{name} {here:o} for {asked:o}" if name == "mode" else f"{name} {here} for {asked}")
    for name in ("modified_s", "created_s"):
        here, asked = getattr(found, name), getattr(wanted, name)
        if here is not None and asked is not None and abs(here - asked) > _NEAR_S and one.kind == "file":
            raise _differs(one, "its date")
    both = found.attributes is not None and wanted.attributes is not None
    if both and ((found.attributes or 0) ^ (wanted.attributes or 0)) & _ATTRIBUTES:
        raise _differs(one, "its attributes")
    if wanted.streams and not set(wanted.streams) <= set(found.streams):
        raise _differs(one, "its streams")


def _digest_of_data(store: ReadableStore, data: list[tuple[int, int]] | bytes, size: int) -> bytes:
    """Of a file that stands in the volume as it is."""
    if isinstance(data, bytes):
        return blake3(data).digest()
    digest, left = blake3(max_threads=1), size
    for start, end in data:
        end = min(end, start + left)
        left -= end - start
        for at in range(start, end, _PIECE):
            digest.update(store.read(at, min(_PIECE, end - at)))
    return digest.digest()


def _digest_of_file(tree: FileTree, inode: int) -> bytes:
    """Of any file, by asking the library for it piece by piece."""
    digest = blake3(max_threads=1)
    for piece, _ in tree.contents(inode, _PIECE):
        digest.update(piece)
    return digest.digest()

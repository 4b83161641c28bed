"""Fresh drives: a recipe's table with empty volumes, or with a system image put onto them."""

from __future__ import annotations

import os
import shutil
import stat
import tempfile
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from itertools import combinations
from pathlib import Path, PurePosixPath

import msgspec
from blake3 import blake3

from neogenesis.bench.drives import confirm_tail, same_bytes
from neogenesis.bench.inside.laying import LaidOut, put_file
from neogenesis.bench.inside.returning import PeopleFiles, WayBack, given_back, people_files
from neogenesis.bench.inside.system_image import InspectedSystem, inspect_system, lay_out
from neogenesis.bench.inside.wim import apply_wim, lay_out_startup
from neogenesis.bench.processes.reader import open_tree
from neogenesis.bench.records.shipped import load_appliance
from neogenesis.bench.register import Consent, allow_output
from neogenesis.bench.works.planning import load_plan, new_id, target_of
from neogenesis.bench.works.volumes import fill_ntfs, make_volume, own_ext_files
from neogenesis.core.drive import refuse_wrong_tail
from neogenesis.core.errors import BadArgument, BadRecord, Refused, ToolFailed
from neogenesis.core.plan import LayoutPartition, Plan
from neogenesis.core.plan.fresh import Filling, make_fresh_plan, room_beside
from neogenesis.core.plan.model import FreshSource, SystemImage, Target
from neogenesis.core.plan.recipe import Recipe, RecipeWishes, recipe_named
from neogenesis.core.plan.steps import MakeVolume
from neogenesis.core.record import save
from neogenesis.core.reinstall import Answers, answer_files, settings_for
from neogenesis.core.reinstall.returned import BackWish, Held, as_text
from neogenesis.core.store import ReadableStore, WritableStore
from neogenesis.core.system import FileTree
from neogenesis.core.transfer import RunFiles
from neogenesis.core.transfer.prepare import Told

_SECTOR, _FIRST_PERSON = 512, 1000
_PIECE = 1 << 20


def recipe_of(name: str) -> Recipe:
    """Raises BadArgument for a name that no recipe has."""
    return recipe_named(name, load_appliance)


def fresh_target(name: str, tail: str | None = None) -> Target:
    """What is known of a drive that is to be made anew. With `tail`, refused unless it is how the drive ends."""
    known = target_of(name, _SECTOR)
    if known.drive is None:
        raise BadArgument(f"“{name}” is no drive.", "Name a drive.")
    if tail is not None:
        refuse_wrong_tail(tail, confirm_tail(known.drive))
    if known.drive.mounted:
        raise Refused(
            "mounted",
            f"“{name}” is mounted or in use by this machine; nothing was written.",
            "Unmount it, after making sure that it is the right one.",
        )
    return known


def plan_recipe(recipe: Recipe, target: Target, wishes: RecipeWishes) -> Plan:
    """A plan of empty volumes; raises Refused."""
    return make_fresh_plan(recipe, wishes, target, new_id)


def plan_install(
    system: InspectedSystem,
    recipe: Recipe,
    target: Target,
    wishes: RecipeWishes,
    answers: Answers,
    drivers: Path | None = None,
    back: WayBack | None = None,
) -> Plan:
    """A plan that puts a system image onto a recipe's volumes; raises Refused when it does not suit."""
    about = system.description
    kinds = {part.key: part.kind for part in recipe.parts}
    if system.form == "wim" and kinds.get("system") != "ntfs":
        wants = f"{about.name} wants an NTFS volume; nothing was written."
        raise Refused("recipe", wants, "Take a recipe for its family.")
    if recipe.machine and recipe.machine not in about.firmware:
        raise Refused(
            "firmware",
            f"{about.name} cannot be started by a {recipe.machine} machine; nothing was written.",
            f"Take a recipe for {' or '.join(about.firmware)}.",
        )
    keys = {part.key for part in recipe.parts}
    without = [key for key in system.bytes_by_key if key not in keys and key == "system"]
    if without:
        raise Refused("recipe", f"“{recipe.title}” has no system volume; nothing was written.", "Take another recipe.")
    more = 0 if drivers is None else _folder_bytes(drivers)
    filled = {key: size + (more if key == "system" else 0) for key, size in system.bytes_by_key.items() if key in keys}
    if back is not None:
        key = people_key(about.family, keys)
        filled[key] = filled.get(key, 0) + back.room_bytes
    legacy = recipe.machine == "legacy"
    image = SystemImage(
        path=str(system.path.absolute()),
        digest=system.digest,
        size_bytes=system.size_bytes,
        name=about.name,
        drivers=str(drivers.absolute()) if drivers is not None else "",
        data=str(back.data.absolute()) if back is not None else "",
        data_drive=back.drive if back is not None else "",
        kinds=back.wish.kinds if back is not None else (),
        programs=back is not None and back.wish.programs,
        newer=back is not None and back.wish.newer,
    )
    filling = Filling(image, filled, system.boot_code if legacy else b"", system.core if legacy else b"")
    plan = make_fresh_plan(recipe, wishes, target, new_id, filling)
    told = {
        "MACHINE_NAME": answers.machine_name,
        "LANGUAGE": answers.language,
        "KEYBOARD": answers.keyboard,
        "TIME_ZONE": answers.time_zone,
        "MACHINE_ID": new_id().replace("-", "").lower(),
    }
    parts = {p.number: k for p, k in zip(plan.layout.partitions, _keys(plan), strict=True)}
    settings = settings_for(plan.layout, plan.operations, parts, told)
    source = FreshSource(
        recipe=recipe.name,
        title=recipe.title,
        system=msgspec.structs.replace(image, settings=settings),
        boot_code=filling.boot_code,
    )
    return msgspec.structs.replace(plan, source=source)


def room_for_people(
    system: InspectedSystem, recipe: Recipe, target: Target, wishes: RecipeWishes, drivers: Path | None
) -> tuple[int, int]:
    """Bytes that the volume of people's folders can take, and those of the system that it holds as well.

    Raises Refused as planning does.
    """
    plan = plan_install(system, recipe, target, wishes, Answers(), drivers)
    key = people_key(system.description.family, _keys(plan))
    filled = system.bytes_by_key.get(key, 0)
    filled += _folder_bytes(drivers) if drivers is not None and key == "system" else 0
    return room_beside(volume_for_people(plan, system.description.family).size_bytes, filled), filled


def volume_for_people(plan: Plan, family: str) -> LayoutPartition:
    """Where people's folders are on a drive that gets a system of that family."""
    keys = _keys(plan)
    return plan.layout.partitions[keys.index(people_key(family, keys))]


def people_key(family: str, keys: Collection[str]) -> str:
    """The volume on which people's folders are: one of its own where the recipe has it."""
    return "home" if family == "linux" and "home" in keys else "system"


def _keys(plan: Plan) -> list[str]:
    """The keys of the recipe's parts, in the order of the layout."""
    recipe = recipe_of(plan.source.recipe) if isinstance(plan.source, FreshSource) else None
    keys = [part.key for part in recipe.parts] if recipe is not None else []
    more = ["swap" if p.role == "swap" else "data" for p in plan.layout.partitions[len(keys) :]]
    return [*keys, *more]


def _folder_bytes(folder: Path) -> int:
    """What a folder takes; raises BadArgument when it is not there."""
    if not folder.is_dir():
        raise BadArgument(f"The folder of drivers “{folder}” is not there.", "Check the name.")
    return sum(p.stat().st_size + 4096 for p in folder.rglob("*") if p.is_file())


def kept_plans(
    drives: Sequence[str],
    consents: Sequence[Consent],
    kind: str,
    folder: Path,
    out: Path | None,
    resume: bool,
    plan: Callable[[str, str | None], Plan],
    force: bool = False,
) -> list[Path]:
    """A plan for each drive, written where it was asked for, else into `folder`, named after its drive.

    With `resume`, one that stands there for the same drive is gone on with. Raises NeogenesisError before any is run.
    """
    if any(same_bytes(one, other) for one, other in combinations(drives, 2)):
        raise BadArgument("A drive is named twice, or two of them are one drive.", "Name each drive once.")
    found = []
    for drive, consent in zip(drives, consents, strict=True):
        known = fresh_target(drive, consent.tail).drive
        key = known.identity.key if known is not None else "drive"
        tail = confirm_tail(known) if known is not None else ""
        safe = "".join(c if c.isalnum() else "_" for c in tail.upper())
        path = folder / out.name if out is not None and consent.check_only else out
        path = path or folder / f"{kind}-{safe}-{key}.plan.json"
        if resume and path.exists():
            held = load_plan(path).target.drive
            if held is None or known is None or held.identity != known.identity:
                raise BadRecord(f"“{path.name}” is a plan for another drive; nothing was written.", "Move it away.")
        else:
            save(allow_output(path, "plan", drives, consent.bench, force), plan(drive, consent.tail))
            RunFiles(path).journal.unlink(missing_ok=True)
        found.append(path)
    return found


class SystemFiles:
    """Fills volumes with the system image of a plan. `check` may end the work."""

    def __init__(self, plan: Plan, scratch: Path, check: Callable[[], None]) -> None:
        source = plan.source
        if not isinstance(source, FreshSource) or source.system is None:
            raise Refused("plan", "The plan names no system image; nothing was written.", "Plan again.")
        self._image, self._check, self._scratch = source.system, check, scratch
        found = inspect_system(Path(self._image.path), lambda _: check())
        if found.digest != self._image.digest:
            raise Refused(
                "image-changed",
                f"The system image “{found.path.name}” is not the one that the plan was made for; nothing was written.",
                "Plan again with this one.",
            )
        self._system = found
        self._keys = [part.key for part in recipe_of(source.recipe).parts]
        #: Members of the image that no volume was given.
        self.left_out: list[str] = []

    def make(self, path: Path, store: WritableStore, step: MakeVolume, start_bytes: int, told: Told) -> None:
        """Make a volume with its files, and read them back. Raises ToolFailed, BadRecord or Stopped."""
        made, kind = LaidOut(), step.volume_kind

        def put(folder: Path) -> None:
            nonlocal made
            made = self._put(step.tree, folder, kind == "ext4", told)

        if self._system.form == "wim" and step.tree == "system":
            make_volume(store, step, start_bytes, file=path)
            apply_wim(self._system.path, path)
            fill_ntfs(path, put)
        elif kind == "ntfs":
            make_volume(store, step, start_bytes, put=put, file=path)
        elif kind in ("vfat", "ext4"):
            with scratch_folder(self._scratch) as folder:
                put(folder)
                make_volume(store, step, start_bytes, laid_out=folder, file=path)
                if kind == "ext4" and os.geteuid() != 0:
                    own_ext_files(path, _owned(folder, made))
        else:
            raise ToolFailed(f"A volume of the kind {kind} cannot be filled; nothing was written.", "Plan again.")
        verify_files(store, made.digests, told, folded=kind == "vfat")
        self.left_out += made.left_out

    def _put(self, key: str, folder: Path, owned: bool, told: Told) -> LaidOut:
        image, settings = self._system, self._image.settings
        if image.form != "wim":
            made = lay_out(image, key, folder, settings, told, self._check, owned)
        elif key == "startup":
            made = lay_out_startup(image.path, folder, image.description.name, settings)
        else:
            made = LaidOut()
        if self._image.data and key == people_key(image.description.family, self._keys):
            self._give_back(key, folder, made, told)
        if key != "system":
            return made
        about = image.description
        answers = Answers(
            language=settings.get("LANGUAGE", ""),
            keyboard=settings.get("KEYBOARD", ""),
            machine_name=settings.get("MACHINE_NAME", ""),
            time_zone=settings.get("TIME_ZONE", ""),
        )
        drivers = about.drivers_to if self._image.drivers else ""
        for name, data in answer_files(about.family, answers, drivers).items():
            _write(folder, name, data, made)
        if drivers:
            root = Path(self._image.drivers)
            for path in sorted(p for p in root.rglob("*") if p.is_file() and not p.is_symlink()):
                self._check()
                _write(folder, f"{drivers}/{path.relative_to(root).as_posix()}", path.read_bytes(), made)
        return made

    def _give_back(self, key: str, folder: Path, made: LaidOut, told: Told) -> None:
        """People's files to where people's folders are; on a volume of its own without the folder above them."""
        image, family = self._image, self._system.description.family
        with people_files(Path(image.data), image.data_drive) as source:
            held = {as_text(h.stored): h for h in source.files()}
            wish = BackWish(programs=image.programs, kinds=image.kinds, newer=image.newer)
            found = given_back(source, held.values(), family, wish)
            for one in found.files:
                told(one.size_bytes)
                place = one.place.split("/", 1)[1] if key == "home" else one.place
                inner = _bring(source, held[one.stored], folder, place, made)
                if family == "linux":
                    _to_first_person(folder, inner, made)
        save(self._scratch.with_name(f"{self._scratch.stem}.returned.json"), found)


def _to_first_person(folder: Path, place: str, made: LaidOut) -> None:
    """A file that went back, and the folders around it that nothing else made, but for that of all homes."""
    around = [str(p) for p in PurePosixPath(place).parents if str(p) not in (".", "home")]
    for name in (place, *(n for n in around if n not in made.owners)):
        made.owners[name] = (_FIRST_PERSON, _FIRST_PERSON, 0)
        with suppress(OSError):
            os.chown(folder / name, _FIRST_PERSON, _FIRST_PERSON, follow_symlinks=False)


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


def _bring(source: PeopleFiles, held: Held, folder: Path, name: str, made: LaidOut) -> str:
    """One file, by its checksum where that is on record; returns where it went.

    Raises BadRecord for one that is not what was salvaged.
    """
    try:
        inner, digest = put_file(folder, name, source.pieces(held), made, source.modified_s(held), anew=False)
    except OSError as error:
        raise BadRecord(
            f"“{held.path}” cannot be given back ({error.strerror}); nothing was written.", "Try again."
        ) from error
    if held.blake3 and digest.hex() != held.blake3:
        raise BadRecord(
            f"“{held.stored}” is not what was salvaged: its checksum differs; nothing was written.",
            "Salvage it again, or take it out of the folder.",
        )
    return inner


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


def verify_files(store: ReadableStore, digests: Mapping[str, bytes], told: Told, folded: bool = False) -> None:
    """Read every file of a volume back by another way than it was written; raises ToolFailed for one that differs.

    `told` hears of their bytes, and may end it. With `folded` a name counts in any letters, as on FAT.
    """
    key = str.casefold if folded else str
    left = {key(name): digest for name, digest in digests.items()}
    tree = open_tree(store)
    try:
        for name, size, inode, data in tree.walk_with_data():
            digest = left.pop(key(name), None)
            if digest is None:
                continue
            told(size)
            if data is not None and _digest_of_data(store, data, size) == digest:
                continue
            if _digest_of_file(tree, inode) != digest:
                raise ToolFailed(
                    f"“{name}” on the new volume is not what the image holds; nothing was written.", "Try again."
                )
        if left:
            raise ToolFailed(
                f"{len(left)} files are missing on the new volume, such as “{next(iter(left))}”; nothing was written.",
                "Try again.",
            )
    finally:
        tree.close()


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

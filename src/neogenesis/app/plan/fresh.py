"""What is wanted of a clean start: a recipe, a system for it, its drivers and answers; and the plan that gives."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import msgspec
from PyQt6.QtCore import QObject, pyqtSignal

from neogenesis.app.desk.session import Session
from neogenesis.app.desk.work import Failure, failure_of
from neogenesis.app.survey.model import SurveyModel
from neogenesis.bench.inside.driver_store import Found, find_drivers, read_devices
from neogenesis.bench.inside.returning import WayBack, what_could_return
from neogenesis.bench.inside.system_image import InspectedSystem, inspect_system
from neogenesis.bench.processes.folders import LIBRARY
from neogenesis.bench.works import installing
from neogenesis.core.drivers import Answer, Device, Hardware
from neogenesis.core.errors import BadArgument, NeogenesisError
from neogenesis.core.plan import Plan
from neogenesis.core.plan.model import FreshSource, SystemImage, Target
from neogenesis.core.plan.recipe import RecipeWishes
from neogenesis.core.record import Record, save, to_json
from neogenesis.core.reinstall import USUAL_ANSWERS, Answers, read_answers
from neogenesis.core.reinstall.giving import Destination
from neogenesis.core.reinstall.returned import BackWish, Returnable, Same
from neogenesis.core.undo import Undo

_SYSTEM_ENDS = (".tar.zst", ".tzst", ".tar", ".wim")


class FreshWish(Record, frozen=True, kw_only=True):
    """`system` is the path of an image, empty for empty volumes; `drivers` a packed folder, empty for none.

    `data` is a folder or drive whose files go back to people, of these `kinds` (all where none is named); with
    `programs` also those that can be run. Of two for one place `same` says which counts, `persons` whose an old home
    becomes, `without` are patterns of what stays out. Of an image with several, `edition` is the number of the one that
    is wanted.
    """

    recipe: str = "nt-uefi"
    wishes: RecipeWishes = RecipeWishes()
    system: str = ""
    drivers: str = ""
    data: str = ""
    kinds: tuple[str, ...] = ()
    programs: bool = False
    same: Same = "beside"
    persons: tuple[tuple[str, str], ...] = ()
    without: tuple[str, ...] = ()
    edition: int = 0
    answers: Answers = USUAL_ANSWERS


@dataclass(frozen=True, slots=True)
class _Asked:
    """Whose files were looked through, for which system, and as what they would return."""

    data: str
    destination: Destination
    wish: BackWish


class FreshModel(QObject):
    """`plan` is the last one that works; `refusal` says why what is wanted now has none.

    `coverage` is what was found out of the drivers, `people` what could return to people, `room_bytes` how much of that
    their volume can take, `beside_bytes` what of the system is on it as well.
    """

    changed = pyqtSignal()

    def __init__(self, session: Session, survey: SurveyModel) -> None:
        super().__init__(session)
        self._session, self._survey = session, survey
        self.wish = FreshWish()
        self.plan: Plan | None = None
        self.refusal: Failure | None = None
        self.failure: Failure | None = None
        self.reading = self.asking = False
        self.target: Target | None = None
        self.coverage: Answer | None = None
        self.people: Returnable | None = None
        self.room_bytes = self.beside_bytes = 0
        self._people_of: _Asked | None = None
        self._people_drive, self._plan_waits = "", False
        self._systems: dict[tuple[str, int], InspectedSystem] = {}
        self._asked = ""
        self._undoing = Undo[FreshWish]()

    # What there is

    @property
    def library(self) -> Path:
        """Where the bench keeps system images and driver packages."""
        return self._session.bench.store.folder / LIBRARY

    def systems(self) -> list[Path]:
        """System images of the library, and the one that is wanted."""
        found = sorted(p for p in self.library.glob("*") if p.name.endswith(_SYSTEM_ENDS))
        wanted = Path(self.wish.system)
        return found if not self.wish.system or wanted in found else [*found, wanted]

    @property
    def system(self) -> InspectedSystem | None:
        """What is known of the wanted image; None while it is read, or for empty volumes."""
        return self._systems.get((self.wish.system, self.wish.edition))

    @property
    def can_undo(self) -> bool:
        return self._undoing.can_undo

    @property
    def can_redo(self) -> bool:
        return self._undoing.can_redo

    # Getting ready

    def adopt(self, plan: Plan) -> None:
        """A plan that is on file."""
        source = plan.source
        if isinstance(source, FreshSource):
            self.plan = plan
            self.people, self._people_of = None, None
            image = source.system
            self.wish = FreshWish(
                recipe=source.recipe,
                wishes=RecipeWishes(spare_percent=plan.policy.spare_percent),
                system=image.path if image is not None else "",
                drivers=image.drivers if image is not None else "",
                data=image.data if image is not None else "",
                kinds=image.kinds if image is not None else (),
                programs=image is not None and image.programs,
                same=image.same if image is not None else "beside",
                persons=image.persons if image is not None else (),
                without=image.without if image is not None else (),
                edition=image.edition if image is not None and image.edition > 1 else 0,
                answers=_answers_of(image),
            )

    def forget(self) -> None:
        """Another drive is meant."""
        self.plan = self.target = self.refusal = None

    def know(self, target: Target) -> None:
        """The new drive has been read already."""
        self.target, self._asked = target, self._session.place("new")
        self._remake()

    def prepare(self) -> None:
        """Read the new drive; the plan follows."""
        name = self._session.place("new")
        if self.reading or not name or (self.target is not None and self._asked == name):
            return
        self.reading, self.failure, self._asked = True, None, name
        self.changed.emit()
        self._session.bench.work.in_process(self._read, installing.fresh_target, name)

    def _read(self, found: Target | Failure) -> None:
        self.reading = False
        if isinstance(found, Failure):
            self.failure = found
        elif found.drive is not None and self._session.means("new", found.drive):
            self.target = found
            self._session.learn("new", found.drive)
            if self.plan is None or self.plan.target != found:
                self._remake()
        self.changed.emit()

    # Changing

    def change(self, **fields: object) -> None:
        """Another wish; the one before can be had back."""
        wanted = msgspec.structs.replace(self.wish, **fields)
        if wanted != self.wish:
            self._undoing.remember(self.wish)
            self._set(wanted)

    def undo(self) -> None:
        self._set(self._undoing.undo(self.wish))

    def redo(self) -> None:
        self._set(self._undoing.redo(self.wish))

    def _set(self, wish: FreshWish) -> None:
        self.wish = wish
        if wish.system and self.system is None:
            self._inspect(wish.system, wish.edition)
        self._remake()
        self.changed.emit()

    def _inspect(self, system: str, edition: int) -> None:
        self.asking, self.failure = True, None
        work = self._session.bench.work
        work.in_process(lambda got: self._inspected(system, edition, got), _inspect_edition, Path(system), edition)

    def _inspected(self, system: str, edition: int, got: InspectedSystem | Failure) -> None:
        self.asking = False
        if isinstance(got, Failure):
            self.failure = got
            if self.wish.system == system:
                self.wish = msgspec.structs.replace(self.wish, system="", edition=0)
        else:
            self._systems[system, edition] = got
        self._remake()
        self.changed.emit()

    def _remake(self) -> None:
        if self.target is None or (self.wish.system and self.system is None):
            return
        wish, system = self.wish, self.system
        try:
            recipe = installing.recipe_of(wish.recipe)
            if system is None:
                self.plan = installing.plan_recipe(recipe, self.target, wish.wishes)
            elif len(system.editions) > 1 and not wish.edition:
                raise BadArgument(
                    f"This image holds {len(system.editions)} editions.", "Choose the one that is wanted."
                )
            elif not wish.data or self._knows_people(system):
                drivers = Path(wish.drivers) if wish.drivers else None
                if wish.data:
                    room = installing.room_for_people(system, recipe, self.target, wish.wishes, drivers)
                    self.room_bytes, self.beside_bytes = room
                more = (wish.wishes, wish.answers, drivers, self._way_back())
                self.plan = installing.plan_install(system, recipe, self.target, *more)
            self.refusal = None
        except NeogenesisError as error:
            self.refusal = failure_of(error)

    def answer(self, key: str, text: str) -> str:
        """Take one answer for the first start; returns what is wrong with it."""
        wanted = msgspec.structs.replace(self.wish.answers, **{key: text})
        try:
            read_answers(to_json(wanted))
        except NeogenesisError as error:
            return error.sentence()
        self.change(answers=wanted)
        return ""

    # People's files

    def salvages(self) -> list[Path]:
        """Folders into which files of this job were copied."""
        starts = [e.figures for e in self._session.log() if e.kind == "salvage-start"]
        found = dict.fromkeys(Path(str(f["place"])) for f in starts if "place" in f)
        return [p for p in found if p.is_dir()]

    @property
    def old_drive(self) -> str:
        """The old drive of this job, where it is connected and is not what is made anew; else empty."""
        old = self._session.place("old")
        return old if old != self._session.place("new") else ""

    def meet_people(self) -> None:
        """Look at what could return for a plan that is on file; it stays as it is."""
        if self.wish.data and self._people_of is None and not self.asking:
            self._look_at_people(self._asked_people(self.system))
            self.changed.emit()

    def _asked_people(self, system: InspectedSystem | None) -> _Asked:
        wish = self.wish
        destination = system.destination if system is not None else Destination("nt")
        return _Asked(wish.data, destination, BackWish(same=wish.same, persons=wish.persons, without=wish.without))

    def _knows_people(self, system: InspectedSystem) -> bool:
        """Whether what could return is known; if not, it is looked at, and the plan follows."""
        wanted = self._asked_people(system)
        if self._people_of != wanted:
            self._look_at_people(wanted)
        self._plan_waits = self.people is None
        return self.people is not None

    def _look_at_people(self, wanted: _Asked) -> None:
        self._people_of, self.people, self.asking, self.failure = wanted, None, True, None
        work = self._session.bench.work
        order = (Path(wanted.data), wanted.destination, wanted.wish)
        work.in_process(lambda got: self._met(wanted, got), what_could_return, *order)

    def _met(self, wanted: _Asked, got: tuple[Returnable, str] | Failure) -> None:
        if self._people_of != wanted:
            return
        self.asking, waits, self._plan_waits = False, self._plan_waits, False
        if isinstance(got, Failure):
            self.failure, self._people_of = got, None
            if waits:
                self.wish = msgspec.structs.replace(self.wish, data="")
        else:
            self.people, self._people_drive = got
        if waits:
            self._remake()
        self.changed.emit()

    def _way_back(self) -> WayBack | None:
        wish = self.wish
        if not wish.data or self.people is None:
            return None
        chosen = self.people.chosen(wish.kinds, wish.programs)
        back = BackWish(
            programs=wish.programs, kinds=wish.kinds, same=wish.same, persons=wish.persons, without=wish.without
        )
        count = self.people.count_of(chosen, wish.kinds)
        return WayBack(Path(wish.data), back, self._people_drive, chosen.room_bytes, count)

    # Drivers

    def hardware_list(self) -> Path | None:
        """What the old system says of its devices, where the survey looked inside; else one of the library."""
        devices = tuple(
            Device(name=d.name, class_name=d.kind, hardware_ids=d.hardware_ids, compatible_ids=d.compatible_ids)
            for inside in self._survey.inside.values()
            for d in inside.devices
            if d.hardware_ids
        )
        own = self._session.dossier / "hardware.json"
        if devices and not own.exists():
            save(own, Hardware(devices=devices))
        return own if own.exists() else next(iter(sorted(self.library.glob("*.hardware.json"))), None)

    def ask_drivers(self, hardware: Path, packages: Path) -> None:
        """Which packages the machine needs; what is needed is packed into the job's folder and laid onto the drive."""
        if self.asking:
            return
        self.asking, self.failure = True, None
        self.changed.emit()
        out = next(p for n in range(1, 1000) if not (p := self._session.dossier / f"drivers-{n}").exists())
        self._session.bench.work.in_process(lambda got: self._answered(out, got), _pack, hardware, packages, out)

    def _answered(self, out: Path, got: Answer | Failure) -> None:
        self.asking = False
        if isinstance(got, Failure):
            self.failure = got
        else:
            self.coverage = got
            covered = sum(d.status in ("covered", "system") for d in got.devices)
            text = f"Drivers: {covered} of {len(got.devices)} devices covered, {len(got.missing)} missing"
            self._session.record("drivers", text, packed=out.name, missing=list(got.missing))
            self.change(drivers=str(out))
        self.changed.emit()


def _pack(hardware: Path, packages: Path, out: Path) -> Answer:
    found: Found = find_drivers(read_devices(hardware), packages, out)
    return found.answer


def _inspect_edition(path: Path, edition: int) -> InspectedSystem:
    return inspect_system(path, edition=str(edition) if edition else "")


def _answers_of(image: SystemImage | None) -> Answers:
    fields = Answers.__struct_fields__
    return Answers(**{k: v for k, v in image.answers.items() if k in fields}) if image is not None else USUAL_ANSWERS

"""Jobs of the demo bench that stand at the beginning: ten complaints, each with what was asked and measured."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from neogenesis.core.intake import (
    START_UP,
    Answer,
    Battery,
    Belonging,
    Figure,
    Intake,
    Later,
    Plate,
    Run,
    Timing,
    Valuable,
    keep_intake,
)
from neogenesis.core.job import Job
from neogenesis.core.job.store import JobStore

Promise = Callable[[int, int], str]
Drive = Callable[[str], str]
Log = Callable[..., None]


def _start(*runs: tuple[float, float]) -> tuple[Timing, ...]:
    return (Timing(name=START_UP, runs=tuple(Run(seconds=s, login_s=login) for s, login in runs)),)


def _here(*names: str) -> tuple[Valuable, ...]:
    return tuple(Valuable(what=name) for name in names)


def _said(**things: str) -> tuple[Valuable, ...]:
    return tuple(Valuable(what=what.replace("_", " "), where=where, shore="said") for what, where in things.items())


_FERRY_DESK = Intake(
    customer="Tern Island Ferry Company",
    contact="01632 960 114",
    plate=Plate(make="Petrel", model="14", serial="PT14-40882", profile="Petrel 14"),
    condition=("scratches", "foot-missing"),
    card="taken-out",
    came_with=(Belonging(what="charger"), Belonging(what="memory card")),
    symptoms=("slow", "freezes"),
    told="Since the harbour festival it takes minutes to sell a ticket",
    since="June",
    starts="yes",
    must_survive="everything",
    valuables=(
        *_here("timetables 2012 to 2026", "scanned passenger lists", "mail, not on a server"),
        *_said(address_book="on a phone", ticket_sales="in the cloud"),
        Valuable(what="chart licence", where="paper slip", shore="seen"),
    ),
    later=Later(accounts="yes", licences="yes", seal="none", warranty="no", consent_to_open="yes", budget="200"),
    timings=_start((201, 160), (198, 151), (187, 149)),
    battery=Battery(design_wh=48, full_wh=31.2, cycles=412, method="report"),
    figures=(
        Figure(code="memory", text="8, in one of two slots", unit="GB", method="typed"),
        Figure(code="bays", text="one M.2", method="typed"),
        Figure(code="temperature", text="71", unit="°C", method="typed"),
    ),
)
_OFFICE = Intake(
    customer="Tern Island Ferry Company",
    contact="01632 960 114",
    plate=Plate(make="Petrel", model="14", serial="PT14-41730", profile="Petrel 14"),
    card="none",
    symptoms=("slow", "full"),
    told="Nothing can be saved any more",
    starts="yes",
    must_survive="everything",
    valuables=(*_here("regatta pictures", "scanned tickets"), *_said(mail="on the server")),
    later=Later(consent_to_open="yes"),
    timings=_start((143, 96), (151, 99)),
    figures=(Figure(code="memory", text="4", unit="GB", method="typed"),),
)
_TURN = Intake(
    customer="Gullhaven Pilots' Office",
    contact="01632 960 250",
    plate=Plate(make="Petrel", model="Turn 13", serial="PTT-00915", profile="Petrel Turn 13"),
    symptoms=("wants-room",),
    told="The charts of the north no longer fit",
    starts="yes",
    must_survive="everything",
    valuables=_said(charts="at the office"),
    battery=Battery(design_wh=52, full_wh=47.9, cycles=130, method="typed"),
)
_TOWER = Intake(
    customer="Lantern Rock Lighthouse Museum",
    contact="keeper@lantern-rock.example",
    plate=Plate(make="Brightwell", model="Desk 3", serial="BD3-22017", profile="Brightwell Desk 3"),
    symptoms=("slow", "wants-room"),
    told="The register takes for ever to open",
    starts="yes",
    must_survive="everything",
    valuables=_here("the collection's register", "plates of the lens", "films"),
    later=Later(accounts="yes", consent_to_open="yes", recovery_key="not-encrypted", budget="350"),
    timings=_start((58, 41), (61, 43)),
)
_POCKET = Intake(
    customer="An islander of Tern Island",
    plate=Plate(make="Quayside", model="Pocket", serial="QP-70031", profile="Quayside Pocket"),
    card="inside",
    symptoms=("full", "wants-room"),
    told="No more games fit",
    starts="yes",
    must_survive="files",
    valuables=_said(saved_games="in the cloud"),
)
_LOOP = Intake(
    customer="Gullhaven Pilots' Office",
    contact="01632 960 250",
    plate=Plate(make="Petrel", model="11", serial="PT11-08264", profile="Petrel 11"),
    symptoms=("loop",),
    told="Restarts at the logo since an update last night",
    since="yesterday",
    starts="no",
    must_survive="files",
    valuables=_here("the rota", "charts of the watch room"),
    triage=(
        Answer(test="power", answer="picture"),
        Answer(test="firmware", answer="listed"),
        Answer(test="entry", answer="yes"),
    ),
)
_WATCH = Intake(
    customer="Gullhaven Pilots' Office",
    contact="01632 960 250",
    plate=Plate(make="Petrel", model="12", serial="PT12-11907", profile="Petrel 12"),
    symptoms=("malware", "slow"),
    told="A window asks for money; it came with an attached tide table",
    since="Tuesday",
    starts="yes",
    must_survive="files",
    valuables=(*_here("pilotage notes", "tide tables"), *_said(mail="on the server")),
    later=Later(accounts="yes", licences="yes", consent_to_open="yes"),
)
_BARE = Intake(
    customer="Tern Island Ferry Company",
    contact="01632 960 114",
    plate=Plate(make="Petrel", model="Shell 15", serial="PS15-00042", profile="Petrel Shell 15"),
    came_with=(Belonging(what="charger"),),
    symptoms=("no-system",),
    told="Bought as a shell: a drive, memory and a system are to go in",
    starts="no",
    must_survive="nothing",
    later=Later(licences="no", consent_to_open="yes", budget="260"),
)
_HANDHELD = Intake(
    customer="An islander of Tern Island",
    plate=Plate(make="Quayside", model="Pocket 2", serial="QP2-01188", profile="Quayside Pocket 2"),
    card="taken-out",
    symptoms=("no-start",),
    told="Stands at its logo since an update broke off; it is to be made as new from the card",
    since="Sunday",
    starts="no",
    must_survive="nothing",
    valuables=_said(saved_games="in the account"),
    later=Later(accounts="yes", consent_to_open="yes"),
)
_TERMINALS = Intake(
    customer="Lantern Rock Lighthouse Museum",
    contact="keeper@lantern-rock.example",
    plate=Plate(make="Brightwell", model="Pane 24", serial="BP24-0301", profile="Brightwell Pane 24"),
    symptoms=("slow",),
    told="Twelve of them, all alike, for the reading room: they only have to show the register",
    starts="yes",
    must_survive="nothing",
    later=Later(accounts="no", consent_to_open="yes", budget="900"),
    timings=_start((96, 70), (99, 74)),
)
_CHARTS = Intake(
    customer="Gullhaven Pilots' Office",
    contact="01632 960 250",
    plate=Plate(make="Brightwell", model="Desk 3", serial="BD3-20951", profile="Brightwell Desk 3"),
    symptoms=("slow", "wants-room"),
    told="Charts of the whole coast are to go onto it next month",
    starts="yes",
    must_survive="everything",
    valuables=(*_here("notes in the charts"), Valuable(what="charts", where="at the office", shore="seen")),
    later=Later(consent_to_open="yes", recovery_key="not-encrypted"),
    timings=_start((44, 31), (45, 31), (43, 30)),
)
_PHOTOGRAPHS = Intake(
    customer="An islander of Tern Island",
    plate=Plate(make="Petrel", model="11", serial="PT11-03377", profile="Petrel 11"),
    symptoms=("freezes", "slow"),
    told="Stands still for minutes; only the photographs matter, the machine is old",
    since="the winter",
    starts="sometimes",
    must_survive="files",
    valuables=_here("photographs"),
    later=Later(consent_to_open="yes"),
)
_KIOSK = Intake(
    customer="Lantern Rock Lighthouse Museum",
    contact="keeper@lantern-rock.example",
    plate=Plate(make="Quayside", model="Kiosk", serial="QK-00117", profile="Quayside Kiosk"),
    symptoms=("freezes",),
    told="Freezes in the middle of its film",
    starts="yes",
    must_survive="everything",
    valuables=_said(film="at the museum's office"),
    later=Later(consent_to_open="yes", seal="whole"),
    timings=_start((121, 90), (119, 90), (124, 93)),
)
#: Ticket, drive or none, days and hour of the promise, stop, machine, wish, intake, first line of the logbook.
_JOBS: tuple[tuple[str, str, int, int, str, str, str, Intake, str], ...] = (
    ("T-1045", "ferry-office", 2, 16, "survey", "Petrel 14, office", "Room and speed", _OFFICE, "Slow and full"),
    ("T-1046", "pilots-turn", 5, 10, "survey", "Petrel Turn 13", "More room for charts", _TURN, "A larger drive"),
    ("T-1047", "museum-system", 7, 15, "survey", "Brightwell Desk 3", "Faster, with room", _TOWER, "Two drives inside"),
    ("T-1048", "pocket", 3, 12, "intake", "Quayside Pocket", "Room for games", _POCKET, "A card is inside"),
    ("T-1049", "pilots-loop", 1, 12, "intake", "Petrel 11, watch room", "The rota, today", _LOOP, "Loops at start"),
    ("T-1050", "", 4, 16, "decide", "Petrel 12, pilot boat", "Clean again, notes kept", _WATCH, "Asks for money"),
    ("T-1051", "", 8, 12, "fit", "Petrel Shell 15", "A laptop out of a shell", _BARE, "Drive, memory and system"),
    (
        "T-1052",
        "",
        6,
        11,
        "decide",
        "Quayside Pocket 2",
        "As new; games are elsewhere",
        _HANDHELD,
        "Stands at its logo",
    ),
    ("T-1053", "", 9, 16, "decide", "Brightwell Pane 24, twelve", "A light system", _TERMINALS, "Twelve alike"),
)
#: Ticket, hours ago, kind and text of what was done since.
_SINCE = (
    ("T-1050", 1.4, "transfer-stopped", "Transfer stopped: a copy would have brought the malware along"),
    ("T-1050", 1.3, "note", "Files are copied out first; then a clean system on the new drive"),
)


def make_intakes(store: JobStore, promise: Promise, drive: Drive, log: Log) -> None:
    """The jobs, with their intakes; and the intakes of those that another part of the demo made."""
    for number, (ticket, old, days, hour, stop, machine, wish, intake, line) in enumerate(_JOBS):
        fields: dict[str, Any] = {"customer": intake.customer, "contact": intake.contact, "machine": machine}
        fields |= {"old_drive": drive(old)} if old else {}
        store.add(Job(ticket=ticket, promise=promise(days, hour), wish=wish, stop=stop, **fields))
        keep_intake(store.dossier(ticket), intake)
        log(ticket, 6.0 - 0.5 * number, "intake", line)
    for ticket, ago, kind, text in _SINCE:
        log(ticket, ago, kind, text)
    made = {"T-1041": _KIOSK, "T-1042": _FERRY_DESK, "T-1043": _CHARTS, "T-1044": _PHOTOGRAPHS}
    for ticket, intake in made.items():
        keep_intake(store.dossier(ticket), intake)
        store.update(ticket, contact=intake.contact)

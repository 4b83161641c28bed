"""Answers for the first start: language, keyboard, name of the machine, as each family's own open files hold them.

Sources: the NT family's published answer file (unattend, schema `urn:schemas-microsoft-com:unattend`); for Linux
hostname(5), locale.conf(5), vconsole.conf(5), machine-id(5).
"""

from __future__ import annotations

import re
from collections.abc import Callable
from datetime import UTC, date, datetime, timedelta
from html import escape
from typing import ClassVar
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from neogenesis.core.record import StrictRecord, refuse_faults, strict_from_json

_LANGUAGE = re.compile(r"[a-z]{2,3}(?:-[A-Z]{2})?")
_KEYBOARD = re.compile(r"[a-z]{2,3}(?:-[a-z0-9]{1,20})?")
_NAME = re.compile(r"[A-Za-z0-9](?:[A-Za-z0-9-]{0,13}[A-Za-z0-9])?")


class Answers(StrictRecord, frozen=True, kw_only=True):
    """No keys, no passwords: they are typed by the customer at the machine. What is empty stays as the image has it."""

    SCHEMA: ClassVar[str] = "neogenesis.answers/1"

    schema: str = SCHEMA
    language: str = ""
    keyboard: str = ""
    machine_name: str = ""
    time_zone: str = ""

    def given(self) -> dict[str, str]:
        """What was answered, by its name."""
        return {name: value for name in _ANSWERS if (value := getattr(self, name))}

    def or_usual(self) -> Answers:
        """With what is usual where nothing was answered."""
        return Answers(**{name: getattr(self, name) or getattr(USUAL_ANSWERS, name) for name in _ANSWERS})

    def placed(self) -> dict[str, str]:
        """By the name of its place holder in an image, which has no value of its own."""
        return {name.upper(): getattr(self.or_usual(), name) for name in _ANSWERS}


_LINUX_FILES = {"etc/hostname": "machine_name", "etc/locale.conf": "language", "etc/vconsole.conf": "keyboard"}
_LINUX_LINES = {"machine_name": "{}\n", "language": "LANG={}.UTF-8\n", "keyboard": "KEYMAP={}\n"}
_ANSWERS = ("language", "keyboard", "machine_name", "time_zone")
USUAL_ANSWERS = Answers(language="en-GB", keyboard="gb", machine_name="bench", time_zone="UTC")


def read_answers(data: bytes) -> Answers:
    """Raises BadRecord that names every fault."""
    found = strict_from_json(data, Answers, "answers")
    faults = []
    if found.language and not _LANGUAGE.fullmatch(found.language):
        faults.append(f"“{found.language[:20]}” is no language such as en-GB")
    if found.keyboard and not _KEYBOARD.fullmatch(found.keyboard):
        faults.append(f"“{found.keyboard[:20]}” is no keyboard such as gb")
    if found.machine_name and not _NAME.fullmatch(found.machine_name):
        faults.append(f"“{found.machine_name[:20]}” is no name for a machine: letters, digits and hyphens, at most 15")
    zone = found.time_zone
    if zone and (not re.fullmatch(r"[A-Za-z]+(?:[/_+-][A-Za-z0-9]+)*", zone) or len(zone) > 60):
        faults.append(f"“{found.time_zone[:20]}” is no time zone such as Europe/London")
    refuse_faults(faults, "answers file")
    return found


def answer_files(
    family: str, answers: Answers, drivers_to: str, is_there: Callable[[str], bool] = lambda name: False
) -> dict[str, bytes]:
    """Files for the system volume, by their place on it.

    What was not answered is as usual: of a Linux system only where the image has no such file, which `is_there` says.
    """
    if family == "nt":
        return {"Windows/Panther/unattend.xml": _unattend(answers.or_usual(), drivers_to).encode()}
    if family != "linux":
        lines = [f"{name}={getattr(answers.or_usual(), name)}" for name in _ANSWERS]
        return {"Meridian/System/first-start": ("\n".join(lines) + "\n").encode()}
    files = {
        "etc/machine-id": b"uninitialized\n",  # no two machines have the same one
        **({"etc/timezone": f"{answers.time_zone}\n".encode()} if answers.time_zone else {}),
    }
    for place, name in _LINUX_FILES.items():
        if getattr(answers, name) or not is_there(place):
            value = getattr(answers.or_usual(), name)
            files[place] = _LINUX_LINES[name].format(value if name != "language" else value.replace("-", "_")).encode()
    return files


def answer_links(family: str, answers: Answers) -> dict[str, str]:
    """Links for the system volume, by their place on it, with where they lead. Source: localtime(5)."""
    if family != "linux" or not answers.time_zone:
        return {}
    return {"etc/localtime": f"../usr/share/zoneinfo/{answers.time_zone}"}


def _unattend(answers: Answers, drivers_to: str) -> str:
    head = 'processorArchitecture="amd64" publicKeyToken="31bf3856ad364e35" language="neutral" versionScope="nonSxS"'
    language, zone = escape(answers.language), nt_zone(answers.time_zone, date.today().year)
    specialize = f"<ComputerName>{escape(answers.machine_name)}</ComputerName>"
    specialize += f"<TimeZone>{escape(zone)}</TimeZone>" if zone else ""
    drivers = ""
    if drivers_to:  # the system's own utility takes them in at the first start, before anybody is asked anything
        command = escape(f"pnputil.exe /add-driver C:\\{drivers_to.replace('/', chr(92))}\\*.inf /subdirs /install")
        drivers = (
            f'    <component name="Microsoft-Windows-Deployment" {head} '
            'xmlns:wcm="http://schemas.microsoft.com/WMIConfig/2002/State">\n'
            '      <RunSynchronous><RunSynchronousCommand wcm:action="add"><Order>1</Order>'
            f"<Path>{command}</Path></RunSynchronousCommand></RunSynchronous>\n    </component>\n"
        )
    return (
        '<?xml version="1.0" encoding="utf-8"?>\n<unattend xmlns="urn:schemas-microsoft-com:unattend">\n'
        f'  <settings pass="specialize">\n    <component name="Microsoft-Windows-Shell-Setup" {head}>\n'
        f"      {specialize}\n    </component>\n{drivers}  </settings>\n"
        f'  <settings pass="oobeSystem">\n    <component name="Microsoft-Windows-International-Core" {head}>\n'
        f"      <InputLocale>{escape(nt_keyboard(answers))}</InputLocale><SystemLocale>{language}</SystemLocale>"
        f"<UILanguage>{language}</UILanguage><UserLocale>{language}</UserLocale>\n    </component>\n  </settings>\n"
        "</unattend>\n"
    )


def nt_zone(zone: str, year: int) -> str:
    """What the NT family calls a time zone, or one whose clocks go alike in that year; empty where there is none.

    Source: CLDR, windowsZones.
    """
    from babel.core import get_global  # only who installs that family waits for it

    aliases = get_global("zone_aliases")
    names = {known: name for name, known in get_global("windows_zone_mapping").items()}
    zone = aliases.get(zone, zone)
    if zone in names:
        return str(names[zone])
    clocks = _clocks(zone, year)
    return next((str(name) for known, name in names.items() if clocks and _clocks(known, year) == clocks), "")


def _clocks(zone: str, year: int) -> tuple[timedelta | None, ...]:
    """How far a zone's clocks are from UTC, at noon of each day; empty for a zone that is not known."""
    try:
        rules = ZoneInfo(zone)
    except (ZoneInfoNotFoundError, ValueError, OSError):
        return ()
    noon = datetime(year, 1, 1, 12, tzinfo=UTC)
    return tuple((noon + timedelta(days=n)).astimezone(rules).utcoffset() for n in range(365))


def nt_keyboard(answers: Answers) -> str:
    """The keyboard as the language of a country that has it; that of the answers where it is no country's.

    Source: CLDR, likely subtags.
    """
    from babel.core import get_global

    country = answers.keyboard.partition("-")[0].upper()
    if answers.language.endswith(f"-{country}") or country not in get_global("territory_currencies"):
        return answers.language
    likely = str(get_global("likely_subtags").get(f"und_{country}", f"en_Latn_{country}"))
    return f"{likely.split('_')[0]}-{country}"

"""INF files as published: what each describes, for which identifiers, architectures and versions of the system.

Source: the NT family's published driver-installation reference: general syntax of INF files, the sections Version,
Manufacturer, Models, Strings, DDInstall, SourceDisksNames and SourceDisksFiles, and combining platform extensions.
Damage of any kind is an `InfFault`, never a crash.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from datetime import date

from neogenesis.core.record import Record

_LARGEST, _MOST_LINES, _MOST_MODELS, _DEEPEST = 16 << 20, 400_000, 200_000, 5
_TOKEN = re.compile(r"%([^%\r\n]*)%")
_DECORATION = re.compile(
    r"NT(?P<arch>x86|ia64|amd64|arm64|arm)?"
    r"(?:\.(?P<major>(?:0x)?[0-9a-f]*)(?:\.(?P<minor>(?:0x)?[0-9a-f]*)(?:\.(?P<product>(?:0x)?[0-9a-f]*)"
    r"(?:\.(?P<suite>(?:0x)?[0-9a-f]*)(?:\.(?P<build>(?:0x)?[0-9a-f]*))?)?)?)?)?",
    re.I,
)
_ARCHITECTURES = ("amd64", "x86", "arm64")
#: The class of packages that extend others, as published.
_EXTENSIONS = "e2f84ce7-8efa-411c-aa69-97454ca4cb57"
_SUFFIXES = ("", ".nt", ".ntx86", ".ntamd64", ".ntarm64", ".ntarm", ".ntia64")


class InfFault(Exception):
    """Why a file cannot be used, in words."""


class Model(Record, frozen=True, kw_only=True):
    """One line of a models section: its description, install section, and identifiers, the hardware id first.

    `maker` numbers the line of the Manufacturer section that it belongs to; `decoration` is that of its section, empty
    for none. `date` and `version` are those of the install section where it has its own.
    """

    maker: int
    decoration: str
    description: str
    section: str
    ids: tuple[str, ...]
    date: str = ""
    version: str = ""


class Inf(Record, frozen=True, kw_only=True):
    """`date` is ISO, or empty; `catalogs` are the names of catalogue files, by decoration, lower case, empty for all.

    `decorations` are those that the Manufacturer section names for each maker, `sections` those of them, and empty for
    the undecorated one, that have a section. `files` are by architecture names with their folder, below the folder of
    the INF; `includes` are other INF files that it needs.
    """

    name: str
    class_name: str = ""
    class_guid: str = ""
    provider: str = ""
    date: str = ""
    version: str = ""
    catalogs: dict[str, str] = {}
    decorations: tuple[tuple[str, ...], ...] = ()
    sections: tuple[tuple[str, ...], ...] = ()
    models: tuple[Model, ...] = ()
    files: dict[str, tuple[str, ...]] = {}
    includes: tuple[str, ...] = ()

    @property
    def is_extension(self) -> bool:
        """Whether it only adds to the driver of another package."""
        return self.class_name.casefold() == "extension" or self.class_guid.strip("{}") == _EXTENSIONS


Line = tuple[str, tuple[str, ...]]
Said = Callable[[str], str]
Sections = dict[str, list[Line]]


def decoded(data: bytes) -> str:
    """The text of an INF, whatever it is written in; raises InfFault."""
    if len(data) > _LARGEST:
        raise InfFault("It is too large to be an INF file.")
    if data[:2] == b"\xff\xfe" or data[:2] == b"\xfe\xff":
        return data.decode("utf-16", "replace")
    if data[:3] == b"\xef\xbb\xbf":
        return data.decode("utf-8-sig", "replace")
    head = data[:512]
    if len(head) > 8 and head[1::2].count(0) > len(head) // 3:
        return data.decode("utf-16-le", "replace")
    if len(head) > 8 and head[0::2].count(0) > len(head) // 3:
        return data.decode("utf-16-be", "replace")
    if b"\0" in data:
        raise InfFault("It holds binary data and is no INF file.")
    try:
        return data.decode("utf-8")
    except UnicodeDecodeError:
        return data.decode("cp1252", "replace")


def read_inf(data: bytes, name: str) -> Inf:
    """What an INF file says; raises InfFault with the reason why it cannot be used."""
    sections = _sections(decoded(data))
    version = _settings(sections, "version")
    if not version:
        raise InfFault("It has no [Version] section.")
    strings = _strings(sections)

    def said(text: str) -> str:
        return _substituted(text, strings)

    signature = said(_first(version, "signature")).strip()
    if signature.casefold() not in ("$windows nt$", "$chicago$", "$windows 95$"):
        raise InfFault("Its signature is not one of an INF file.")
    driver_date, driver_version = _driver_version(said, version)
    makers = _makers(sections, said)
    models = tuple(_models(sections, makers, said))
    if makers and not models and not any(_has_models(sections, *one) for one in makers):
        raise InfFault("It names makers, and no section with their devices: it may be cut short.")
    return Inf(
        name=name,
        class_name=said(_first(version, "class")),
        class_guid=said(_first(version, "classguid")).casefold(),
        provider=said(_first(version, "provider")),
        date=driver_date,
        version=driver_version,
        catalogs=_catalogs(version, said),
        decorations=tuple(decorations for _, decorations in makers),
        sections=tuple(
            tuple(d for d in ("", *decorations) if _models_name(base, d) in sections) for base, decorations in makers
        ),
        models=models,
        files={one: tuple(_files(sections, said, one)) for one in _ARCHITECTURES},
        includes=tuple(_includes(sections, said)),
    )


# Lines and sections


def _sections(text: str) -> Sections:
    """Names in lower case; sections of one name are one."""
    found: Sections = {}
    current: list[Line] | None = None
    for count, line in enumerate(_logical_lines(text)):
        if count > _MOST_LINES:
            raise InfFault("It has more lines than an INF file has.")
        if line.startswith("["):
            end = line.find("]")
            if end < 0:
                raise InfFault(f"The section “{line[:40]}” is not closed.")
            current = found.setdefault(line[1:end].strip().strip('"').casefold(), [])
        elif current is not None:
            key, values = _split(line)
            current.append((key, values))
    if not found:
        raise InfFault("It has no sections.")
    return found


def _logical_lines(text: str) -> Iterator[str]:
    """Without comments and empty lines; a line that ends in a backslash goes on in the next one."""
    before = ""
    for raw in text.replace("\r\n", "\n").replace("\r", "\n").replace("\x1a", "").split("\n"):
        line = _without_comment(raw).strip()
        if line.endswith("\\") and not line.startswith("["):
            before += line[:-1]
            continue
        line = before + line
        before = ""
        if line:
            yield line.strip()
    if before.strip():
        yield before.strip()


def _without_comment(line: str) -> str:
    if ";" not in line:
        return line
    quoted = False
    for n, char in enumerate(line):
        if char == '"':
            quoted = not quoted
        elif char == ";" and not quoted:
            return line[:n]
    return line


def _split(line: str) -> Line:
    """Key and values. Quotes keep commas, equals signs and spaces; two of them stand for one."""
    if '"' not in line:
        key, equals, rest = line.partition("=")
        if not equals:
            return "", tuple(v.strip() for v in line.split(","))
        return key.strip(), tuple(v.strip() for v in rest.split(","))
    parts: list[str] = []
    key, has_key, quoted, n = "", False, False, 0
    piece: list[str] = []
    kept = 0  # up to here nothing may be stripped at the end
    while n < len(line):
        char = line[n]
        if char == '"':
            if quoted and line[n + 1 : n + 2] == '"':
                piece.append('"')
                n += 1
            else:
                quoted = not quoted
            kept = len(piece)
        elif quoted:
            piece.append(char)
            kept = len(piece)
        elif char == "=" and not has_key and not parts:
            key, has_key, piece, kept = _trimmed(piece, kept), True, [], 0
        elif char == ",":
            parts.append(_trimmed(piece, kept))
            piece, kept = [], 0
        elif char.isspace() and not piece:
            pass
        else:
            piece.append(char)
        n += 1
    parts.append(_trimmed(piece, kept))
    return key, tuple(parts)


def _trimmed(piece: list[str], kept: int) -> str:
    return "".join(piece[:kept]) + "".join(piece[kept:]).rstrip()


def _settings(sections: Sections, name: str) -> dict[str, tuple[str, ...]]:
    """`key = values` of a section by key in lower case; the first of several counts."""
    found: dict[str, tuple[str, ...]] = {}
    for key, values in sections.get(name, ()):
        if key:
            found.setdefault(key.casefold(), values)
    return found


def _first(settings: dict[str, tuple[str, ...]], key: str) -> str:
    values = settings.get(key, ())
    return values[0] if values else ""


def _strings(sections: Sections) -> dict[str, str]:
    """The plain section, and what only a section for a language has."""
    found: dict[str, str] = {}
    names = ["strings", *sorted(n for n in sections if n.startswith("strings."))]
    for name in names:
        for key, values in sections.get(name, ()):
            if key:
                found.setdefault(key.casefold(), ",".join(values))
    return found


def _substituted(text: str, strings: dict[str, str]) -> str:
    """Tokens between per cent signs by the Strings sections; unknown ones stay, `%%` is one sign."""
    for _ in range(_DEEPEST):
        if "%" not in text:
            break
        again = _TOKEN.sub(lambda m: strings.get(m[1].casefold(), m[0]) if m[1] else "\0", text)
        if again == text:
            break
        text = again
        if len(text) > 1 << 16:
            return text[: 1 << 16]
    return text.replace("\0", "%")


# What stands in the sections


def _driver_version(said: Said, settings: dict[str, tuple[str, ...]]) -> tuple[str, str]:
    """Date and version of `DriverVer = mm/dd/yyyy[,w.x.y.z]`; empty where it is missing or none."""
    values = [said(v).strip() for v in settings.get("driverver", ())]
    found = re.fullmatch(r"(\d{1,2})[/-](\d{1,2})[/-](\d{4})", values[0]) if values else None
    day = ""
    if found:
        try:
            day = date(int(found[3]), int(found[1]), int(found[2])).isoformat()
        except ValueError:
            day = ""
    number = values[1] if len(values) > 1 else ""
    return day, number if re.fullmatch(r"\d{1,9}(?:\.\d{1,9}){0,3}", number) else ""


def _makers(sections: Sections, said: Said) -> list[tuple[str, tuple[str, ...]]]:
    """Each maker's models section and the decorations that are listed for it; lines for one section are one maker."""
    found: dict[str, tuple[str, ...]] = {}
    for key, values in sections.get("manufacturer", ()):
        named = [said(v).strip() for v in values]
        section = named[0] if named and named[0] else said(key)  # an entry without a section is its name as well
        if section:
            found[section.casefold()] = (*found.get(section.casefold(), ()), *(d for d in named[1:] if d))
    return list(found.items())


def _models(sections: Sections, makers: list[tuple[str, tuple[str, ...]]], said: Said) -> Iterator[Model]:
    versions: dict[str, tuple[str, str]] = {}
    count = 0
    for maker, (base, decorations) in enumerate(makers):
        for decoration in dict.fromkeys(("", *decorations)):
            for key, values in sections.get(_models_name(base, decoration), ()):
                if not key or not values:
                    continue
                count += 1
                if count > _MOST_MODELS:
                    raise InfFault("It names more models than an INF file has.")
                install = said(values[0]).strip()
                ids = tuple(said(v).strip() for v in values[1:])
                if not any(ids):
                    continue
                if install not in versions:
                    versions[install] = _own_version(sections, install, said)
                day, number = versions[install]
                yield Model(
                    maker=maker,
                    decoration=decoration,
                    description=said(key),
                    section=install,
                    ids=ids,
                    date=day,
                    version=number,
                )


def _has_models(sections: Sections, base: str, decorations: tuple[str, ...]) -> bool:
    return any(_models_name(base, one) in sections for one in ("", *decorations))


def _models_name(base: str, decoration: str) -> str:
    return f"{base}.{decoration}".casefold() if decoration else base


def _own_version(sections: Sections, install: str, said: Said) -> tuple[str, str]:
    """An install section may have a DriverVer of its own."""
    for suffix in _SUFFIXES:
        settings = _settings(sections, install.casefold() + suffix)
        if "driverver" in settings:
            return _driver_version(said, settings)
    return "", ""


def _catalogs(version: dict[str, tuple[str, ...]], said: Said) -> dict[str, str]:
    found = {}
    for key, values in version.items():
        if key == "catalogfile" or key.startswith("catalogfile."):
            name = said(values[0]).strip() if values else ""
            if name:
                found[key.partition(".")[2]] = name
    return found


def _files(sections: Sections, said: Said, architecture: str) -> Iterator[str]:
    """Files that belong to the package on that architecture, with the folders that the source disks name there."""
    own = (f".{architecture}", "")
    folders: dict[str, str] = {}
    for suffix in own:
        for key, values in sections.get(f"sourcedisksnames{suffix}", ()):
            folders.setdefault(key, said(values[3]).strip() if len(values) > 3 else "")
    seen = set()
    for suffix in own:
        for key, values in sections.get(f"sourcedisksfiles{suffix}", ()):
            disk = values[0] if values else ""
            inner = said(values[1]).strip() if len(values) > 1 else ""
            name = said(key).strip()
            parts = (folders.get(disk, ""), inner)
            path = "/".join(p.replace("\\", "/").strip("/.") for p in parts if p.strip("\\/. "))
            if name and name.casefold() not in seen:
                seen.add(name.casefold())
                yield f"{path}/{name}" if path else name


def _includes(sections: Sections, said: Said) -> Iterator[str]:
    seen = set()
    for lines in sections.values():
        for key, values in lines:
            if key.casefold() == "include":
                for value in values:
                    name = said(value).strip()
                    if name and name.casefold() not in seen:
                        seen.add(name.casefold())
                        yield name


class Decoration(Record, frozen=True, kw_only=True):
    """For which systems a models section is: an empty architecture is any that knows no better."""

    architecture: str
    major: int
    minor: int
    product: int
    suite: int
    build: int


def parsed_decoration(text: str) -> Decoration | None:
    """None for text that is no decoration."""
    found = _DECORATION.fullmatch(text.strip())
    if found is None:
        return None
    try:
        major, minor, product, suite, build = (
            int(found[k] or "0", 16 if (found[k] or "").lower().startswith("0x") else 10)
            for k in ("major", "minor", "product", "suite", "build")
        )
    except ValueError:
        return None
    return Decoration(
        architecture=(found["arch"] or "").casefold(),
        major=major,
        minor=minor,
        product=product,
        suite=suite,
        build=build,
    )

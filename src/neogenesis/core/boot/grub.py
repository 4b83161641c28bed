"""What a loader with a menu script does: enough of its language to follow where it looks for its system.

Source: GNU GRUB manual 2.06, chapters 6 (scripts) and 16 (commands). What is not known is passed over, as if it worked.
"""

from __future__ import annotations

import re
import shlex
from collections.abc import Sequence
from dataclasses import dataclass, field

from neogenesis.core.boot.answer import Link
from neogenesis.core.boot.drives import BootDrive, Place, by_file, by_label, by_partition_id, by_uuid

_MOST_LINES, _MOST_FILES, _DEEPEST = 20_000, 24, 8
_DEVICE = re.compile(r"\(([^)]*)\)(.*)", re.DOTALL)
_HD = re.compile(r"hd(\d+)(?:,(?:gpt|msdos)?(\d+))?$")
_VARIABLE = re.compile(r"\$\{(\w+)\}|\$(\w+)")
_FOUND = {
    "--fs-uuid": "Finds the volume {0}",
    "--label": "Finds the volume named {0}",
    "--partuuid": "Finds the partition {0}",
    "--file": "Finds the volume with {0}",
}
_GONE = {
    "--fs-uuid": "The volume {0} is on none of the drives",
    "--label": "The volume named {0} is on none of the drives",
    "--partuuid": "The partition {0} is on none of the drives",
    "--file": "A volume with {0} is on none of the drives",
}
_SOUGHT = {
    "--fs-uuid": "The volume {0}",
    "--label": "The volume named {0}",
    "--partuuid": "The partition {0}",
    "--file": "A volume with {0}",
}
#: Files that a menu names, when they are there, and when they are not.
THERE = {"kernel": "Kernel {0}", "initrd": "Initial ramdisk {0}", "loader": "Program {0}"}
MISSING = {
    "kernel": "The kernel {0} is not there",
    "initrd": "The initial ramdisk {0} is not there",
    "loader": "The program {0} is not there",
}
_SYSTEM_COMMANDS = ("linux", "linux16", "linuxefi", "multiboot", "multiboot2", "kernel")


@dataclass
class GrubRun:
    """Follows scripts. `links` are what was found, `broke` where it stops; `booted` once a system was handed on."""

    drives: Sequence[BootDrive]
    home: Place
    links: list[Link] = field(default_factory=list)
    broke: str = ""
    booted: bool = False
    ended: bool = False
    chained: tuple[Place, str] | None = None
    used: list[Place] = field(default_factory=list)
    doubtful: list[str] = field(default_factory=list)
    variables: dict[str, str] = field(default_factory=dict)
    _files: int = 0
    _lines: int = 0
    _entries: list[tuple[str, list[str]]] = field(default_factory=list)

    def __post_init__(self) -> None:
        self.variables.setdefault("root", self._device(self.home))

    def _device(self, place: Place) -> str:
        drive, facts = place
        kind = "gpt" if drive.survey.table.kind == "gpt" else "msdos"
        return f"hd{self.drives.index(drive)},{kind}{facts.number}"

    def place_of(self, device: str) -> Place | None:
        """The volume that `hd0,gpt2` means."""
        found = _HD.match(device.strip().casefold())
        if found is None or found[2] is None or int(found[1]) >= len(self.drives):
            return None
        drive = self.drives[int(found[1])]
        facts = drive.partition(int(found[2]))
        return (drive, facts) if facts is not None else None

    def resolve(self, path: str) -> tuple[Place, str] | None:
        """Volume and path of `(hd0,gpt2)/x`, or of `/x` below root."""
        path = self.expanded(path)
        found = _DEVICE.match(path)
        device, rest = (found[1], found[2]) if found else (self.variables.get("root", ""), path)
        place = self.place_of(device)
        return (place, rest.strip("'\"")) if place is not None else None

    def expanded(self, text: str) -> str:
        return _VARIABLE.sub(lambda m: self.variables.get(m[1] or m[2], ""), text)

    # Running

    def run(self, script: str, depth: int = 0) -> None:
        """A script, and the menu entry that it would start."""
        self._entries = []
        self._block(script.replace("\\\n", " ").splitlines(), depth)
        if self._entries and not (self.booted or self.ended or self.broke or self.chained):
            self._entry(depth)

    def _entry(self, depth: int) -> None:
        wanted = self.variables.get("default", "0").split(">")[0]
        titles = [title for title, _ in self._entries]
        at = int(wanted) if wanted.isdecimal() else titles.index(wanted) if wanted in titles else 0
        title, lines = self._entries[at if at < len(self._entries) else 0]
        self.links.append(Link(step="entry-of-menu", text=f"Menu entry “{title[:120]}”"))
        self._block(lines, depth + 1)

    def _block(self, lines: list[str], depth: int) -> None:
        n = 0
        skipping: list[bool] = []
        while n < len(lines) and not (self.booted or self.ended or self.broke or self.chained):
            self._lines += 1
            if self._lines > _MOST_LINES or depth > _DEEPEST:
                self.doubtful.append("The menu is too long to be followed to its end.")
                return
            line = lines[n].strip()
            n += 1
            if not line or line.startswith("#"):
                continue
            for part in _split(line):
                word = part.split(None, 1)[0] if part.split() else ""
                if word == "if":
                    skipping.append(not self._holds(part[2:]))
                elif word in ("then", "do"):
                    if part[len(word) :].strip() and not any(skipping):
                        self._command(part[len(word) :].strip(), depth)
                elif word == "elif":
                    skipping[-1:] = [not (bool(skipping) and skipping[-1] and self._holds(part[4:]))]
                elif word == "else":
                    if skipping:
                        skipping[-1] = not skipping[-1]
                elif word in ("fi", "done"):
                    del skipping[-1:]
                elif word in ("menuentry", "submenu", "function"):
                    body, n = _braced(lines, n, part)
                    if word == "menuentry" and not any(skipping):
                        self._entries.append((_title(part), body))
                    break
                elif not any(skipping):
                    self._command(part, depth)

    def _holds(self, condition: str) -> bool:
        """A condition; those that cannot be told are taken as true."""
        text = self.expanded(condition).strip().rstrip(";").strip()
        words = text.strip("[] ").removeprefix("test ").split()
        negated = bool(words) and words[0] == "!"
        words = words[1:] if negated else words
        answer = True
        if text.startswith("search "):
            answer = self._search(text.split()[1:])
        elif len(words) == 2 and words[0] in ("-e", "-f", "-s", "-d"):
            found = self.resolve(words[1].strip("'\""))
            answer = found is not None and found[0][0].find(found[0][1].number, found[1]) is not None
        elif len(words) == 2 and words[0] in ("-n", "-z"):
            answer = bool(words[1].strip("'\"")) == (words[0] == "-n")
        elif len(words) == 1 and words[0] in ("-n", "-z"):
            answer = words[0] == "-z"
        elif len(words) == 3 and words[1] in ("=", "==", "!="):
            same = words[0].strip("'\"") == words[2].strip("'\"")
            answer = same if words[1] != "!=" else not same
        return answer != negated

    def _command(self, line: str, depth: int) -> None:
        try:
            words = shlex.split(line, comments=False)
        except ValueError:
            words = line.split()
        if not words:
            return
        name, rest = words[0], words[1:]
        if name == "set" and rest:
            key, _, value = rest[0].partition("=")
            self.variables[key] = self.expanded(value).strip("()") if key == "root" else self.expanded(value)
        elif "=" in name and not rest and name.split("=")[0].isidentifier():
            key, _, value = name.partition("=")
            self.variables[key] = self.expanded(value)
        elif name.startswith("search"):
            how = {"search.fs_uuid": "--fs-uuid", "search.fs_label": "--label", "search.file": "--file"}.get(name)
            if how is not None and rest:
                self._search([how, f"--set={rest[1] if len(rest) > 1 else 'root'}", rest[0]])
            else:
                self._search(rest)
        elif name in ("configfile", "source", ".", "extract_entries_configfile", "normal") and rest:
            self._configfile(rest[0], depth)
        elif name in _SYSTEM_COMMANDS and rest:
            self._kernel(rest)
        elif name.startswith("initrd") and rest:
            self._needs_file("initrd", rest[0])
        elif name == "chainloader" and rest:
            found = self.resolve(rest[-1])
            if found is not None:
                self.chained = found
        elif name == "cat" and rest:
            self._shows(rest[-1])
        elif name == "boot":
            self.booted = self.booted or any(link.step == "kernel" for link in self.links)
        elif name in ("halt", "reboot", "exit", "poweroff"):
            self.ended = True

    # Commands

    def _search(self, words: list[str]) -> bool:
        how, variable, values, takes = "--file", "", list[str](), False
        for word in map(self.expanded, words):
            if takes:
                variable, takes = word, False
            elif word in ("-s", "--set"):
                variable, takes = variable or "root", word == "-s"
            elif word.startswith("--set="):
                variable = word[6:]
            elif word in ("--fs-uuid", "-u", "--label", "-l", "--file", "-f", "--partuuid", "-p"):
                how = {"-u": "--fs-uuid", "-l": "--label", "-f": "--file", "-p": "--partuuid"}.get(word, word)
            elif not word.startswith("-"):
                values.append(word)
        if (
            len(values) > 1 and "root" in values
        ):  # the variable's name, beside an option that takes it only after a sign
            values.remove("root")
        value = values[0] if values else ""
        finders = {"--fs-uuid": by_uuid, "--label": by_label, "--partuuid": by_partition_id, "--file": by_file}
        places = finders[how](self.drives, value)
        if not places:
            if variable in ("", "root"):
                self.links.append(Link(step="system", text=_GONE[how].format(value), ok=False))
                self.broke = "system"
            return False
        if len(places) > 1:
            self.doubtful.append(f"{_SOUGHT[how].format(value)} is there {len(places)} times; the first drive wins.")
        self.variables[variable or "root"] = self._device(places[0])
        self.used.append(places[0])
        drive, facts = places[0]
        text = _FOUND[how].format(value)
        self.links.append(Link(step="search", text=text, drive=drive.name, partition=facts.number))
        return True

    def _configfile(self, path: str, depth: int) -> None:
        found = self.resolve(path)
        self._files += 1
        if found is None or self._files > _MOST_FILES:
            self.links.append(Link(step="menu", text=f"There is no menu {path}", ok=False))
            self.broke = "menu"
            return
        (drive, facts), rest = found
        text = drive.read(facts.number, rest, 1 << 20)
        if text is None:
            self.links.append(
                Link(step="menu", text=f"There is no menu {rest}", ok=False, drive=drive.name, partition=facts.number)
            )
            self.broke = "menu"
            return
        self.links.append(Link(step="menu", text=f"Reads the menu {rest}", drive=drive.name, partition=facts.number))
        self.run(text.decode("utf-8", "replace"), depth + 1)

    def _needs_file(self, step: str, path: str) -> Place | None:
        found = self.resolve(path)
        if found is not None and found[0][0].find(found[0][1].number, found[1]) is not None:
            (drive, facts), rest = found
            self.links.append(Link(step=step, text=THERE[step].format(rest), drive=drive.name, partition=facts.number))
            return found[0]
        self.links.append(Link(step=step, text=MISSING[step].format(path), ok=False))
        self.broke = step
        return None

    def _kernel(self, words: list[str]) -> None:
        place = self._needs_file("kernel", words[0])
        if place is None:
            return
        self.used.append(place)
        wanted = next((w[5:] for w in words[1:] if w.startswith("root=")), "")
        self.links.append(root_link(self.drives, self.expanded(wanted), place))
        if not self.links[-1].ok:
            self.broke = "system"
        self.booted = not self.broke

    def _shows(self, path: str) -> None:
        """A file of the system volume that is printed: what it says stands there for the system itself."""
        found = self.resolve(path)
        if found is None:
            return
        (drive, facts), rest = found
        if drive.find(facts.number, rest) is not None:
            self.used.append((drive, facts))
            self.links.append(Link(step="system", text=f"Reads {rest}", drive=drive.name, partition=facts.number))
        else:
            self.links.append(
                Link(step="system", text=f"{rest} is not there", ok=False, drive=drive.name, partition=facts.number)
            )
            self.broke = "system"


def root_link(drives: Sequence[BootDrive], wanted: str, usual: Place) -> Link:
    """The system volume that a kernel is told to start from."""
    key, _, value = wanted.partition("=")
    finders = {"UUID": by_uuid, "PARTUUID": by_partition_id, "LABEL": by_label}
    if key.upper() in finders and value:
        places = finders[key.upper()](drives, value.strip("'\""))
        if not places:
            return Link(step="system", text=f"The system volume {wanted} is on none of the drives", ok=False)
        drive, facts = places[0]
    else:
        drive, facts = usual
    return Link(step="system", text=f"Starts the system on {facts.title}", drive=drive.name, partition=facts.number)


def _split(line: str) -> list[str]:
    """Commands of a line, cut at semicolons outside of quotes."""
    parts, quote, start = [], "", 0
    for n, c in enumerate(line):
        if c in "'\"":
            quote = "" if quote == c else quote or c
        elif c == ";" and not quote:
            parts.append(line[start:n].strip())
            start = n + 1
    return [p for p in (*parts, line[start:].strip()) if p]


def _braced(lines: list[str], n: int, first: str) -> tuple[list[str], int]:
    """What stands between the braces that were opened, and the line after them."""
    _, _, same = first.partition("{")
    depth, body = first.count("{") - first.count("}"), [same.rsplit("}", 1)[0]] if same.strip() else []
    while n < len(lines) and depth > 0:
        depth += lines[n].count("{") - lines[n].count("}")
        if depth > 0:
            body.append(lines[n])
        n += 1
    return body, n


def _title(part: str) -> str:
    try:
        words = shlex.split(part.split("{")[0])
    except ValueError:
        words = part.split()
    return words[1] if len(words) > 1 else ""

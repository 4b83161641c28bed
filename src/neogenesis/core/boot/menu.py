"""A loader with a menu: what it starts with, which entry it chooses and falls back on, and how that ends.

Source: GNU GRUB manual 2.06, chapter 15 (variables); choosing, falling back and booting by itself as `normal/menu.c`.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field

from neogenesis.core.boot.answer import BootFinding, Link
from neogenesis.core.boot.condition import TOO_LONG, Open
from neogenesis.core.boot.drives import Place
from neogenesis.core.boot.interpreter import Interpreter, Leave
from neogenesis.core.boot.root import printable, system_of
from neogenesis.core.boot.script import Script

_NUMBER = re.compile(r"(\d{1,9})(?:$|[>\s])")
_FEATURES = (
    *("200_final", "all_video_module", "chainloader_bpb", "default_font_path", "menuentry_id", "menuentry_options"),
    *("nativedisk_cmd", "ntldr", "platform_search_hint", "timeout_style"),
)
_CPUS = {"x86_64": "x86_64", "x86": "i386", "arm64": "arm64", "arm": "arm", "riscv64": "riscv64"}
_EXPORTED = frozenset(("root", "prefix", "cmdpath", "config_file", "config_directory", "grub_cpu", "grub_platform"))


class Over(Exception):
    """`how` is kernel, chain, shown, exit, halt or reboot."""

    def __init__(self, how: str) -> None:
        super().__init__(how)
        self.how = how


@dataclass
class Loaded:
    """What `boot` would hand on to."""

    kernel: Place | None = None
    options: str = ""
    ramdisks: int = 0
    missing: Link | None = None
    chain: tuple[Place, str] | None = None


@dataclass(frozen=True)
class Entry:
    title: str
    id: str
    arguments: tuple[str, ...]
    body: Script
    is_menu: bool
    unrestricted: bool


@dataclass
class MenuRun(Interpreter):
    """Follows the menu of one loader that was started from `home`.

    `links` are what was found, `broke` the step where it stops, `chained` the program that it hands on to, `returned`
    tells that it leaves and the firmware goes on. A link whose `ok` is None is open.
    """

    links: list[Link] = field(default_factory=list)
    broke: str = ""
    chained: tuple[Place, str] | None = None
    returned: bool = False
    used: list[Place] = field(default_factory=list)
    findings: list[BootFinding] = field(default_factory=list)
    _exported: set[str] = field(default_factory=lambda: set(_EXPORTED))
    _entries: list[Entry] = field(default_factory=list)
    _complaints: list[Link] = field(default_factory=list)
    _loaded: Loaded | None = None
    _shown: bool = False

    def __post_init__(self) -> None:
        place = self._device(self.home)
        known = {"root": place, "grub_platform": self.platform, "grub_cpu": _CPUS.get(self.architecture, "x86_64")}
        if self.platform == "pc":
            known["grub_cpu"] = "i386"
        for name in _FEATURES:
            known[f"feature_{name}"] = "y"
            self._exported.add(f"feature_{name}")
        self.variables = known | self.variables

    # From outside

    @property
    def shows(self) -> bool:
        """Whether something is shown that stands there for a system."""
        return self._shown

    def start(self, early: str, prefix: str, folder: str = "") -> None:
        """As the loader does: the script that is built in, then the menu below its prefix; `folder` is its own."""
        self.variables["cmdpath"] = f"({self.variables['root']}){folder}"
        if prefix and not prefix.startswith("("):
            prefix = f"({self._device(self.home)}){prefix}"
        elif prefix.startswith("(,"):
            disk = self._device(self.home).split(",")[0]
            prefix = f"({disk}{prefix[1:]}"
        self.variables["prefix"] = prefix

        def whole() -> None:
            if early:
                self._source(early)
            self._normal(f"{self.variables.get('prefix', '')}/grub.cfg")

        self._ended(whole)

    def run(self, script: str) -> None:
        """One script as a menu of its own."""
        self._ended(lambda: self._menu(script))

    def _ended(self, whole: Callable[[], None]) -> None:
        """Run it, and say how that ends."""
        try:
            whole()
        except Open as error:
            self.links.append(Link(step="menu", text=str(error), ok=None))
        except Over as over:
            self._over(over.how)
        except (Leave, RecursionError):
            self.links.append(Link(step="menu", text=TOO_LONG, ok=None))
        else:
            self._stuck("The menu starts nothing, and waits at its prompt")

    def _stuck(self, text: str) -> None:
        """What it said stands there for the system itself; else the first thing that went wrong is the reason."""
        if self._shown:
            return
        first = self._complaints[0] if self._complaints else Link(step="menu", text=text, ok=False)
        self.links.append(first)
        self.broke = first.step

    def _over(self, how: str) -> None:
        loaded = self._loaded
        if how == "chain" and loaded is not None:
            self.chained = loaded.chain
        elif how == "kernel" and loaded is not None and loaded.kernel is not None:
            self._hand_on(loaded, loaded.kernel)
        elif self._shown:
            return
        elif how == "exit":
            self.returned = True
            if self._complaints:
                self.links.append(self._complaints[0])
        else:
            text = "The menu switches the machine off" if how == "halt" else "The menu starts the machine anew"
            self.links.append(Link(step="menu", text=text, ok=False))
            self.broke = "menu"

    def _hand_on(self, loaded: Loaded, place: Place) -> None:
        if loaded.missing is not None:
            self.links.append(loaded.missing)
            self.broke = "initrd"
            return
        links, findings = system_of(self.drives, loaded.options, place, loaded.ramdisks > 0)
        self.links += links
        self.findings += findings
        self.broke = next((link.step for link in links if link.ok is False), "")

    # Menus

    @contextmanager
    def _context(self) -> Iterator[None]:
        """Only what is exported goes in; nothing comes out."""
        before, exported = self.variables, set(self._exported)
        self.variables = {name: value for name, value in before.items() if name in exported}
        try:
            yield
        finally:
            self.variables, self._exported = before, exported

    def _normal(self, path: str) -> None:
        """Without a menu there the loader stays at its prompt."""
        text = self._text(path)
        if text is None:
            self._complain("menu", f"There is no menu {printable(path)}", path)
            return
        self._tell("menu", f"Reads the menu {printable(path)}", path)
        self._menu(text, path)

    def _menu(self, text: str, path: str = "") -> None:
        """A script with entries of its own, and then the entry that is started by itself."""
        before, self._entries = self._entries, []
        try:
            with self._deeper():
                if path:
                    self.variables["config_file"] = path
                    self.variables["config_directory"] = path.rsplit("/", 1)[0]
                self._source(text)
                if self._entries:
                    self._choose()
        finally:
            self._entries = before

    def _choose(self, automatic: bool = True) -> None:
        """The default entry, then those of `fallback`; returns where none of them starts anything."""
        timeout = self.variables.get("timeout", "")
        if automatic and not re.fullmatch(r"\s*\d{1,9}\s*", timeout):
            self.links.append(Link(step="menu", text="The menu waits until somebody chooses", ok=None))
        at = self._number_of(self.variables.get("default", ""))
        self._run_entry(self._entries[at if at is not None and at < len(self._entries) else 0])
        for name in self.variables.get("fallback", "").split():
            other = self._number_of(name)
            if self._shown or other is None or other >= len(self._entries):
                break
            self._run_entry(self._entries[other])

    def _number_of(self, wanted: str) -> int | None:
        number = _NUMBER.match(wanted)
        if number is not None:
            return int(number[1])
        name = re.split(r"(?<!>)>(?!>)", wanted, maxsplit=1)[0].replace(">>", ">")
        return next((n for n, e in enumerate(self._entries) if name and name in (e.title, e.id)), None)

    def _run_entry(self, entry: Entry) -> None:
        self.links.append(Link(step="entry-of-menu", text=f"Menu entry “{printable(entry.title)[:120]}”"))
        if self.variables.get("superusers") and not entry.unrestricted:
            self.links.append(Link(step="menu", text="The menu asks for a password", ok=None))
        rest = re.split(r"(?<!>)>(?!>)", self.variables.get("default", ""), maxsplit=1)
        before = self._complaints
        self._complaints = []
        with self._deeper():
            if entry.is_menu:
                self._run_submenu(entry, rest[1] if len(rest) > 1 else "")
            else:
                self.variables["chosen"] = entry.id
                self._arguments.append(entry.arguments)
                try:
                    self._block(entry.body)
                except Leave:
                    pass
                finally:
                    self._arguments.pop()
                if self._loaded is not None:
                    self._boot()
        self._complaints = before + self._complaints

    def _run_submenu(self, entry: Entry, default: str) -> None:
        outer, self._entries = self._entries, []
        try:
            with self._context():
                self.variables["timeout"] = "0"
                if default:
                    self.variables["default"] = default
                self._arguments.append(entry.arguments)
                try:
                    self._block(entry.body)
                finally:
                    self._arguments.pop()
                if self._entries:
                    self._choose()
        finally:
            self._entries = outer

    def _boot(self) -> int:
        """Hand on to what was loaded; raises Over, or is 1 where nothing was."""
        if self._loaded is None:
            return 1
        raise Over("chain" if self._loaded.chain is not None else "kernel")

    # Telling

    def _tell(self, step: str, text: str, path: str = "") -> None:
        found = self.resolve(path) if path and not path.startswith("(memdisk)") else None
        drive, number = (found[0][0].name, found[0][1].number) if found is not None else ("", None)
        self.links.append(Link(step=step, text=text, drive=drive, partition=number))

    def _complain(self, step: str, text: str, path: str = "") -> int:
        """What went wrong is only a reason where nothing is started in the end."""
        found = self.resolve(path) if path and not path.startswith("(memdisk)") else None
        drive, number = (found[0][0].name, found[0][1].number) if found is not None else ("", None)
        if len(self._complaints) < 50:
            self._complaints.append(Link(step=step, text=text, ok=False, drive=drive, partition=number))
        return 1

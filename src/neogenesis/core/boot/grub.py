"""What a loader with a menu script does: its language is run as far as what is on the drives decides it.

Source: GNU GRUB manual 2.06, chapters 6 (scripts), 15 (variables) and 16 (commands); how a menu chooses, falls back and
boots by itself as its `normal/menu.c` does. What rests on something that cannot be read here ends as open.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from fnmatch import fnmatchcase
from typing import NoReturn

from neogenesis.core.boot.answer import BootFinding, Link
from neogenesis.core.boot.condition import TOO_LONG, Condition, Open
from neogenesis.core.boot.drives import BootDrive, Place, by_file, by_label, by_partition_id, by_uuid, everywhere
from neogenesis.core.boot.root import is_kernel, printable, system_of
from neogenesis.core.boot.script import Command, For, Function, If, Script, While, Word, parse

_MOST_STEPS, _MOST_FILES, _DEEPEST = 50_000, 40, 24
_LONGEST_VALUE, _LARGEST_MENU, _KERNEL_HEAD = 64 << 10, 4 << 20, 4096
_LEFT_STANDING_S = 10
_PACKED = (b"\x1f\x8b", b"\xfd7")
_DEVICE = re.compile(r"\(([^()]*)\)(.*)", re.DOTALL)
_HD = re.compile(r"hd(\d{1,4})(?:,(?:gpt|msdos|apple)?(\d{1,4}))?$")
_NUMBER = re.compile(r"(\d{1,9})(?:$|[>\s])")
_GLOB = re.compile(r"[*?\[]")
_SEARCHES = {
    "--fs-uuid": ("Finds the volume {0}", "The volume {0} is on none of the drives", "The volume {0}"),
    "--label": ("Finds the volume named {0}", "The volume named {0} is on none of the drives", "The volume named {0}"),
    "--partuuid": ("Finds the partition {0}", "The partition {0} is on none of the drives", "The partition {0}"),
    "--file": ("Finds the volume with {0}", "A volume with {0} is on none of the drives", "A volume with {0}"),
}
_SHORT = {"-u": "--fs-uuid", "-l": "--label", "-f": "--file", "-p": "--partuuid"}
_BY_NAME = {"search.fs_uuid": "--fs-uuid", "search.fs_label": "--label", "search.file": "--file"}
#: Files that a menu names, when they are there, and when they are not.
THERE = {"kernel": "Kernel {0}", "initrd": "Initial ramdisk {0}", "loader": "Program {0}"}
MISSING = {
    "kernel": "The kernel {0} is not there",
    "initrd": "The initial ramdisk {0} is not there",
    "loader": "The program {0} is not there",
}
_KERNELS = frozenset(("linux", "linux16", "linuxefi"))
_RAMDISKS = frozenset(("initrd", "initrd16", "initrdefi"))
#: What is of no consequence for what is started.
_HARMLESS = frozenset(
    (
        *("background_color", "background_image", "badram", "clear", "cutmem", "date", "fix_video", "gettext"),
        *("help", "hexdump", "insmod", "keymap", "list_env", "ls", "lsefi", "lsfonts", "lsmod", "lspci"),
        *("lsacpi", "nativedisk", "password", "password_pbkdf2", "play", "rmmod", "save_env", "serial"),
        *("terminal_input", "terminal_output", "terminfo", "time", "usb", "videoinfo", "acpi", "gptsync"),
        *("parttool", "trust", "distrust", "verify_detached", "list_trusted"),
    )
)
#: Commands of the loader whose outcome rests on something else than the drives.
_OPEN = frozenset(
    (
        *("appleloader", "authenticate", "cbmemc", "cmp", "crc", "cryptomount", "dump"),
        *("extract_legacy_entries_configfile", "extract_legacy_entries_source"),
        *("extract_syslinux_entries_configfile", "extract_syslinux_entries_source", "hashsum", "hdparm", "inb"),
        *("inl", "inw", "kfreebsd", "knetbsd", "kopenbsd", "legacy_configfile", "legacy_kernel"),
        *("legacy_initrd", "legacy_source", "loopback", "macppcbless", "md5sum", "module", "module2"),
        *("multiboot", "multiboot2", "net_bootp", "net_dhcp", "net_add_addr", "outb", "outl", "outw"),
        *("pcidump", "rdmsr", "read_byte", "read_dword", "read_word", "setpci", "sha1sum", "sha256sum"),
        *("sha512sum", "smbios", "syslinux_configfile", "syslinux_source", "testload", "testspeed", "tr"),
        *("videotest", "write_byte", "wrmsr", "xnu_kernel", "xnu_kernel64", "zfs-bootfs", "zfsinfo", "zfskey"),
        *("lsmmap", "loadbios", "fakebios", "kfreebsd_loadenv", "lssal", "lscoreboot"),
    )
)
_FEATURES = (
    *("200_final", "all_video_module", "chainloader_bpb", "default_font_path", "menuentry_id", "menuentry_options"),
    *("nativedisk_cmd", "ntldr", "platform_search_hint", "timeout_style"),
)
_CPUS = {"x86_64": "x86_64", "x86": "i386", "arm64": "arm64", "arm": "arm", "riscv64": "riscv64"}
_EXPORTED = frozenset(("root", "prefix", "cmdpath", "config_file", "config_directory", "grub_cpu", "grub_platform"))
#: Kinds of volumes that such a loader reads, and this program does not.
_CLOSED = ("btrfs", "xfs", "apfs", "lvm", "raid")


class _Over(Exception):
    """`how` is kernel, chain, shown, exit, halt or reboot."""

    def __init__(self, how: str) -> None:
        super().__init__(how)
        self.how = how


class _Leave(Exception):
    """Out of a function or a loop: `how` is return, break or continue."""

    def __init__(self, how: str, levels: int = 1) -> None:
        super().__init__(how)
        self.how, self.levels = how, levels


@dataclass
class _Loaded:
    """What `boot` would hand on to."""

    kernel: Place | None = None
    options: str = ""
    ramdisks: int = 0
    missing: Link | None = None
    chain: tuple[Place, str] | None = None


@dataclass(frozen=True)
class _Entry:
    title: str
    id: str
    arguments: tuple[str, ...]
    body: Script
    is_menu: bool
    unrestricted: bool


@dataclass
class GrubRun:
    """Follows the scripts of one loader that was started from `home`.

    `links` are what was found, `broke` the step where it stops, `chained` the program that it hands on to, `returned`
    tells that it leaves and the firmware goes on. A link whose `ok` is None is open.
    """

    drives: Sequence[BootDrive]
    home: Place
    architecture: str = "x86_64"
    platform: str = "efi"
    entry_files: bool = False
    links: list[Link] = field(default_factory=list)
    broke: str = ""
    chained: tuple[Place, str] | None = None
    returned: bool = False
    used: list[Place] = field(default_factory=list)
    doubtful: list[str] = field(default_factory=list)
    findings: list[BootFinding] = field(default_factory=list)
    output: list[str] = field(default_factory=list)
    variables: dict[str, str] = field(default_factory=dict)
    memory_files: dict[str, str] = field(default_factory=dict)
    _exported: set[str] = field(default_factory=lambda: set(_EXPORTED))
    _functions: dict[str, Script] = field(default_factory=dict)
    _entries: list[_Entry] = field(default_factory=list)
    _arguments: list[tuple[str, ...]] = field(default_factory=list)
    _complaints: list[Link] = field(default_factory=list)
    _loaded: _Loaded | None = None
    _modules: set[str] = field(default_factory=set)
    _files: int = 0
    _steps: int = 0
    _depth: int = 0
    _echoed: bool = False
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
        except _Over as over:
            self._over(over.how)
        except (_Leave, RecursionError):
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

    def _hand_on(self, loaded: _Loaded, place: Place) -> None:
        if loaded.missing is not None:
            self.links.append(loaded.missing)
            self.broke = "initrd"
            return
        links, findings = system_of(self.drives, loaded.options, place, loaded.ramdisks > 0)
        self.links += links
        self.findings += findings
        self.broke = next((link.step for link in links if link.ok is False), "")

    # Places and files

    def _device(self, place: Place) -> str:
        drive, facts = place
        kind = "gpt" if drive.survey.table.kind == "gpt" else "msdos"
        return f"hd{self.drives.index(drive)},{kind}{facts.number}"

    def place_of(self, device: str) -> Place | None:
        """The volume that `hd0,gpt2` means; None where there is none."""
        name = device.strip().casefold()
        found = _HD.match(name)
        if found is None:
            is_layer = name.startswith(("lvm", "md/", "mduuid/", "crypto", "cryptouuid/", "ldm/"))
            if is_layer and any(p.volume.kind in ("lvm", "raid", "luks") for _, p in everywhere(self.drives)):
                raise Open(f"What is on ({device}) cannot be looked at from here")
            return None
        if int(found[1]) >= len(self.drives):
            return None
        drive = self.drives[int(found[1])]
        if found[2] is None:  # a volume without a table
            facts = drive.partition(1) if drive.survey.table.kind == "none" else None
        else:
            facts = drive.partition(int(found[2]))
        return (drive, facts) if facts is not None else None

    def resolve(self, path: str) -> tuple[Place, str] | None:
        """Volume and path of `(hd0,gpt2)/x`, or of `/x` below root."""
        found = _DEVICE.match(path)
        device, rest = (found[1], found[2]) if found else (self.variables.get("root", ""), path)
        place = self.place_of(device)
        return (place, rest) if place is not None else None

    def _find(self, place: Place, path: str) -> str | None:
        """The file or folder there; raises Open where the loader reads what is closed here."""
        drive, facts = place
        if drive.tree(facts.number) is None and facts.volume.kind != "none":
            if facts.volume.kind in _CLOSED or facts.volume.understood:
                raise Open(f"What is on {facts.title} cannot be looked at from here")
            return None
        return drive.find(facts.number, path)

    def where(self, path: str) -> tuple[Place, str] | None:
        """The place of a file that is there."""
        found = self.resolve(path)
        if found is None or not found[1].startswith("/"):
            return None
        spelled = self._find(*found)
        return (found[0], spelled) if spelled is not None else None

    def _text(self, path: str) -> str | None:
        """The text of a script; None where it is not there."""
        if path.startswith("(memdisk)"):
            return self.memory_files.get(path.removeprefix("(memdisk)").strip("/"))
        found = self.where(path)
        if found is None:
            return None
        (drive, facts), spelled = found
        data = drive.read(facts.number, spelled, _LARGEST_MENU)
        if data is not None and data[:2] in _PACKED:
            raise Open(f"{printable(path)} is packed, and whether the loader unpacks it rests on a module")
        return data.decode("utf-8", "replace") if data is not None else None

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

    @contextmanager
    def _deeper(self) -> Iterator[None]:
        self._depth += 1
        if self._depth > _DEEPEST:
            raise Open(TOO_LONG)
        try:
            yield
        finally:
            self._depth -= 1

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

    def _run_entry(self, entry: _Entry) -> None:
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
                except _Leave:
                    pass
                finally:
                    self._arguments.pop()
                if self._loaded is not None:
                    self._boot([])
        self._complaints = before + self._complaints

    def _run_submenu(self, entry: _Entry, default: str) -> None:
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

    # Scripts

    def _source(self, text: str) -> None:
        parsed = parse(text)
        self._block(parsed.script)
        if not parsed.whole or len(text) >= _LARGEST_MENU:
            raise Open(TOO_LONG)

    def _block(self, script: Script) -> int:
        status = 0
        for statement in script:
            status = self._statement(statement)
        return status

    def _statement(self, one: Command | If | While | For | Function) -> int:
        self._steps += 1
        if self._steps > _MOST_STEPS:
            raise Open(TOO_LONG)
        if isinstance(one, Command):
            return self._set_status(self._run_command(one))
        if isinstance(one, If):
            for condition, body in one.branches:
                self._block(condition)
                if self.variables.get("?", "0") == "0":
                    return self._block(body)
            return self._block(one.otherwise)
        if isinstance(one, Function):
            self._functions[one.name] = one.body
            return 0
        if isinstance(one, For):
            for value in [v for word in one.words for v in self._values(word)]:
                self._put(one.name, value)
                if self._turn(one.body):
                    break
            return 0
        while (self._block(one.condition) == 0) != one.until:
            if self._turn(one.body):
                break
        return 0

    def _turn(self, body: Script) -> bool:
        """Once round a loop; whether it is left."""
        self._steps += 1
        if self._steps > _MOST_STEPS:
            raise Open(TOO_LONG)
        try:
            self._block(body)
        except _Leave as leave:
            if leave.how == "return":
                raise
            if leave.levels > 1:
                raise _Leave(leave.how, leave.levels - 1) from None
            return leave.how == "break"
        return False

    def _set_status(self, status: int) -> int:
        self.variables["?"] = str(status)
        return status

    def _values(self, word: Word) -> list[str]:
        """What a word becomes: variables without quotes are cut at blanks, and signs of a pattern find files."""
        found: list[str] = []
        current: str | None = None
        pattern = False
        for piece in word:
            text = self._variable(piece.text) if piece.variable else piece.text
            if piece.variable and not piece.quoted:
                parts = text.split()
                if not parts:
                    continue
                current = (current or "") + parts[0]
                for part in parts[1:]:
                    found.append(current)
                    current = part
            else:
                current = (current or "") + text
                pattern = pattern or (not piece.quoted and not piece.variable and bool(_GLOB.search(text)))
            if current is not None and len(current) > _LONGEST_VALUE:
                raise Open(TOO_LONG)
        if current is not None:
            found.append(current)
        if pattern and len(found) == 1 and found[0].startswith(("/", "(")):
            return self._matching(found[0]) or found
        return found

    def _variable(self, name: str) -> str:
        given = self._arguments[-1] if self._arguments else ()
        if name.isdecimal():
            at = int(name[:6])
            return given[at - 1] if 0 < at <= len(given) else ""
        if name in ("@", "*"):
            return " ".join(given)
        if name == "#":
            return str(len(given))
        return self.variables.get(name, "")

    def _matching(self, pattern: str) -> list[str]:
        """Files by a pattern; only with a module that may be there or not."""
        found = _DEVICE.match(pattern)
        head, path = (f"({found[1]})", found[2]) if found else ("", pattern)
        places = [""]
        for part in path.strip("/").split("/"):
            here: list[str] = []
            for place in places:
                if not _GLOB.search(part):
                    here += [f"{place}/{part}"] if self.where(f"{head}{place}/{part}") else []
                    continue
                at = self.where(f"{head}{place}/") if not place else self.where(f"{head}{place}")
                names = at[0][0].names(at[0][1].number, place) if at is not None else []
                here += [f"{place}/{n}" for n in names if fnmatchcase(n, part) and not n.startswith(".")]
            places = here[:1000]
        if places and "regexp" not in self._modules:
            raise Open("Whether the menu finds files by a pattern rests on a module that is not seen from here")
        return [f"{head}{place}" for place in places]

    def _put(self, name: str, value: str) -> None:
        if len(value) > _LONGEST_VALUE or len(self.variables) > 10_000:
            raise Open(TOO_LONG)
        if name == "root" and value.startswith("(") and value.endswith(")"):
            value = value[1:-1]
        self.variables[name] = value

    def _run_command(self, one: Command) -> int:
        words = [value for word in one.words for value in self._values(word)]
        if not words:
            return 0
        if words[0] == "!":
            if len(words) == 1:
                return 1
            return 0 if self._call(words[1], words[2:], one.block) != 0 else 1
        return self._call(words[0], words[1:], one.block)

    def _call(self, name: str, words: list[str], block: Script | None) -> int:
        if name in ("menuentry", "submenu"):
            return self._add_entry(words, block, name == "submenu")
        command = _COMMANDS.get(name)
        if command is not None:
            return command(self, words)
        if name.startswith("search"):
            return self._search([_BY_NAME[name], *_in_order(words)] if name in _BY_NAME else words)
        if name in _KERNELS:
            return self._kernel(words)
        if name in _RAMDISKS:
            return self._ramdisk(words)
        if name in _HARMLESS:
            self._modules |= set(words) if name == "insmod" else set()
            return 0
        if name in _OPEN:
            raise Open(f"What the menu's command “{name}” finds cannot be told from here")
        if name == "blscfg":
            return self._entry_files() if self.entry_files else 0
        body = self._functions.get(name)
        if body is not None:
            return self._call_function(body, words)
        key, sign, value = name.partition("=")
        if sign:
            self._put(key, value)
        return 0  # a command that is not there is told, and passed over

    def _call_function(self, body: Script, words: list[str]) -> int:
        with self._deeper():
            self._arguments.append(tuple(words))
            try:
                return self._block(body)
            except _Leave as leave:
                if leave.how != "return":
                    raise
                return leave.levels
            finally:
                self._arguments.pop()

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

    # Commands

    def _add_entry(self, words: list[str], block: Script | None, is_menu: bool) -> int:
        titles: list[str] = []
        id_, unrestricted, n = "", False, 0
        while n < len(words):
            word = words[n]
            if word in ("--id", "--class", "--users", "--hotkey", "--source"):
                id_ = words[n + 1] if word == "--id" and n + 1 < len(words) else id_
                n += 1
            elif word.startswith("--id="):
                id_ = word[5:]
            elif word == "--unrestricted":
                unrestricted = True
            elif not word.startswith("--"):
                titles.append(word)
            n += 1
        if not titles or block is None:
            return 1
        if len(self._entries) < 5000:
            self._entries.append(_Entry(titles[0], id_ or titles[0], tuple(titles), block, is_menu, unrestricted))
        return 0

    def _entry_files(self) -> int:
        """Entries as files of their own below `loader/entries`, newest first."""
        from neogenesis.core.boot.entry_files import entry_files

        found = self.resolve("/loader/entries")
        if found is None:
            return 1
        drive, facts = found[0]
        self._find(found[0], "/loader")
        for one in entry_files(drive, facts):
            options = " ".join(one.all("options"))
            lines = [f"linux {one.first('linux')} {options}", *(f"initrd {i}" for i in one.all("initrd"))]
            body = parse("\n".join(lines) + "\n").script
            self._entries.append(_Entry(one.first("title") or one.name, one.name, (), body, False, True))
        return 0

    def _set(self, words: list[str]) -> int:
        if words:
            key, sign, value = words[0].partition("=")
            if sign:
                self._put(key, value)
        return 0

    def _unset(self, words: list[str]) -> int:
        for word in words:
            self.variables.pop(word, None)
        return 0

    def _export(self, words: list[str]) -> int:
        self._exported |= set(words[:1000])
        return 0

    def _echo(self, words: list[str]) -> int:
        self._echoed = True
        if len(self.output) < 2000:
            self.output.append(" ".join(w for w in words if w not in ("-n", "-e")))
        return 0

    def _sleep(self, words: list[str]) -> int:
        """What was said and then is left standing is meant to be read: it stands there for a system."""
        text = next((w for w in words if w.isdecimal()), "0")
        seconds = int(text[:6])
        if self._echoed and not self._shown and seconds >= _LEFT_STANDING_S:
            self._shown = True
            drive, facts = self.home
            text = "Says something and waits"
            self.links.append(Link(step="system", text=text, drive=drive.name, partition=facts.number))
        if self._shown and seconds:
            raise _Over("shown")
        return 0

    def _cat(self, words: list[str]) -> int:
        """A file of the system volume that is printed: what it says stands there for the system itself."""
        path = next((w for w in words if not w.startswith("--")), "")
        found = self.where(path)
        if found is None:
            return self._complain("system", f"{printable(path)} is not there", path)
        self.used.append(found[0])
        self._shown = True
        self._tell("system", f"Reads {printable(path)}", path)
        return 0

    def _search(self, words: list[str]) -> int:
        how, variable, values, takes = "--file", "", list[str](), False
        for word in words:
            if takes:
                variable, takes = word, False
            elif word == "--set":
                variable = variable or "root"
            elif word == "-s":
                takes = True
            elif word.startswith("--set="):
                variable = word[6:]
            elif word in (*_SEARCHES, *_SHORT):
                how = _SHORT.get(word, word)
            elif not word.startswith("-"):
                values.append(word)
        if len(values) > 1 and "root" in values:  # the variable's name, beside an option that takes it only after =
            values.remove("root")
        value = values[0] if values else ""
        found_text, gone, sought = _SEARCHES[how]
        places = self._sought(how, value) if value else []
        if not places:
            return self._complain("system", gone.format(printable(value)))
        if len(places) > 1:
            self.doubtful.append(
                f"{sought.format(printable(value))} is there {len(places)} times; the first drive wins."
            )
        self._put(variable or "root", self._device(places[0]))
        self.used.append(places[0])
        drive, facts = places[0]
        text = found_text.format(printable(value))
        self.links.append(Link(step="search", text=text, drive=drive.name, partition=facts.number))
        return 0

    def _sought(self, how: str, value: str) -> list[Place]:
        if how == "--fs-uuid":
            return by_uuid(self.drives, value)
        if how == "--label":
            return by_label(self.drives, value)
        if how == "--partuuid":
            return by_partition_id(self.drives, value)
        places = by_file(self.drives, value)
        closed = [p for d, p in everywhere(self.drives) if p.volume.kind in _CLOSED and d.tree(p.number) is None]
        if not places and closed:
            raise Open(f"What is on {closed[0].title} cannot be looked at from here")
        return places

    def _configfile(self, words: list[str]) -> int:
        path = words[0] if words else f"{self.variables.get('prefix', '')}/grub.cfg"
        text = self._counted(path)
        if text is None:
            return self._complain("menu", f"There is no menu {printable(path)}", path)
        self._tell("menu", f"Reads the menu {printable(path)}", path)
        with self._context():
            self._menu(text, path)
        return 0

    def _counted(self, path: str) -> str | None:
        self._files += 1
        if self._files > _MOST_FILES:
            raise Open(TOO_LONG)
        return self._text(path)

    def _source_file(self, words: list[str]) -> int:
        text = self._counted(words[0]) if words else None
        if text is None:
            return self._complain("menu", f"There is no menu {printable(words[0] if words else '')}")
        self._tell("menu", f"Reads the menu {printable(words[0])}", words[0])
        with self._deeper():
            self._source(text)
        return 0

    def _go_normal(self, words: list[str]) -> int:
        self._normal(words[0] if words else f"{self.variables.get('prefix', '')}/grub.cfg")
        return 0

    def _kernel(self, words: list[str]) -> int:
        found = self.where(words[0]) if words else None
        if found is None:
            path = words[0] if words else ""
            return self._complain("kernel", MISSING["kernel"].format(printable(path)), path)
        place, spelled = found
        self.used.append(place)
        head = place[0].read(place[1].number, spelled, _KERNEL_HEAD) or b""
        known = True if is_kernel(head) else None
        text = THERE["kernel"].format(printable(words[0]))
        if known is None:
            text = f"{printable(words[0])} does not look like a kernel"
        self.links.append(Link(step="kernel", text=text, ok=known, drive=place[0].name, partition=place[1].number))
        self._loaded = _Loaded(kernel=place, options=" ".join(words[1:]))
        return 0

    def _ramdisk(self, words: list[str]) -> int:
        loaded = self._loaded
        if loaded is None or loaded.kernel is None:
            return self._complain("kernel", "A ramdisk is named before any kernel")
        for path in (w for w in words if not w.startswith("-")):
            name = path.removeprefix("newc:").rsplit(":", 1)[-1] if path.startswith("newc:") else path
            if self.where(name) is None:
                text = MISSING["initrd"].format(printable(name))
                loaded.missing = Link(step="initrd", text=text, ok=False, drive=loaded.kernel[0].name)
                return 1
            loaded.ramdisks += 1
            self._tell("initrd", THERE["initrd"].format(printable(name)), name)
        return 0

    def _chain(self, words: list[str]) -> int:
        path = next((w for w in words if not w.startswith("--")), "")
        if path.endswith("+1") and "/" not in path:
            raise Open("The menu hands on to the boot code of a volume")
        found = self.where(path)
        if found is None:
            return self._complain("loader", MISSING["loader"].format(printable(path)), path)
        (drive, facts), spelled = found
        _, program = drive.program(facts.number, spelled)
        if self.platform == "efi" and (program is None or program.architecture != self.architecture):
            return self._complain("loader", f"{printable(path)} is no program for this machine", path)
        self._loaded = _Loaded(chain=(found[0], f"/{found[1]}"))
        return 0

    def _boot(self, words: list[str]) -> int:
        if self._loaded is None:
            return 1
        raise _Over("chain" if self._loaded.chain is not None else "kernel")

    def _leaves(self, how: str) -> NoReturn:
        raise _Over(how)

    def _load_env(self, words: list[str]) -> int:
        path = f"{self.variables.get('prefix', '')}/grubenv"
        names: list[str] = []
        n = 0
        while n < len(words):
            if words[n] in ("--file", "-f") and n + 1 < len(words):
                path, n = words[n + 1], n + 1
            elif words[n].startswith("--file="):
                path = words[n][7:]
            elif not words[n].startswith("-"):
                names.append(words[n])
            n += 1
        text = self._text(path)
        if text is None or not text.startswith("# GRUB Environment Block\n"):
            return 1
        for line in text[:65536].splitlines()[1:]:
            key, sign, value = line.partition("=")
            if sign and not line.startswith("#") and (not names or key in names):
                self._put(key, re.sub(r"\\(.)", r"\1", value))
        return 0

    def _probe(self, words: list[str]) -> int:
        variable, kind, device, n = "", "", "", 0
        while n < len(words):
            if words[n] in ("--set", "-s") and n + 1 < len(words):
                variable, n = words[n + 1], n + 1
            elif words[n].startswith("--set="):
                variable = words[n][6:]
            elif words[n].startswith("-"):
                kind = words[n]
            else:
                device = words[n]
            n += 1
        place = self.place_of(device.strip("()"))
        if place is None:
            return 1
        values = {"-u": place[1].volume.uuid, "-l": place[1].volume.label, "--part-uuid": place[1].unique_id}
        values |= {"--fs-uuid": values["-u"], "--label": values["-l"]}
        if kind not in values:
            raise Open("What the menu's command “probe” finds cannot be told from here")
        if variable:
            self._put(variable, values[kind] or "")
        return 0

    def _regexp(self, words: list[str]) -> int:
        sets = [words[n + 1] for n, w in enumerate(words[:-1]) if w in ("--set", "-s")]
        sets += [w[6:] for w in words if w.startswith("--set=")]
        plain = [w for n, w in enumerate(words) if not w.startswith("--") and (not n or words[n - 1] not in _TAKES)]
        plain = [w for w in plain if w != "-s"]
        few = len(plain) == 2 and len(plain[0]) <= 200 and len(plain[1]) <= 1000
        if not few or len(re.findall(r"[*+?{]", plain[0])) > 2 or re.search(r"[)*+?}][*+?{]", plain[0]):
            raise Open("What the menu's command “regexp” finds cannot be told from here")
        try:
            found = re.search(plain[0], plain[1])
        except (re.error, RecursionError):
            return 1
        if found is None:
            return 1
        for one in sets:
            number, _, name = one.rpartition(":")
            at = int(number) if number.isdecimal() else 1
            if at <= (found.re.groups or 0):
                self._put(name, found[at] or "")
        return 0

    def _test(self, words: list[str]) -> int:
        return 0 if Condition(self, words).holds() else 1

    def _bracket(self, words: list[str]) -> int:
        if not words or words[-1] != "]":
            return 1
        return self._test(words[:-1])

    def _eval(self, words: list[str]) -> int:
        with self._deeper():
            self._source(" ".join(words) + "\n")
        return int(self.variables.get("?", "0") or 0)

    def _shift(self, words: list[str]) -> int:
        if self._arguments:
            by = int(words[0][:6]) if words and words[0].isdecimal() else 1
            self._arguments[-1] = self._arguments[-1][by:]
        return 0

    def _set_params(self, words: list[str]) -> int:
        if self._arguments:
            self._arguments[-1] = tuple(words)
        return 0

    def _leave(self, how: str, words: list[str]) -> NoReturn:
        usual = 0 if how == "return" else 1
        number = int(words[0][:6]) if words and words[0].isdecimal() else usual
        raise _Leave(how, number)

    def _load_font(self, words: list[str]) -> int:
        return 0 if words and self.where(words[0]) is not None else 1

    def _cpu(self, words: list[str]) -> int:
        return 0 if self.architecture == "x86_64" else 1

    def _read_line(self, words: list[str]) -> int:
        raise Open("The menu waits until somebody types something")


_TAKES = ("--set", "-s")


def _in_order(words: list[str]) -> list[str]:
    """`search.fs_uuid IDENTITY [VARIABLE]` as options."""
    plain = [w for w in words if not w.startswith("-")]
    return [f"--set={plain[1] if len(plain) > 1 else 'root'}", *plain[:1]]


_COMMANDS: dict[str, Callable[[GrubRun, list[str]], int]] = {
    "set": GrubRun._set,
    "unset": GrubRun._unset,
    "export": GrubRun._export,
    "echo": GrubRun._echo,
    "sleep": GrubRun._sleep,
    "cat": GrubRun._cat,
    "configfile": GrubRun._configfile,
    "source": GrubRun._source_file,
    ".": GrubRun._source_file,
    "normal": GrubRun._go_normal,
    "chainloader": GrubRun._chain,
    "boot": GrubRun._boot,
    "load_env": GrubRun._load_env,
    "probe": GrubRun._probe,
    "regexp": GrubRun._regexp,
    "test": GrubRun._test,
    "[": GrubRun._bracket,
    "eval": GrubRun._eval,
    "shift": GrubRun._shift,
    "setparams": GrubRun._set_params,
    "loadfont": GrubRun._load_font,
    "cpuid": GrubRun._cpu,
    "read": GrubRun._read_line,
    "true": lambda run, words: 0,
    "false": lambda run, words: 1,
    "keystatus": lambda run, words: 1,
    "halt": lambda run, words: run._leaves("halt"),
    "reboot": lambda run, words: run._leaves("reboot"),
    "exit": lambda run, words: run._leaves("exit"),
    "normal_exit": lambda run, words: run._leaves("exit"),
    "fwsetup": lambda run, words: run._leaves("reboot"),
    "return": lambda run, words: run._leave("return", words),
    "break": lambda run, words: run._leave("break", words),
    "continue": lambda run, words: run._leave("continue", words),
}

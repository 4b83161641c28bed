"""What a loader with a menu script does: its commands, as far as what is on the drives decides them.

Source: GNU GRUB manual 2.06, chapter 16 (commands). What rests on something that cannot be read here ends as open.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import NoReturn

from neogenesis.core.boot.answer import Link
from neogenesis.core.boot.condition import TOO_LONG, Condition, Open
from neogenesis.core.boot.drives import Place, by_file, by_label, by_partition_id, by_uuid, everywhere
from neogenesis.core.boot.interpreter import Leave
from neogenesis.core.boot.menu import Entry, Loaded, MenuRun, Over
from neogenesis.core.boot.menu_files import CLOSED
from neogenesis.core.boot.root import is_kernel, printable
from neogenesis.core.boot.script import Script, parse

_MOST_FILES, _KERNEL_HEAD, _LEFT_STANDING_S = 40, 4096, 10
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


@dataclass
class GrubRun(MenuRun):
    """`entry_files` says that its builder gave it entries as files; `doubtful` is what was found more than once."""

    entry_files: bool = False
    doubtful: list[str] = field(default_factory=list)
    output: list[str] = field(default_factory=list)
    _files: int = 0
    _echoed: bool = False

    def _command(self, name: str, words: list[str], block: Script | None) -> int | None:
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
        return None

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
            self._entries.append(Entry(titles[0], id_ or titles[0], tuple(titles), block, is_menu, unrestricted))
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
            self._entries.append(Entry(one.first("title") or one.name, one.name, (), body, False, True))
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
            raise Over("shown")
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
        closed = [p for d, p in everywhere(self.drives) if p.volume.kind in CLOSED and d.tree(p.number) is None]
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
        self._loaded = Loaded(kernel=place, options=" ".join(words[1:]))
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
        self._loaded = Loaded(chain=(found[0], f"/{found[1]}"))
        return 0

    def _leaves(self, how: str) -> NoReturn:
        raise Over(how)

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
        raise Leave(how, number)

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
    "boot": lambda run, words: run._boot(),
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

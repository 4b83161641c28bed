"""The language of a loader's menu, run: statements, words, variables and functions; what a command does is not here.

Source: GNU GRUB manual 2.06, chapter 6 (scripts). Bounded in steps, depth and lengths: what goes beyond ends as open.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from fnmatch import fnmatchcase

from neogenesis.core.boot.condition import TOO_LONG, Open
from neogenesis.core.boot.menu_files import DEVICE, LARGEST_MENU, MenuFiles
from neogenesis.core.boot.script import Command, For, Function, If, Script, While, Word, parse

_MOST_STEPS, _DEEPEST, _LONGEST_VALUE = 50_000, 24, 64 << 10
_GLOB = re.compile(r"[*?\[]")


class Leave(Exception):
    """Out of a function or a loop: `how` is return, break or continue."""

    def __init__(self, how: str, levels: int = 1) -> None:
        super().__init__(how)
        self.how, self.levels = how, levels


@dataclass
class Interpreter(MenuFiles):
    """Runs scripts; `_command` is what its commands do."""

    _functions: dict[str, Script] = field(default_factory=dict)
    _arguments: list[tuple[str, ...]] = field(default_factory=list)
    _modules: set[str] = field(default_factory=set)
    _steps: int = 0
    _depth: int = 0

    def _command(self, name: str, words: list[str], block: Script | None) -> int | None:
        """What a command of the loader answers; None for one that it does not have."""
        raise NotImplementedError

    @contextmanager
    def _deeper(self) -> Iterator[None]:
        self._depth += 1
        if self._depth > _DEEPEST:
            raise Open(TOO_LONG)
        try:
            yield
        finally:
            self._depth -= 1

    def _source(self, text: str) -> None:
        parsed = parse(text)
        self._block(parsed.script)
        if not parsed.whole or len(text) >= LARGEST_MENU:
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
        except Leave as leave:
            if leave.how == "return":
                raise
            if leave.levels > 1:
                raise Leave(leave.how, leave.levels - 1) from None
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
        found = DEVICE.match(pattern)
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
        status = self._command(name, words, block)
        if status is not None:
            return status
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
            except Leave as leave:
                if leave.how != "return":
                    raise
                return leave.levels
            finally:
                self._arguments.pop()

"""The script language of the widespread menu loader, as its own parser takes it: words, quoting, blocks.

Source: GNU GRUB manual 2.06, chapter 6; held against what `grub-script-check` takes. Nothing is run here.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import NoReturn

_MOST_TOKENS, _DEEPEST, _UNFINISHED = 200_000, 60, -2
_PLAIN = re.compile(r"[^{}|&$;<> \t\r\n'\"\\]+")
_NAME = re.compile(r"[A-Za-z_][A-Za-z0-9_]*")
_VARIABLE = re.compile(r"\$(?:\{([A-Za-z_][A-Za-z0-9_]*|[0-9]+|[?@*#])\}|([A-Za-z_][A-Za-z0-9_]*|[0-9]+|[?@*#]))")
_RESERVED = frozenset(("if", "then", "elif", "else", "fi", "for", "while", "until", "do", "done", "function"))
#: Words that begin nothing here and are no commands either.
_UNUSED = frozenset(("case", "esac", "select", "in", "[[", "]]"))


@dataclass(frozen=True, slots=True)
class Piece:
    """Text as it stands, or the name of a variable; `quoted` keeps blanks together and signs as they are."""

    text: str
    variable: bool = False
    quoted: bool = False


Word = tuple[Piece, ...]


@dataclass(frozen=True, slots=True)
class Command:
    """Words, and the block behind them that an entry of a menu has."""

    words: tuple[Word, ...]
    block: Script | None
    line: int


@dataclass(frozen=True, slots=True)
class If:
    branches: tuple[tuple[Script, Script], ...]
    otherwise: Script


@dataclass(frozen=True, slots=True)
class While:
    """`until` goes on while the condition fails."""

    until: bool
    condition: Script
    body: Script


@dataclass(frozen=True, slots=True)
class For:
    name: str
    words: tuple[Word, ...]
    body: Script


@dataclass(frozen=True, slots=True)
class Function:
    name: str
    body: Script


Statement = Command | If | While | For | Function
Script = tuple[Statement, ...]


@dataclass(frozen=True, slots=True)
class Parsed:
    """What could be parsed; `fault` is the first line that the loader refuses, 0 where it takes all.

    After such a line it goes on with the next one, as if a script began there. `whole` is False for a text that is too
    long to be parsed to its end.
    """

    script: Script
    fault: int = 0
    whole: bool = True


class _Refused(Exception):
    """At the token that cannot stand there."""


@dataclass(frozen=True, slots=True)
class _Token:
    """A word, or one of `;`, newline, braces; `plain` is a word's text where nothing of it is quoted."""

    kind: str
    line: int
    word: Word = ()
    plain: str = ""


def parse(text: str) -> Parsed:
    """Never raises."""
    tokens, fault = _tokens(text)
    found = _Parser(tokens)
    script, at = found.top()
    return Parsed(script, at or fault, len(tokens) <= _MOST_TOKENS)


# Words


def _tokens(text: str) -> tuple[list[_Token], int]:
    """All tokens, and the line of a character that no token begins with."""
    found: list[_Token] = []
    at, line = 0, 1
    while at < len(text):
        if len(found) > _MOST_TOKENS:
            return found, line
        sign = text[at]
        if sign in " \t\r":
            at += 1
        elif text.startswith("\\\n", at):  # to the loader this begins a word: what comes next is no reserved one
            found.append(_Token("word", line))
            at, line = at + 2, line + 1
        elif sign == "\n":
            found.append(_Token("\n", line))
            at, line = at + 1, line + 1
        elif sign == "#":
            end = text.find("\n", at)
            at = len(text) if end < 0 else end
        elif sign in ";{}":
            found.append(_Token(sign, line))
            at += 1
        elif sign in "|&<>":
            found.append(_Token("bad", line))
            at += 1
        else:
            pieces, end = _word(text, at)
            if end == _UNFINISHED:  # all the rest is inside of quotes
                found.append(_Token("bad", line))
                return found, line
            if end < 0:
                found.append(_Token("bad", line))
                at += 1
                continue
            plain = pieces[0].text if len(pieces) == 1 and not (pieces[0].variable or pieces[0].quoted) else ""
            found.append(_Token("word", line, tuple(pieces), plain))
            line += text.count("\n", at, end)
            at = end
    return found, 0


def _word(text: str, at: int) -> tuple[list[Piece], int]:
    """The pieces of a word and where it ends; -1 for one that cannot be, `_UNFINISHED` for quotes without an end."""
    pieces: list[Piece] = []
    while at < len(text):
        sign = text[at]
        if sign == "'":
            end = text.find("'", at + 1)
            if end < 0:
                return pieces, _UNFINISHED
            pieces.append(Piece(text[at + 1 : end], quoted=True))
            at = end + 1
        elif sign == '"' or text.startswith('$"', at):
            at = _double(text, at + (1 if sign == '"' else 2), pieces)
            if at < 0:
                return pieces, at
        elif sign == "$":
            name = _VARIABLE.match(text, at)
            if name is None:
                return pieces, -1
            pieces.append(Piece(name[1] or name[2], variable=True))
            at = name.end()
        elif sign == "\\":
            if at + 1 >= len(text):
                return pieces, _UNFINISHED
            if text[at + 1] != "\n":
                pieces.append(Piece(text[at + 1], quoted=True))
            at += 2
        else:
            plain = _PLAIN.match(text, at)
            if plain is None:
                break
            pieces.append(Piece(plain[0]))
            at = plain.end()
    return pieces, at


def _double(text: str, at: int, pieces: list[Piece]) -> int:
    """Between double quotes: variables live, and a backslash takes only quotes, signs of variables and itself."""
    held = ""
    while at < len(text):
        sign = text[at]
        if sign == '"':
            pieces.append(Piece(held, quoted=True))
            return at + 1
        if sign == "\\" and at + 1 < len(text) and text[at + 1] in '"$\\\n':
            held += "" if text[at + 1] == "\n" else text[at + 1]
            at += 2
        elif sign == "$":
            name = _VARIABLE.match(text, at)
            if name is None:
                return -1
            pieces += [Piece(held, quoted=True)] if held else []
            pieces.append(Piece(name[1] or name[2], variable=True, quoted=True))
            held, at = "", name.end()
        else:
            held, at = held + sign, at + 1
    return _UNFINISHED


# Statements


class _Parser:
    def __init__(self, tokens: list[_Token]) -> None:
        self._tokens, self._at, self._depth = tokens, 0, 0

    def top(self) -> tuple[Script, int]:
        """Every statement, and the first line with something that cannot stand there; that line is passed over."""
        found: list[Statement] = []
        fault = 0
        while True:
            self._newlines()
            if self._peek() is None:
                return tuple(found), fault
            self._depth = 0
            try:
                found += self._line()
            except _Refused:
                here = self._peek()
                fault = fault or (here.line if here is not None else self._tokens[-1].line)
                while self._peek() is not None and not self._is("\n"):
                    self._at += 1

    def _line(self) -> list[Statement]:
        """All that is read before anything of it is run: up to the newline behind a whole statement."""
        found = [self._statement()]
        while self._is(";"):
            self._at += 1
            if self._peek() is None or self._is("\n"):
                break
            found.append(self._statement())
        if self._peek() is not None and not self._is("\n"):
            self._refuse()
        return found

    def _peek(self) -> _Token | None:
        return self._tokens[self._at] if self._at < len(self._tokens) else None

    def _refuse(self) -> NoReturn:
        raise _Refused

    def _take(self, kind: str, plain: str = "") -> _Token:
        here = self._peek()
        if here is None or here.kind != kind or (plain and here.plain != plain):
            self._refuse()
        self._at += 1
        return here

    def _is(self, kind: str, *plains: str) -> bool:
        here = self._peek()
        return here is not None and here.kind == kind and (not plains or here.plain in plains)

    def _newlines(self) -> None:
        while self._is("\n"):
            self._at += 1

    def _end(self) -> None:
        """What must stand behind a statement: one semicolon, newlines, or the end."""
        if self._is(";"):
            self._at += 1
        elif self._peek() is not None and not self._is("\n"):
            self._refuse()
        self._newlines()

    def _until(self, *plains: str) -> Script:
        """At least one statement, up to one of these words, which is left."""
        found: list[Statement] = []
        self._newlines()
        while not (found and self._is("word", *plains)):
            found.append(self._statement())
            self._end()
            if self._peek() is None:
                self._refuse()
        return tuple(found)

    def _block(self) -> Script:
        """Between braces; the last statement needs no sign behind it."""
        self._take("{")
        found: list[Statement] = []
        self._newlines()
        while not (found and self._is("}")):
            found.append(self._statement())
            if not self._is("}"):
                self._end()
        self._take("}")
        return tuple(found)

    def _statement(self) -> Statement:
        self._depth += 1
        if self._depth > _DEEPEST:
            self._refuse()
        try:
            here = self._peek()
            if here is None or here.kind != "word" or here.plain in _UNUSED:
                self._refuse()
            if here.plain == "if":
                return self._if()
            if here.plain in ("while", "until"):
                return self._while()
            if here.plain == "for":
                return self._for()
            if here.plain == "function":
                return self._function()
            if here.plain in _RESERVED:
                self._refuse()
            return self._command()
        finally:
            self._depth -= 1

    def _command(self) -> Command:
        line = self._take_line()
        words: list[Word] = []
        while self._is("word"):
            words.append(self._tokens[self._at].word)
            self._at += 1
        return Command(tuple(words), self._block() if self._is("{") else None, line)

    def _take_line(self) -> int:
        here = self._peek()
        return here.line if here is not None else 0

    def _if(self) -> If:
        branches: list[tuple[Script, Script]] = []
        otherwise: Script = ()
        word = "if"
        while word in ("if", "elif"):
            self._take("word", word)
            condition = self._until("then")
            self._take("word", "then")
            branches.append((condition, self._until("elif", "else", "fi")))
            here = self._peek()
            word = here.plain if here is not None else ""
        if word == "else":
            self._take("word", "else")
            otherwise = self._until("fi")
        self._take("word", "fi")
        return If(tuple(branches), otherwise)

    def _while(self) -> While:
        word = self._take("word").plain
        condition = self._until("do")
        self._take("word", "do")
        body = self._until("done")
        self._take("word", "done")
        return While(word == "until", condition, body)

    def _for(self) -> For:
        self._take("word", "for")
        name = self._take("word").plain
        if not _NAME.fullmatch(name):
            self._refuse()
        self._take("word", "in")
        words: list[Word] = []
        while self._is("word"):
            words.append(self._tokens[self._at].word)
            self._at += 1
        self._end()
        self._take("word", "do")
        body = self._until("done")
        self._take("word", "done")
        return For(name, tuple(words), body)

    def _function(self) -> Function:
        self._take("word", "function")
        name = self._take("word").plain
        if not _NAME.fullmatch(name):
            self._refuse()
        self._newlines()
        return Function(name, self._block())

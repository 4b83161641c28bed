"""What all commands have in common: options that may stand anywhere, a configuration file, a log, and help."""

from __future__ import annotations

import io
import logging
import os
import stat
import sys
import tomllib
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass
from itertools import pairwise
from pathlib import Path
from typing import Any, BinaryIO, TextIO

import click

from neogenesis.bench.processes.folders import person_folder
from neogenesis.core.errors import BadArgument

_STATUSES = (
    "Exit status: 0 done · 1 unexpected failure · 2 usage · 3 refused, nothing written · 4 done, but ranges of the old "
    "drive could not be read · 5 verification mismatch · 6 stopped, can be resumed."
)
_EXAMPLES = {
    "demo": "neogenesis demo --reset",
    "survey": "neogenesis survey /dev/sdb --json > old.json",
    "plan": "neogenesis plan /dev/sdb /dev/sdc --spare 7 -o swap.json",
    "transfer": "neogenesis transfer swap.json --confirm 41F2",
    "verify": "neogenesis verify swap.json /dev/sdc",
    "image": "neogenesis image /dev/sdb old.qcow2 --part-size 4000MiB",
    "restore": "neogenesis restore old.qcow2 /dev/sdc /dev/sdd --confirm 41F2 --confirm 77B6",
    "rescue": "neogenesis rescue /dev/sdb old.img --map old.map.json --confirm old",
    "salvage": "neogenesis salvage /dev/sdb ~/files --include '*.jpg'",
}


@dataclass(frozen=True, slots=True)
class Anywhere:
    """Options that are taken at any place of the command line."""

    debug: bool
    log_file: Path | None
    arguments: list[str]
    job: str | None = None


def options_anywhere(arguments: list[str]) -> Anywhere:
    """Take `--debug`, `--log-file FILE` and `--job TICKET` out of `arguments`; raises BadArgument for one without its
    file or ticket.
    """
    debug, log_file, job, left = False, None, None, list[str]()
    waiting = iter(arguments)
    for argument in waiting:
        if argument == "--":
            left += [argument, *waiting]
        elif argument == "--debug":
            debug = True
        elif argument == "--log-file":
            named = next(waiting, None)
            if named is None:
                raise BadArgument("--log-file needs a file.", "Name one after it.")
            log_file = Path(named)
        elif argument.startswith("--log-file="):
            log_file = Path(argument.partition("=")[2])
        elif argument == "--job":
            job = next(waiting, None)
            if job is None:
                raise BadArgument("--job needs a ticket.", "Name one after it.")
        elif argument.startswith("--job="):
            job = argument.partition("=")[2]
        else:
            left.append(argument)
    return Anywhere(debug, log_file, left, job)


def refuse_pipes(arguments: list[str]) -> None:
    """Raises BadArgument for a pipe that is named anywhere: whoever opens one waits for somebody at its other end."""
    for before, argument in pairwise(["", *arguments]):
        if "--events" in (before, argument.partition("=")[0]):
            continue  # events may be told into one: somebody listens there
        value = argument.partition("=")[2] if argument.startswith("--") and "=" in argument else argument
        with suppress(OSError, ValueError):
            if stat.S_ISFIFO(Path(value).stat().st_mode):
                raise BadArgument(f"“{value}” is a pipe; nothing was read or written.", "Name a drive or a file.")


class Standard(io.TextIOBase):
    """Standard output that may be closed, full, or read by nobody any more: what a work did is done all the same.

    `trouble` is what went wrong first; from then on nothing is written. A reader who has had enough is none.
    """

    def __init__(self, to: TextIO) -> None:
        self._to, self.trouble, self._over = to, "", False

    @property
    def buffer(self) -> BinaryIO:
        return self._to.buffer

    @property
    def encoding(self) -> str:  # type: ignore[override]
        return self._to.encoding

    @property
    def errors(self) -> str | None:  # type: ignore[override]
        return self._to.errors

    def isatty(self) -> bool:
        return self._to.isatty()

    def fileno(self) -> int:
        return self._to.fileno()

    def writable(self) -> bool:
        return True

    def write(self, text: str) -> int:
        self._do(lambda: self._to.write(text))
        return len(text)

    def flush(self) -> None:
        self._do(self._to.flush)

    def _do(self, what: Callable[[], object]) -> None:
        if self._over:
            return
        try:
            what()
        except OSError as error:
            self._over = True
            if not isinstance(error, BrokenPipeError):
                self.trouble = error.strerror or "it cannot be written"
            with suppress(OSError):  # what is left in the buffer goes nowhere, also when the program ends
                os.dup2(os.open(os.devnull, os.O_WRONLY), self._to.fileno())


def hold_standard_streams() -> None:
    """Give the three numbers that stand for them to nothing else: a drive that is opened must not become one."""
    for number in (0, 1, 2):
        try:
            os.fstat(number)
        except OSError:
            os.open(os.devnull, os.O_RDWR)
    if sys.stdout is None:
        sys.stdout = Path(os.devnull).open("w")  # noqa: SIM115 - as long as the program
    if sys.stderr is None:
        sys.stderr = Path(os.devnull).open("w")  # noqa: SIM115


class _Log(logging.FileHandler):
    """On a full disk the log is cut short; the work goes on."""

    def handleError(self, record: logging.LogRecord) -> None:
        self.setLevel(logging.CRITICAL + 1)


def open_log(path: Path, arguments: list[str]) -> logging.Logger:
    """A log of this run, appended to; raises BadArgument or Refused for a file that cannot be written, or may not.

    Whatever the command names and is there may be a drive or an image.
    """
    from neogenesis.bench.register import allow_output

    allow_output(path, "log", [a for a in arguments if not a.startswith("-") and Path(a).exists()])
    log = logging.getLogger("neogenesis.cli")
    try:
        handler = _Log(path, encoding="utf-8")
    except OSError as error:
        raise BadArgument(f"“{path}” cannot be written ({error.strerror}).", "Name another file.") from error
    handler.setFormatter(logging.Formatter("%(asctime)s %(levelname)s neogenesis %(message)s"))
    log.addHandler(handler)
    log.setLevel(logging.DEBUG)
    return log


def config_path() -> Path:
    """`NEOGENESIS_CONFIG`, else `$XDG_CONFIG_HOME/neogenesis/config.toml`."""
    named = os.environ.get("NEOGENESIS_CONFIG")
    return Path(named) if named else person_folder() / "config.toml"


def config() -> dict[str, Any]:
    """Defaults for options, a table for each command, such as `[transfer]` with `verify = "sample"`.

    Raises BadArgument for a file that is no TOML.
    """
    path = config_path()
    try:
        text = path.read_text("utf-8")
    except (FileNotFoundError, NotADirectoryError, PermissionError, RuntimeError):
        return {}
    except (OSError, UnicodeDecodeError) as error:
        raise BadArgument(f"The configuration “{path}” cannot be read ({error}).", "Correct or remove it.") from error
    try:
        found = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise BadArgument(f"The configuration “{path}” is not TOML ({error}).", "Correct or remove it.") from error
    return {
        name: {option.replace("-", "_"): value for option, value in table.items()}
        for name, table in found.items()
        if isinstance(table, dict)
    }


def complete_help(name: str, command: click.Command) -> None:
    """Every command's help ends with an example and with what its exit status means."""
    if command.epilog is not None:
        return
    example = _EXAMPLES.get(name)
    if example is not None:
        command.help = f"{command.help or ''}\n\nExample: {example}"
    command.epilog = _STATUSES


def say(text: str) -> None:
    """One line on standard error, if anybody reads it."""
    with suppress(OSError):
        sys.stderr.write(" ".join(text.split()) + "\n")
        sys.stderr.flush()

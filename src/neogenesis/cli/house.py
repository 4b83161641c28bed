"""What all commands have in common: options that may stand anywhere, a configuration file, a log, and help."""

from __future__ import annotations

import logging
import os
import stat
import sys
import tomllib
from contextlib import suppress
from dataclasses import dataclass
from itertools import pairwise
from pathlib import Path
from typing import Any

import click

from neogenesis.bench.processes.folders import person_folder
from neogenesis.bench.register import allow_output
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


def options_anywhere(arguments: list[str]) -> Anywhere:
    """Take `--debug` and `--log-file FILE` out of `arguments`; raises BadArgument for one without its file."""
    debug, log_file, left = False, None, list[str]()
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
        else:
            left.append(argument)
    return Anywhere(debug, log_file, left)


def refuse_pipes(arguments: list[str]) -> None:
    """Raises BadArgument for a pipe that is named anywhere: whoever opens one waits for somebody at its other end."""
    for before, argument in pairwise(["", *arguments]):
        if "--events" in (before, argument.partition("=")[0]):
            continue  # events may be told into one: somebody listens there
        value = argument.partition("=")[2] if argument.startswith("--") and "=" in argument else argument
        with suppress(OSError, ValueError):
            if stat.S_ISFIFO(Path(value).stat().st_mode):
                raise BadArgument(f"“{value}” is a pipe; nothing was read or written.", "Name a drive or a file.")


def open_log(path: Path, arguments: list[str]) -> logging.Logger:
    """A log of this run, appended to; raises BadArgument or Refused for a file that cannot be written, or may not.

    Whatever the command names and is there may be a drive or an image.
    """
    allow_output(path, "log", [a for a in arguments if not a.startswith("-") and Path(a).exists()])
    log = logging.getLogger("neogenesis.cli")
    try:
        handler = logging.FileHandler(path, encoding="utf-8")
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


def complete_help(app: click.Group) -> None:
    """Every command's help ends with an example and with what its exit status means."""
    for name, command in app.commands.items():
        example = _EXAMPLES.get(name)
        if example is not None:
            command.help = f"{command.help or ''}\n\nExample: {example}"
        command.epilog = _STATUSES


def say(text: str) -> None:
    """One line on standard error."""
    sys.stderr.write(" ".join(text.split()) + "\n")

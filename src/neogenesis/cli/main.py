"""`neogenesis`: every command of the contract. Without a command it opens the window."""

from __future__ import annotations

import logging
import signal
import sys
import traceback
from importlib import import_module
from types import FrameType

import click

from neogenesis import __version__
from neogenesis.bench.processes.memory import give_back_large_blocks
from neogenesis.cli.answer import Answer, code_of
from neogenesis.cli.house import (
    Anywhere,
    Standard,
    complete_help,
    config,
    hold_standard_streams,
    open_log,
    options_anywhere,
    refuse_pipes,
    say,
)
from neogenesis.cli.noted import NotedJob
from neogenesis.core.errors import NeogenesisError, OnlyChecked

#: Where the commands are: each module is loaded when one of its own is asked for.
_MODULES = {
    "planning": ("survey", "plan"),
    "works": ("transfer", "verify", "image", "restore", "rescue", "salvage"),
    "bench": ("doctor", "drives", "health", "jobs", "log", "intake", "slip", "report", "bug-report"),
    "looks": ("fills", "speed", "run-in"),
    "shop": ("take-in", "note", "guide"),
    "judging": ("fit", "decide", "triage", "swap"),
    "boot": ("forecast", "remedies", "remedy", "undo", "trial-boot"),
    "fresh": ("drivers", "recipe", "install"),
    "media": ("media", "library"),
}
_PLACES = {name: module for module, names in _MODULES.items() for name in names}


class Commands(click.Group):
    """All commands of the program; looking one up costs no more than its own module."""

    def list_commands(self, context: click.Context) -> list[str]:
        return sorted({*self.commands, *_PLACES})

    def get_command(self, context: click.Context, name: str) -> click.Command | None:
        if name in _PLACES and name not in self.commands:
            for command in import_module(f"neogenesis.cli.{_PLACES[name]}").COMMANDS:
                self.add_command(command)
        command = self.commands.get(name)
        if command is not None:
            complete_help(name, command)
        return command

    def every(self) -> dict[str, click.Command]:
        """All of them by name, loaded."""
        context = click.Context(self)
        found = {name: self.get_command(context, name) for name in self.list_commands(context)}
        return {name: command for name, command in found.items() if command is not None}


@click.group(cls=Commands, invoke_without_command=True, context_settings={"help_option_names": ["-h", "--help"]})
@click.option("--debug", is_flag=True, help="Show the traceback of a failure. May stand anywhere.")
@click.option("--log-file", metavar="FILE", help="Write a log of this run. May stand anywhere.")
@click.option("--job", metavar="TICKET", help="Write a work into that job's logbook and dossier. May stand anywhere.")
@click.version_option(__version__, message="%(version)s")
@click.pass_context
def app(context: click.Context, debug: bool, log_file: str | None, job: str | None) -> None:
    """Moves a system and its data to a new drive, with proof. Without a command it opens the window.

    Defaults for options stand in config.toml, a table for each command.
    """
    if context.invoked_subcommand is None:
        from neogenesis.app.shell.start import run_window

        context.exit(run_window())


@app.command()
@click.option("--reset", is_flag=True, help="Build the demo bench anew.")
@click.pass_context
def demo(context: click.Context, reset: bool) -> None:
    """Open the window on the demo bench."""
    from neogenesis.app.shell.start import run_demo

    context.exit(run_demo(reset))


class _AskedToStop(BaseException):
    """A signal came while no work was under way that would have ended by itself."""


def _asked_to_stop(number: int, frame: FrameType | None) -> None:
    raise _AskedToStop


def main() -> None:
    """Run the program; every ending but success leaves exactly one line on standard error."""
    hold_standard_streams()
    out = sys.stdout = Standard(sys.stdout)
    give_back_large_blocks()
    anywhere, log = Anywhere(False, None, []), logging.getLogger("neogenesis.cli")
    log.addHandler(logging.NullHandler())
    log.propagate = False
    answer, status = Answer.to(sys.argv[1:]), 0
    job: NotedJob | None = None
    try:
        anywhere = options_anywhere(sys.argv[1:])
        answer = Answer.to(anywhere.arguments)
        refuse_pipes(anywhere.arguments)
        asked = NotedJob.of(anywhere.job, anywhere.arguments)
        if asked is not None:
            asked.begin(anywhere.arguments)
            job = asked
        if anywhere.log_file is not None:
            log = open_log(anywhere.log_file, anywhere.arguments)
        log.info("%s %s", __version__, " ".join(anywhere.arguments))
        if anywhere.arguments[:1] not in ([], ["demo"]):  # a window has signals of its own
            for number in (signal.SIGTERM, signal.SIGHUP, signal.SIGINT):
                if signal.getsignal(number) is not signal.SIG_IGN:
                    signal.signal(number, _asked_to_stop)
        told = app(anywhere.arguments, prog_name="neogenesis", standalone_mode=False, default_map=config(), obj=answer)
        status = told if isinstance(told, int) else 0
    except OnlyChecked as checked:
        answer.end(code="checked", text=checked.text)
        if not answer.as_json:
            click.echo(checked.text)
    except NeogenesisError as error:
        status = error.exit_status
        answer.fail(status, code_of(error, status), error.text, error.remedy)
        _failed(error.sentence(), status, anywhere, log)
    except click.ClickException as error:
        status = 2
        answer.fail(status, "usage", error.format_message(), "See “neogenesis --help”.")
        _failed(f"{error.format_message()} See “neogenesis --help”.", status, anywhere, log)
    except (click.Abort, KeyboardInterrupt, _AskedToStop):
        status = 6
        text = "Stopped, as it was asked to; what had not ended has to be begun again."
        answer.fail(status, "stopped", text, "")
        _failed(text, status, anywhere, log)
    except Exception as error:  # noqa: BLE001 - the outermost boundary: a bug becomes one line
        status = 1
        text = f"Unexpected failure ({type(error).__name__}: {error}). Nothing more was written; run it again with "
        answer.fail(status, "failed", f"{text}--debug and report what it shows.", "")
        _failed(text + "--debug and report what it shows.", status, anywhere, log)
    if job is not None and (trouble := job.end(status, answer.text, answer.records, answer.figures)):
        say(trouble)
    out.flush()
    if out.trouble and status == 0 and not answer.is_work:
        status = 1
        say(f"Standard output cannot be written ({out.trouble}); nothing else is wrong. Send it elsewhere.")
    log.info("ended with %s", status)
    sys.exit(status)


def _failed(text: str, status: int, anywhere: Anywhere, log: logging.Logger) -> None:
    if anywhere.debug:
        traceback.print_exc()
    log.error("%s", text, exc_info=status == 1 or anywhere.debug)
    say(text)

"""What a command answers when it is asked for JSON: one record, on standard output, whatever happens."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

import click

from neogenesis.core.errors import NeogenesisError

if TYPE_CHECKING:
    from neogenesis.core.media import Probed
    from neogenesis.core.system import NotHereFile
    from neogenesis.core.work.ending import Ending, Refusal, SizeProbe

_PARTIAL = 4
_STATUSES: dict[int, Literal["differs", "stopped", "lost", "failed"]] = {4: "lost", 5: "differs", 6: "stopped"}


#: What a logbook is told in figures.
_NOTED = ("source", "target", "copied_bytes", "verified_bytes", "seconds", "paused_seconds")


@dataclass(slots=True)
class Answer:
    """Of one run of the program. `given` tells that its record has been printed, `is_work` that a work has ended.

    `text`, `records` and `figures` are what a logbook is told of it.
    """

    command: str
    as_json: bool
    given: bool = field(default=False)
    is_work: bool = field(default=False)
    text: str = field(default="")
    records: tuple[Path, ...] = field(default=())
    figures: dict[str, Any] = field(default_factory=dict)
    starts: tuple[str, ...] = field(default=())
    probes: list[SizeProbe] = field(default_factory=list)
    not_here: tuple[NotHereFile, ...] = field(default=())

    def add_probe(self, drive: str, probed: Probed) -> None:
        """A stick's size was tested."""
        from neogenesis.core.work.ending import SizeProbe

        self.probes.append(SizeProbe(drive=drive, **asdict(probed)))

    @classmethod
    def to(cls, arguments: Sequence[str]) -> Answer:
        """As the command line asks for it, also where that makes no sense otherwise."""
        before = arguments[: arguments.index("--")] if "--" in arguments else arguments
        return cls(next((a for a in arguments if not a.startswith("-")), ""), "--json" in before)

    def end(self, **facts: Any) -> None:
        """A work has come to its end."""
        from neogenesis.core.work.ending import Ending

        self.is_work = True
        self.records = tuple(Path(path) for path in facts.pop("records", ()) if Path(path).exists())
        self.text = facts.get("text", "")
        self.figures = {name: facts[name] for name in _NOTED if facts.get(name)}
        if self.as_json and not self.given:
            told = {**self._beside(), **facts}
            self._print(Ending(command=self.command, records=tuple(map(str, self.records)), **told))

    def fail(self, status: int, code: str, text: str, do: str) -> None:
        """It ended with that exit status; a refusal is another record than an end."""
        self.text = text
        if not self.as_json or self.given or status == _PARTIAL:
            return  # what is said of the source with that status stands beside a record that was printed
        from neogenesis.core.work.ending import ClosedGate, Ending, Refusal

        if status in (2, 3):
            gates = (ClosedGate(code=code, text=text),) if status == 3 else ()
            word: Literal["refused", "usage"] = "refused" if status == 3 else "usage"
            self._print(Refusal(command=self.command, status=word, code=code, text=text, do=do, gates=gates))
        else:
            word_of = _STATUSES.get(status, "failed")
            said = f"{text} {do}".strip()
            self._print(Ending(command=self.command, status=word_of, code=code, text=said, **self._beside()))

    def _beside(self) -> dict[str, Any]:
        """What only sticks and clean starts have."""
        missing = {"not_here": self.not_here, "not_here_bytes": sum(one.bytes for one in self.not_here)}
        return {"starts": self.starts, "probes": tuple(self.probes), **missing}

    def _print(self, record: Ending | Refusal) -> None:
        from neogenesis.core.record import to_json

        self.given = True
        click.echo(to_json(record).decode(), nl=False)


def code_of(error: NeogenesisError, status: int) -> str:
    """Of a refusal its gate; else what kind of failure it is."""
    own = str(getattr(error, "code", ""))
    words = {1: "failed", 2: "usage", 3: "record", 4: "lost", 5: "differs", 6: "stopped"}
    return own or words.get(status, "failed")

"""Arguments and options that several commands share."""

from __future__ import annotations

from pathlib import Path
from typing import Literal, cast

import click

from neogenesis.core.errors import BadArgument

Intent = Literal["replace", "beside", "split", "exact"]
INTENTS: tuple[Intent, ...] = ("replace", "beside", "split", "exact")

a_path = click.Path(path_type=Path)
bench_option = click.option(
    "--bench", metavar="FOLDER|URL", default="", help="Whose records count; else this person's own."
)
the_drive = click.argument("drive")
source_now = click.option("--source", "now_source", metavar="PATH", help="The old drive is here now.")
target_now = click.option("--target", "now_target", metavar="PATH", help="The new drive is here now.")
as_json_record = click.option("--json", "as_json", is_flag=True, help="Print one record of how it ended.")
with_answer = click.pass_obj
grows = click.option(
    "--grow",
    default="system",
    show_default=True,
    help="What takes new space: system, a partition number, share or none.",
)
relocates = click.option("--relocate-table", is_flag=True, help="With exact: GPT backup at the new end.")
resumes = click.option("--resume", is_flag=True, help="Go on with one that was cut short.")
verifies = click.option(
    "--verify", type=click.Choice(("full", "sample", "none")), default="full", show_default=True, help="Reading back."
)
tells_events = click.option("--events", metavar="FILE|-", help="Also write events to a file, or - for standard output.")
takes_map = click.option(
    "--map", "region_map", type=a_path, help="Region map of the rescue that made DRIVE, if not beside."
)


def growth(text: str) -> Literal["system", "share", "none"] | int:
    """What takes new space. Raises BadArgument."""
    if text in ("system", "share", "none"):
        return cast(Literal["system", "share", "none"], text)
    if text.isdigit():
        return int(text)
    raise BadArgument(f"--grow does not know “{text}”.", "Use system, share, none or a partition number.")

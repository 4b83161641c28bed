"""Transfers as processes of their own: beginning one, and whether one was begun."""

from __future__ import annotations

import subprocess
from pathlib import Path

from neogenesis.bench.processes.worker import start_command
from neogenesis.bench.works.planning import hash_of, load_plan
from neogenesis.core.errors import BadRecord
from neogenesis.core.transfer import RunFiles, Verify
from neogenesis.core.work.journal import belongs_to


def start_worker(
    plan: Path,
    tail: str,
    confirmed: Path,
    bench: str,
    resume: bool,
    verify: Verify,
    found: tuple[str, str],
    unused: bool = False,
) -> subprocess.Popen[bytes]:
    """Start a transfer that outlives this process; its last words go to `NAME.errors` beside the plan.

    `confirmed` is the record of what was agreed to, `found` says where the old and the new drive are now. `unused`:
    a person says that the old drive was not used since it was stopped.
    """
    arguments = ["transfer", str(plan), "--confirm", tail, "--verify", verify]
    arguments += ["--confirmed", str(confirmed), "--bench", bench]
    source, target = found
    if source and load_plan(plan).source.survey.drive.serial:  # what was saved from it stays where it is
        arguments += ["--source", source]
    if target:
        arguments += ["--target", target]
    if resume and unused:
        arguments += ["--unused-since"]
    return start_command([*arguments, "--resume"] if resume else arguments, plan.with_name(f"{plan.stem}.errors"))


def has_journal(plan_path: Path) -> bool:
    """Whether a transfer of the plan that stands there has been begun."""
    try:
        return belongs_to(RunFiles(plan_path).journal, hash_of(load_plan(plan_path)))
    except BadRecord:
        return False

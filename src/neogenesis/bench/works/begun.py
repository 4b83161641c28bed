"""Transfers as processes of their own: beginning one, and whether one was begun."""

from __future__ import annotations

import subprocess
from pathlib import Path

from neogenesis.bench.processes.worker import start_command
from neogenesis.bench.works.planning import hash_of, load_plan
from neogenesis.core.errors import BadRecord
from neogenesis.core.transfer import RunFiles, Verify
from neogenesis.core.work.journal import belongs_to


def start_worker(plan: Path, tail: str, resume: bool, verify: Verify = "full") -> subprocess.Popen[bytes]:
    """Start a transfer that outlives this process; its last words go to `NAME.errors` beside the plan."""
    arguments = ["transfer", str(plan), "--confirm", tail, "--verify", verify]
    return start_command([*arguments, "--resume"] if resume else arguments, plan.with_name(f"{plan.stem}.errors"))


def has_journal(plan_path: Path) -> bool:
    """Whether a transfer of the plan that stands there has been begun."""
    try:
        return belongs_to(RunFiles(plan_path).journal, hash_of(load_plan(plan_path)))
    except BadRecord:
        return False

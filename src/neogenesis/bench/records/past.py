"""The outcomes of a bench's finished jobs, read out of their logbooks."""

from __future__ import annotations

from neogenesis.core.job.past import Outcome, outcomes_of
from neogenesis.core.job.store import JobStore


def past_of(store: JobStore) -> list[Outcome]:
    """Of all jobs that were handed over, in the order of their tickets."""
    found: list[Outcome] = []
    for job in store.jobs():
        if job.closed:
            found += outcomes_of(job.ticket, store.log(job.ticket))
    return found

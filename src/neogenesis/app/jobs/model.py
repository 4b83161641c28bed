"""What the list of jobs shows: which of them, in what order, and what each says. No widgets."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass
from datetime import datetime
from typing import Literal

from neogenesis.app.language import said, tr
from neogenesis.app.parts.rows import RowsModel
from neogenesis.app.words import moment_of, when
from neogenesis.core.job import ROUTE, Glance, Job
from neogenesis.core.job.route import position

Show = Literal["all", "open", "mine", "waiting", "overdue", "closed", "archived"]
Tone = Literal["ink", "accent", "good", "stop"]


@dataclass(frozen=True, slots=True)
class JobRow:
    """One job as it is shown.

    `reached` counts the stops that are behind it; `latest` is when and what its logbook says last; `mine` tells that
    who is at the window has written into it, `drive_due` that the old drive which stayed here is to be seen to.
    """

    job: Job
    headline: str
    tone: Tone
    promise: str
    overdue: bool
    reached: int
    tags: tuple[int | None, int | None]
    busy: str = ""
    latest: str = ""
    mine: bool = False
    drive_due: bool = False

    @property
    def spoken(self) -> str:
        """All of it in one line, for who cannot see it."""
        parts = (self.job.ticket, self.job.customer, self.job.machine, self.headline, self.promise)
        return ", ".join(part for part in parts if part)


def rows_of(
    jobs: Iterable[Job],
    busy: Callable[[Job], str],
    tags: Callable[[Job], tuple[int | None, int | None]],
    next_step: Callable[[Job], str],
    now: datetime,
    glances: Mapping[str, Glance],
    me: str,
    due: Mapping[str, str] | None = None,
) -> list[JobRow]:
    """Open jobs by their promise, so that what is overdue comes first; those handed over behind them."""
    rows = [
        _row(
            job, busy(job), tags(job), next_step(job), now, glances.get(job.ticket), me, (due or {}).get(job.ticket, "")
        )
        for job in jobs
    ]
    return sorted(rows, key=lambda r: (r.job.closed, moment_of(r.job.promise) or datetime.max, r.job.ticket))


def _row(
    job: Job,
    busy: str,
    tags: tuple[int | None, int | None],
    next_step: str,
    now: datetime,
    glance: Glance | None,
    me: str,
    drive_until: str,
) -> JobRow:
    due = moment_of(job.promise)
    overdue = not job.closed and due is not None and due < now
    headline, tone = said(next_step), "ink"
    if job.closed:
        headline, tone = tr("Handed over"), "good"
        if drive_until:
            headline, tone = (
                tr("Old drive was kept until {0}: wipe it or give it back").format(when(drive_until, now)),
                "stop",
            )
    elif busy:
        headline, tone = busy, "accent"
    if not job.promise:
        promise = tr("no promise")
    elif overdue:
        promise = tr("overdue since {0}").format(when(job.promise, now))
    else:
        promise = tr("promised {0}").format(when(job.promise, now))
    reached = len(ROUTE) if job.closed else position(job.stop)
    latest, mine = "", glance is not None and me in glance.people
    if glance is not None:
        words = glance.text if glance.kind == "note" else said(glance.text)
        latest = f"{when(glance.at, now)}  {words}"
    return JobRow(job, headline, tone, promise, overdue, reached, tags, busy, latest, mine, bool(drive_until))  # type: ignore[arg-type]


def wanted(rows: Iterable[JobRow], show: Show, words: str) -> list[JobRow]:
    """Those of `rows` that are to be shown, and that hold every one of `words` somewhere."""
    parts = words.casefold().split()

    def fits(row: JobRow) -> bool:
        put_away = row.job.shelf == "archived"
        kind = {
            "open": (not row.job.closed or row.drive_due) and not put_away,
            "mine": row.mine and not put_away,
            "waiting": not row.job.closed and not row.busy and not put_away,
            "overdue": row.overdue and not put_away,
            "closed": row.job.closed and not put_away,
            "archived": put_away,
            "all": not put_away,
        }[show]
        job = row.job
        text = " ".join((job.ticket, job.customer, job.contact, job.machine, job.wish, row.headline)).casefold()
        return kind and all(part in text for part in parts)

    return [row for row in rows if fits(row)]


class JobsModel(RowsModel[JobRow]):
    """Rows of jobs; only what is different is told to the view."""

    def key(self, row: JobRow) -> str:
        return row.job.ticket

    def number_of(self, ticket: str) -> int | None:
        return next((n for n, row in enumerate(self.rows) if row.job.ticket == ticket), None)

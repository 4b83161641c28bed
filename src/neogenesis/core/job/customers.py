"""Customers, found again by name or number among the jobs of a bench."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from neogenesis.core.job.model import Job

_FEWEST = 2


@dataclass(frozen=True, slots=True)
class Customer:
    """`jobs` in the order of their tickets."""

    name: str
    contact: str
    jobs: tuple[Job, ...]


def customers_of(jobs: Iterable[Job]) -> list[Customer]:
    """Everybody who brought something, by name; the latest way to reach them."""
    by_name: dict[str, list[Job]] = {}
    for job in sorted(jobs, key=lambda j: j.ticket):
        if job.customer.strip():
            by_name.setdefault(job.customer.strip().casefold(), []).append(job)
    found = []
    for own in by_name.values():
        contact = next((j.contact for j in reversed(own) if j.contact), "")
        found.append(Customer(own[-1].customer.strip(), contact, tuple(own)))
    return sorted(found, key=lambda c: c.name.casefold())


def found_again(customers: Sequence[Customer], typed: str) -> list[Customer]:
    """Those whose name holds every word that was typed, or whose number holds its digits, or a ticket of theirs."""
    words = typed.casefold().split()
    digits = "".join(c for c in typed if c.isdigit())
    if len(typed.strip()) < _FEWEST:
        return []

    def fits(one: Customer) -> bool:
        name = one.name.casefold()
        number = "".join(c for c in one.contact if c.isdigit())
        tickets = {j.ticket.casefold() for j in one.jobs}
        return (
            all(w in name or w in one.contact.casefold() for w in words)
            or (len(digits) > _FEWEST and digits in number)
            or typed.strip().casefold() in tickets
        )

    return [one for one in customers if fits(one)]

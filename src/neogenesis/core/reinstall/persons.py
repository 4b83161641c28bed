"""Whose a home is: people of the old system and of the new one, and as whom their files are owned there."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from neogenesis.core.record import Record

#: The number of the first person of a Linux system (login.defs(5)), and above the last one.
FIRST_ID, _LAST_ID = 1000, 60_000


class Account(Record, frozen=True, kw_only=True):
    """A person of a system, with the numbers by which its files are owned."""

    name: str
    user: int
    group: int


class Person(Record, frozen=True, kw_only=True):
    """An old home and whose it becomes; `new` is empty for one that stays out. `user` and `group` own it, on Linux.

    `there` says that the new system knows that person. Files are counted without what can be run.
    """

    old: str
    new: str
    there: bool = False
    files: int = 0
    size_bytes: int = 0
    user: int = 0
    group: int = 0


def accounts_in(passwd: bytes) -> tuple[Account, ...]:
    """People of a Linux system, by its list of accounts (passwd(5)); lines that make no sense are passed over."""
    found = []
    for line in passwd.decode("utf-8", "replace").splitlines():
        fields = line.split(":")
        if len(fields) < 6 or not fields[2].isdecimal() or not fields[3].isdecimal():
            continue
        if FIRST_ID <= int(fields[2]) < _LAST_ID and fields[5].startswith("/home/"):
            found.append(
                Account(name=fields[5].removeprefix("/home/").strip("/"), user=int(fields[2]), group=int(fields[3]))
            )
    return tuple(found)


def mapped(old: Mapping[str, int | None], accounts: Iterable[Account], wished: Mapping[str, str]) -> dict[str, Person]:
    """For each old home, by its folded name: whose it becomes. `old` are names as they are spelled, with the owner's
    number where it is known.

    By name where nothing is wished. A person whom the new system does not know keeps the old number where it is free,
    else gets the next one: nobody's files become another's.
    """
    known = {one.name.casefold(): one for one in accounts}
    wishes = {name.casefold(): new for name, new in wished.items()}
    taken = {one.user for one in known.values()}
    found: dict[str, Person] = {}
    numbers: dict[str, int] = {}
    for name in sorted(old, key=lambda n: (old[n] is None, old[n] or 0, n.casefold())):
        new = wishes.get(name.casefold(), name)
        account = known.get(new.casefold())
        if account is not None:
            found[name.casefold()] = Person(
                old=name, new=account.name, there=True, user=account.user, group=account.group
            )
            continue
        number = numbers.get(new.casefold(), old[name] or 0)
        if new.casefold() not in numbers and (number in taken or not FIRST_ID <= number < _LAST_ID):
            number = next(n for n in range(FIRST_ID, _LAST_ID) if n not in taken)
        numbers[new.casefold()] = number
        taken.add(number)
        found[name.casefold()] = Person(old=name, new=new, user=number, group=number)
    return found

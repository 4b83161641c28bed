"""Tickets: what may be one, and the folder that each has to itself."""

from __future__ import annotations

import re
from typing import ClassVar

from blake3 import blake3

from neogenesis.core.errors import BadArgument, BadRecord
from neogenesis.core.record import OWNER_FILE, Record

LONGEST = 40
#: In every dossier: whose it is.
FILE = OWNER_FILE
_PLAIN = re.compile(r"[^\W~]|[.-]")
_MOST_BYTES = 200


class Dossier(Record, frozen=True, kw_only=True):
    SCHEMA: ClassVar[str] = "neogenesis.dossier/1"

    schema: str = SCHEMA
    ticket: str


def checked_ticket(text: str) -> str:
    """The ticket without spaces around it; raises BadArgument for what can be none."""
    ticket = text.strip()
    if not ticket:
        raise BadArgument("A job needs a ticket.", "Type the number on the tag.")
    if len(ticket) > LONGEST:
        raise BadArgument(
            f"A ticket has at most {LONGEST} characters; this one has {len(ticket)}.", "Give it a shorter one."
        )
    if not ticket.isprintable():
        raise BadArgument("A ticket has no control characters in it.", "Type the number on the tag.")
    return ticket


def folder_name(ticket: str) -> str:
    """A name for its folder that no other ticket has: letters, digits, `.`, `-` and `_` stand as they are.

    Every other character is `~` and its bytes in hexadecimal; a dot at either end as well.
    """
    name = "".join(c if _PLAIN.fullmatch(c) else _coded(c) for c in ticket)
    if name.startswith("."):
        name = _coded(".") + name[1:]
    if name.endswith("."):
        name = name[:-1] + _coded(".")
    if len(name.encode()) > _MOST_BYTES:
        name = "~~" + blake3(ticket.encode()).hexdigest()[:40]
    return name or "~"


def older_folder_name(ticket: str) -> str:
    """As folders were named before: two tickets could share one."""
    return re.sub(r"[^\w.-]", "_", ticket).strip(".") or "_"


def refuse_foreign(dossier: Dossier, ticket: str) -> None:
    """Raises BadRecord for the dossier of another ticket."""
    if dossier.ticket != ticket:
        raise BadRecord(
            f"The dossier of {ticket} says that it is that of {dossier.ticket}; nothing in it was used.",
            "Move that folder to where it belongs.",
        )


def _coded(character: str) -> str:
    return "".join(f"~{byte:02x}" for byte in character.encode())

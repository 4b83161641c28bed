"""The tables of a bench's records, as they are now. How older ones become like this stands in `migrations`."""

from __future__ import annotations

from sqlalchemy import ForeignKey, String, Text
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column


class Base(DeclarativeBase):
    pass


class JobRow(Base):
    __tablename__ = "job"
    ticket: Mapped[str] = mapped_column(String(40), primary_key=True)
    customer: Mapped[str] = mapped_column(Text)
    machine: Mapped[str] = mapped_column(Text)
    promise: Mapped[str] = mapped_column(Text)
    wish: Mapped[str] = mapped_column(Text)
    intent: Mapped[str] = mapped_column(String(20))
    stop: Mapped[str] = mapped_column(String(20))
    old_drive: Mapped[str] = mapped_column(Text)
    new_drive: Mapped[str] = mapped_column(Text)
    closed: Mapped[bool]
    old_identity: Mapped[str] = mapped_column(Text, server_default="")
    new_identity: Mapped[str] = mapped_column(Text, server_default="")
    contact: Mapped[str] = mapped_column(Text, server_default="")
    shelf: Mapped[str] = mapped_column(String(20), server_default="")
    kept: Mapped[str] = mapped_column(String(20), server_default="")
    kept_until: Mapped[str] = mapped_column(String(20), server_default="")


class DriveRow(Base):
    """A drive that the shop has met, by the key of its identity. `files` are those that hold its bytes."""

    __tablename__ = "drive"
    key: Mapped[str] = mapped_column(String(16), primary_key=True)
    identity: Mapped[str] = mapped_column(Text)
    mark: Mapped[str] = mapped_column(String(64))
    files: Mapped[str] = mapped_column(Text)
    place: Mapped[str] = mapped_column(Text)
    met_at: Mapped[str] = mapped_column(String(40))
    seen_at: Mapped[str] = mapped_column(String(40))


class ClaimRow(Base):
    """The right to write to a drive, given to one run of one work; `ended` is empty while it is held."""

    __tablename__ = "claim"
    run: Mapped[str] = mapped_column(String(40), primary_key=True)
    drive: Mapped[str] = mapped_column(String(16))
    kind: Mapped[str] = mapped_column(String(40))
    work: Mapped[str] = mapped_column(String(64))
    ticket: Mapped[str] = mapped_column(String(40))
    who: Mapped[str] = mapped_column(Text)
    insertion: Mapped[str] = mapped_column(Text)
    source: Mapped[str] = mapped_column(Text)
    source_print: Mapped[str] = mapped_column(String(64))
    process: Mapped[str] = mapped_column(Text)
    at: Mapped[str] = mapped_column(String(40))
    wrote: Mapped[bool]
    ended: Mapped[str] = mapped_column(String(40))
    outcome: Mapped[str] = mapped_column(String(20))


class SittingRow(Base):
    """A job that is open in a window, by the process of that window."""

    __tablename__ = "sitting"
    ticket: Mapped[str] = mapped_column(String(40), primary_key=True)
    window: Mapped[str] = mapped_column(String(200), primary_key=True)


class LogRow(Base):
    __tablename__ = "log"
    ticket: Mapped[str] = mapped_column(ForeignKey("job.ticket"), primary_key=True)
    number: Mapped[int] = mapped_column(primary_key=True)
    at: Mapped[str] = mapped_column(String(40))
    who: Mapped[str] = mapped_column(Text)
    kind: Mapped[str] = mapped_column(String(40))
    text: Mapped[str] = mapped_column(Text)
    figures: Mapped[str] = mapped_column(Text)
    previous: Mapped[str] = mapped_column(String(64))
    hash: Mapped[str] = mapped_column(String(64))

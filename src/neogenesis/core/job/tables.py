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

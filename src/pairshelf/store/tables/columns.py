"""What the columns of all tables have in common, and the words that stand in them."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable
from enum import StrEnum
from typing import Any

from sqlalchemy import BigInteger, Column, DateTime
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.orm import Mapped
from sqlmodel import Field, SQLModel

from pairshelf.store.clock import now


def when(*, default: bool = True, index: bool = False, clock: Callable[[], dt.datetime] = now) -> Any:
    kind: Any = DateTime(timezone=True)
    return Field(default_factory=clock, sa_type=kind, index=index) if default else Field(default=None, sa_type=kind)


def json_column() -> Any:
    return Field(default_factory=dict, sa_column=Column(JSONB, nullable=False))


def big(**more: Any) -> Any:
    return Field(sa_type=BigInteger, **more)


class Service(StrEnum):
    """A drive's way into service."""

    #: Just seen, not taken in.
    NEW = "new"
    #: Taken in, belongs to nothing.
    FREE = "free"
    #: In a pool, as a member or a spare.
    IN_USE = "in-use"
    #: Being wiped: neither free nor intact.
    WIPING = "wiping"
    #: Gone from the house for good; the books keep it.
    RETIRED = "retired"


class Condition(StrEnum):
    """How a drive is."""

    #: Nothing known against it.
    GOOD = "good"
    #: Answers, but its readings warn.
    FAILING = "failing"
    #: Does not work any more.
    FAILED = "failed"
    #: Was there and is not.
    MISSING = "missing"


class MemberState(StrEnum):
    """How a place in a pool is filled."""

    #: Holds all its data.
    ACTIVE = "active"
    #: Its drive is away and may come back.
    MISSING = "missing"
    #: Its drive is gone for good, or the place is empty.
    FAILED = "failed"
    #: A drive is there and being filled.
    REBUILDING = "rebuilding"
    #: No member: its drive is being made the copy of a member that works.
    COPYING = "copying"
    #: Its drive is gone, and what stood on it stands on others (spread pools).
    EMPTIED = "emptied"


class SheetState(StrEnum):
    """Where a change sheet stands."""

    #: Shown, not approved.
    DRAFT = "draft"
    #: Approved; what follows runs or has run.
    APPROVED = "approved"
    #: Put away without approval.
    WITHDRAWN = "withdrawn"


class JobState(StrEnum):
    """Where a job stands."""

    #: Waiting for a worker, or for its turn.
    WAITING = "waiting"
    #: A worker is on it.
    RUNNING = "running"
    #: Held because the pool cannot be worked on now.
    HELD = "held"
    #: Paused by a person.
    PAUSED = "paused"
    #: Finished.
    DONE = "done"
    #: Ended without finishing.
    FAILED = "failed"


class Numbered(SQLModel):
    """A row that the database numbers."""

    @property
    def number(self) -> int:
        """Its id, which it has once it is in its table."""
        found: int | None = getattr(self, "id", None)
        assert found is not None, f"{type(self).__name__} is not in its table yet"
        return found


def ids(table: type[Numbered]) -> Mapped[int]:
    """The column of a table's ids: of what is read from it, none is missing."""
    return table.id  # type: ignore[attr-defined, no-any-return]


class OfMember(SQLModel):
    """A row that may be about one member of a pool."""

    @property
    def member(self) -> int:
        """Its slot, which a spare and what is about a whole pool have none of."""
        found: int | None = getattr(self, "slot", None)
        assert found is not None, f"{type(self).__name__} is not about a member"
        return found

"""How full something may become, and what has been told of it. Histories are in ``store.repositories.history``."""

from __future__ import annotations

import datetime as dt
from typing import Any

from sqlmodel import Field, SQLModel

from pairshelf.store.clock import wall
from pairshelf.store.tables.columns import Numbered, big, json_column, when


class Threshold(Numbered, table=True):
    """Shares of a pool, or of a volume, at which a person is told; without a row, the usual ones."""

    id: int | None = Field(default=None, primary_key=True)
    pool_id: int | None = Field(default=None, foreign_key="pool.id", unique=True)
    volume_id: int | None = Field(default=None, foreign_key="volume.id", unique=True)
    tell: float
    urgent: float


class Crossing(Numbered, table=True):
    """A threshold that something is above; without a row it is above none."""

    id: int | None = Field(default=None, primary_key=True)
    pool_id: int | None = Field(default=None, foreign_key="pool.id", unique=True)
    volume_id: int | None = Field(default=None, foreign_key="volume.id", unique=True)
    #: ``core.watching.thresholds.Level``: 1 or 2.
    level: int
    since: dt.datetime = when()


class OutlookRow(Numbered, table=True):
    """When a pool or a volume will be full, as it was worked out last (``core.watching.trend``)."""

    __tablename__ = "outlook"
    id: int | None = Field(default=None, primary_key=True)
    pool_id: int | None = Field(default=None, foreign_key="pool.id", unique=True)
    volume_id: int | None = Field(default=None, foreign_key="volume.id", unique=True)
    #: Bytes at which it would be full, when this was worked out.
    capacity: int = big()
    #: Bytes a day.
    growth: float | None = None
    at: dt.datetime | None = when(default=False)
    earliest: dt.datetime | None = when(default=False)
    latest: dt.datetime | None = when(default=False)
    days: int
    why_none: str | None = None
    worked_out_at: dt.datetime = when()


class HostWrites(SQLModel, table=True):
    """What simulated hosts write to a volume while days pass."""

    __tablename__ = "host_writes"
    volume_id: int = Field(primary_key=True, foreign_key="volume.id")
    #: Bytes a day.
    a_day: int = big()
    #: Bytes of days that have passed, too few for an extent yet.
    owed: int = big(default=0)


class PlayRow(SQLModel, table=True):
    """A load that is played on a volume (``core.loads``)."""

    __tablename__ = "play"
    volume_id: int = Field(primary_key=True, foreign_key="volume.id")
    mix: str
    #: Requests under way at once; requests a second, where no more are wanted.
    at_once: int
    wanted: float | None = None
    since: dt.datetime = when()


class PlayedRow(SQLModel, table=True):
    """What was measured last of the loads that are played on a pool."""

    __tablename__ = "played"
    pool_id: int = Field(primary_key=True, foreign_key="pool.id")
    at: dt.datetime = when()
    found: dict[str, Any] = json_column()


class ScheduleRow(Numbered, table=True):
    """A check or a surface scan of a pool by the calendar (``core.policies.schedule``)."""

    __tablename__ = "schedule"
    id: int | None = Field(default=None, primary_key=True)
    pool_id: int = Field(foreign_key="pool.id")
    what: str
    day: int
    minute: int
    zone: str
    weeks: int | None = None
    which: int | None = None
    pace: str = "gentle"
    set_by: str
    #: From when on it recurs.
    begun: dt.datetime = when()
    #: When it is due next; in the past: it is due, and waits.
    next_at: dt.datetime = when()
    #: Why it has not begun though it is due.
    waits: str | None = None
    last_at: dt.datetime | None = when(default=False)


class CalendarAddress(SQLModel, table=True):
    """Where a person's calendar asks for what is planned."""

    __tablename__ = "calendar_address"
    user_id: int = Field(primary_key=True, foreign_key="app_user.id")
    #: Of the address (SHA-256).
    token_hash: str = Field(unique=True)
    made_at: dt.datetime = when(clock=wall)
    read_at: dt.datetime | None = when(default=False)

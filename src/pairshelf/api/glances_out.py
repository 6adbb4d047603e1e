"""Pools at a glance as they are sent."""

from __future__ import annotations

import datetime as dt
from dataclasses import asdict

from pydantic import BaseModel

from pairshelf.core.watching.glance import Glance, still
from pairshelf.core.watching.trend import Outlook


class OutlookOut(BaseModel):
    """When something will be full."""

    #: Of a pool's first volume to be full: its name. Null: the pool itself, or what was asked for.
    of: str | None = None
    at: dt.datetime | None
    #: The interval, 95 %; null at its later end: it may never be full.
    earliest: dt.datetime | None
    latest: dt.datetime | None
    #: Bytes a day.
    growth: float | None
    days: int
    why_none: str | None


class GlanceOut(BaseModel):
    """A pool at one glance."""

    id: int
    name: str
    tint: int
    state: str
    #: Nothing is to be said of it.
    well: bool
    capacity: int
    #: Given to volumes for good: of thin ones, what was written.
    given: int
    #: Bytes of files, each once; and what they take of the capacity, with redundancy.
    files: int
    footprint: int
    #: The capacity is that of the drives, redundancy included.
    of_drives: bool
    free: int
    #: The whole sizes of all volumes.
    committed: int
    over_commit: float
    #: What would come back: given to thin volumes with no file on it, or with one that lies in a bin.
    reclaimable: int
    in_bins: int
    #: What file systems hold back.
    reserve: int
    thin: bool
    #: Share of the capacity in use, and where a person is told and where it presses.
    fullness: float
    tell: float
    urgent: float
    level: int
    #: What may still fail, in words.
    still: str
    outlook: OutlookOut | None
    checked_at: dt.datetime | None


def outlook_out(told: Outlook | None, of: str | None = None) -> OutlookOut | None:
    """An outlook as it is sent."""
    return None if told is None else OutlookOut(of=of, **asdict(told))


def glance_out(glance: Glance) -> GlanceOut:
    """A glance as it is sent."""
    held = glance.account
    return GlanceOut(
        id=glance.id, name=glance.name, tint=glance.tint, state=glance.state, well=glance.well, capacity=held.capacity,
        given=held.given, files=held.files, footprint=held.footprint, of_drives=held.of_drives, free=held.free, committed=held.committed,
        over_commit=held.over_commit, reclaimable=held.reclaimable,
        in_bins=held.in_bins, reserve=held.reserve,
        thin=held.thin, fullness=glance.fullness, tell=glance.limits.tell, urgent=glance.limits.urgent,
        level=int(glance.level), still=still(glance), outlook=outlook_out(glance.outlook, glance.outlook_of),
        checked_at=glance.checked_at,
    )  # fmt: skip

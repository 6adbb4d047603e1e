"""A pool at one glance, and in one sentence whether all is well."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from dataclasses import dataclass

from pairshelf.core.domain.words import survives_any, survives_more
from pairshelf.core.watching.holding import Holding, VolumeHolds
from pairshelf.core.watching.thresholds import Level, Thresholds
from pairshelf.core.watching.trend import Outlook


@dataclass(frozen=True, slots=True)
class Glance:
    """What of a pool is seen at once."""

    id: int
    name: str
    tint: int
    state: str
    account: Holding
    limits: Thresholds
    level: Level
    #: Failures it survives yet, whichever they are; None: that cannot be said (lost, unreachable).
    may_fail: int | None
    #: What fails as one: drive, shelf, host, site.
    domain: str
    #: When it, or its first volume, will be full; of which volume, or None: the pool itself.
    outlook: Outlook | None
    outlook_of: str | None
    checked_at: dt.datetime | None
    busy: bool

    @property
    def well(self) -> bool:
        """Whether there is nothing to be said of it."""
        return self.state == "healthy" and self.level is Level.ROOM

    @property
    def fullness(self) -> float:
        """Of its capacity, what is in use: under thin volumes what was written, otherwise the footprint of files."""
        if self.account.thin:
            return self.account.share
        return self.account.footprint / self.account.capacity if self.account.capacity else 1.0


@dataclass(frozen=True, slots=True)
class VolumeGlance:
    """What of a volume is seen at once."""

    holds: VolumeHolds
    limits: Thresholds
    level: Level
    outlook: Outlook | None


def still(glance: Glance) -> str:
    """How many failures it survives, in a few words."""
    if glance.state == "lost":
        return "data are lost"
    if glance.may_fail is None:
        return "nothing is lost; wait for what is away"
    if glance.may_fail == 0:
        return survives_more(0) if glance.state != "healthy" else survives_any(0, glance.domain)
    if glance.state != "healthy":
        return survives_more(glance.may_fail)
    return survives_any(glance.may_fail, glance.domain)


def first_to_fill(outlooks: Sequence[tuple[str | None, Outlook]]) -> tuple[str | None, Outlook | None]:
    """Of the outlooks of a pool (None) and its volumes: the one that comes first, or one that says why there is none."""
    dated = [(of, told) for of, told in outlooks if told.at is not None]
    if dated:
        return min(dated, key=lambda one: one[1].at or dt.datetime.max.replace(tzinfo=dt.UTC))
    return outlooks[0] if outlooks else (None, None)


def in_order(glances: Sequence[Glance]) -> list[Glance]:
    """Those about which something is to be said first, the gravest and fullest before; then by name."""
    graves = ("lost", "unreachable", "unprotected", "degraded", "healthy")
    return sorted(
        glances, key=lambda g: (g.well, graves.index(g.state), -g.level, -g.fullness if not g.well else 0.0, g.name)
    )

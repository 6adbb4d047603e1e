"""A pool at one glance, and in one sentence whether all is well."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from dataclasses import dataclass

from pairshelf.core.policies.attention import Gravity, Matter
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
        """Of its capacity, what is in use: under thin volumes what was written, otherwise what files take."""
        if self.account.thin:
            return self.account.share
        return self.account.files / self.account.capacity if self.account.capacity else 1.0


@dataclass(frozen=True, slots=True)
class VolumeGlance:
    """What of a volume is seen at once."""

    holds: VolumeHolds
    limits: Thresholds
    level: Level
    outlook: Outlook | None


def still(glance: Glance) -> str:
    """What may still fail, in a few words."""
    if glance.state == "lost":
        return "data are lost"
    if glance.may_fail is None:
        return "nothing is lost; wait for what is away"
    if glance.may_fail == 0:
        return "nothing more may fail"
    return f"any {glance.may_fail if glance.may_fail > 1 else 'one'} {glance.domain}{'s' if glance.may_fail > 1 else ''} may fail"


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


def verdict(matters: Sequence[Matter], pools: int) -> str:
    """Whether all is well, in one sentence."""
    now = sum(m.gravity is Gravity.NOW for m in matters)
    soon = sum(m.gravity is Gravity.SOON for m in matters)
    if now:
        return f"{_things(now)} you now{f', and {soon} more before long' if soon else ''}."
    if soon:
        return f"{_things(soon)} you before long."
    if not pools:
        return "There is no pool yet."
    rest = len(matters)
    return f"All is well; {rest} thing{'s' if rest > 1 else ''} can wait." if rest else "All is well."


def _things(count: int) -> str:
    return "One thing needs" if count == 1 else f"{count} things need"


def is_well(matters: Sequence[Matter]) -> bool:
    """Whether nothing needs a person now or soon."""
    return all(m.gravity is Gravity.SOMETIME for m in matters)

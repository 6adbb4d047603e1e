"""What survives: the guaranteed and the best case, and any given selection of failures."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass
from enum import StrEnum

from pairshelf.core.layouts.model import Layout


class PoolState(StrEnum):
    """How a pool stands."""

    #: All it was promised.
    HEALTHY = "healthy"
    #: Less than promised, something may still fail.
    DEGRADED = "degraded"
    #: Nothing more may fail.
    UNPROTECTED = "unprotected"
    #: More has failed than it survives.
    LOST = "lost"
    #: More drives are absent than it survives; writing and reading are held until they return.
    UNREACHABLE = "unreachable"


@dataclass(frozen=True, slots=True)
class Survival:
    """Failures at once: any of them (guaranteed), and the luckiest choice (best case)."""

    guaranteed: int
    best_case: int


@dataclass(frozen=True, slots=True)
class AfterFailures:
    """What a given selection of failed members leaves."""

    survives: bool
    #: How many more may fail, whichever they are.
    more_guaranteed: int
    #: How many more may fail, if they are the right ones.
    more_best_case: int
    #: Failures in each set.
    failed_by_set: tuple[int, ...]
    #: Sets that have lost more than they survive.
    lost_sets: tuple[int, ...]


def survival(layout: Layout) -> Survival:
    """Guaranteed and best case of the whole pool, spares not counted."""
    after = after_failures(layout, ())
    return Survival(after.more_guaranteed, after.more_best_case)


def after_failures(layout: Layout, failed: Collection[str]) -> AfterFailures:
    """What is left once the members with these ids have failed; other ids are ignored."""
    gone = set(failed)
    tolerance = layout.scheme.survives
    by_set = tuple(sum(d.id in gone for d in one) for one in layout.sets)
    lost = tuple(i for i, count in enumerate(by_set) if count > tolerance)
    if lost:
        return AfterFailures(False, 0, 0, by_set, lost)
    left = [tolerance - count for count in by_set]
    return AfterFailures(True, min(left), sum(left), by_set, ())


def state_of(layout: Layout, failed: Collection[str], missing: Collection[str]) -> PoolState:
    """The pool's state with these members failed for good and these absent but perhaps coming back."""
    if not after_failures(layout, failed).survives:
        return PoolState.LOST
    after = after_failures(layout, {*failed, *missing})
    if not after.survives:
        return PoolState.UNREACHABLE
    promised = survival(layout)
    if (after.more_guaranteed, after.more_best_case) == (promised.guaranteed, promised.best_case):
        return PoolState.HEALTHY
    return PoolState.DEGRADED if after.more_guaranteed > 0 else PoolState.UNPROTECTED


def in_words(layout: Layout, after: AfterFailures) -> str:
    """One sentence: do the data survive, and what may still fail."""
    if not after.survives:
        names = " and ".join(str(i + 1) for i in after.lost_sets)
        many = len(after.lost_sets) > 1
        where = f"set{'s' if many else ''} {names}" if len(layout.sets) > 1 else "the set"
        return f"The data are lost: {where} {'have' if many else 'has'} lost more drives than {'they' if many else 'it'} can do without."
    if after.more_best_case == 0:
        return "The data survive, but nothing more may fail."
    if after.more_guaranteed == after.more_best_case:
        return (
            f"The data survive. Any {after.more_guaranteed} more may fail."
            if after.more_guaranteed > 1
            else "The data survive. Any one more may fail."
        )
    if after.more_guaranteed == 0:
        return f"The data survive. One more failure in the wrong set loses them; up to {after.more_best_case} in the right sets do not."
    return (
        f"The data survive. Any {after.more_guaranteed} more may fail, up to {after.more_best_case} in the right sets."
    )

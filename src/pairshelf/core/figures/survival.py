"""What survives: guaranteed and best case, the exact curve, any given selection of failures, whole shelves."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection
from dataclasses import dataclass
from enum import StrEnum
from functools import lru_cache
from math import comb

from pairshelf.core.domain.away import Stood, away_named
from pairshelf.core.domain.drives import DOMAINS
from pairshelf.core.domain.words import as_sentence, survives_more
from pairshelf.core.figures.selections import Survey, guaranteed, rows_of, survey
from pairshelf.core.layouts.model import AfterFailures, Layout


class PoolState(StrEnum):
    """How a pool stands."""

    #: All it was promised.
    HEALTHY = "healthy"
    #: Less than promised; survives at least one more failure.
    DEGRADED = "degraded"
    #: Survives no further failure.
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


def survival(layout: Layout) -> Survival:
    """Guaranteed and best case of the whole pool, spares not counted."""
    after = after_failures(layout, ())
    return Survival(after.more_guaranteed, after.more_best_case)


def curve(layout: Layout) -> tuple[float, ...]:
    """For k = 0..N members, the exact probability that data survive k failing at once, all choices alike.

    The product over sets of sum_{f<=t} C(n,f) x^f, its coefficient of x^k over C(N,k), in integers.
    Stepped layouts are one set: 1 up to p, then 0.
    """
    return _curve(layout.width, layout.scheme.survives, len(layout.sets))


@lru_cache(maxsize=4096)
def _curve(width: int, tolerance: int, sets: int) -> tuple[float, ...]:
    """The curve of equal sets. The product is one power of a large integer: each coefficient has a
    slot of its own, wide enough for C(N,k) < 2^N (Kronecker's substitution)."""
    members = width * sets
    slot = members // 8 + 1
    packed = sum(comb(width, f) << (8 * slot * f) for f in range(tolerance + 1))
    digits = (packed**sets).to_bytes(slot * (tolerance * sets + 1), "little")
    points = []
    choices = 1
    for k in range(members + 1):
        ways = int.from_bytes(digits[slot * k : slot * (k + 1)], "little") if k <= tolerance * sets else 0
        points.append(ways / choices)
        choices = choices * (members - k) // (k + 1)
    return tuple(points)


def units_of(layout: Layout, domain: str) -> tuple[str, ...]:
    """The shelves, hosts or sites that members stand in, in the order of first appearance."""
    return tuple(dict.fromkeys(d.place(domain) for d in layout.members))


def survival_of(layout: Layout, domain: str) -> Survey:
    """The same for whole shelves, hosts or sites (or ``drive``): what may fail as one."""
    units, groups = _groups(layout, domain)
    return survey(rows_of(groups, units), layout.scheme.survives)


def guaranteed_of(layout: Layout, domain: str) -> int:
    """How many shelves, hosts or sites may fail, whichever they are."""
    units, groups = _groups(layout, domain)
    return guaranteed(rows_of(groups, units), layout.scheme.survives)


def withstands(layout: Layout) -> tuple[str, ...]:
    """Of shelf, host and site those of which any one may fail as a whole: where members stand in several, and all of
    them say where. Of two that divide the members alike, as where every shelf is a host, the first says it."""
    found: list[str] = []
    told: set[tuple[int, ...]] = set()
    for domain in ("shelf", "host", "site"):
        if any(getattr(d, domain) is None for d in layout.members):
            continue
        number: dict[str, int] = {}
        alike = tuple(number.setdefault(d.place(domain), len(number)) for d in layout.members)
        if len(number) < 2 or alike in told:
            continue
        told.add(alike)
        width, tolerance = layout.width, layout.scheme.survives
        if all(max(Counter(alike[i : i + width]).values()) <= tolerance for i in range(0, len(alike), width)):
            found.append(domain)
    return tuple(found)


def _groups(layout: Layout, domain: str) -> tuple[int, list[list[int]]]:
    assert domain in DOMAINS
    number = {unit: i for i, unit in enumerate(units_of(layout, domain))}
    return len(number), [[number[d.place(domain)] for d in one] for one in layout.sets]


def after_failures(layout: Layout, failed: Collection[str]) -> AfterFailures:
    """What is left once the members with these ids have failed; other ids are ignored."""
    return layout.after_failures(set(failed))


def state_of(layout: Layout, failed: Collection[str], missing: Collection[str]) -> PoolState:
    """The pool's state with these members failed for good and these absent but perhaps coming back."""
    if not after_failures(layout, failed).survives:
        return PoolState.LOST
    after = after_failures(layout, {*failed, *missing})
    if not after.survives:
        return PoolState.UNREACHABLE
    promised = survival(layout)
    # Between two layouts the loss of a drive that only the stronger one has leaves what is promised of both as it was.
    whole = layout.own_protection or not {d.id for d in layout.members}.intersection((*failed, *missing))
    if whole and (after.more_guaranteed, after.more_best_case) == (promised.guaranteed, promised.best_case):
        return PoolState.HEALTHY
    return PoolState.DEGRADED if after.more_guaranteed > 0 else PoolState.UNPROTECTED


def now_in_words(layout: Layout, failed: Collection[str], missing: Collection[str]) -> str:
    """The same of drives that are really gone: of those that may come back nothing is said to be lost."""
    away = away_named([Stood(d.host, d.shelf, d.id in missing) for d in layout.members])
    if state_of(layout, failed, missing) is PoolState.UNREACHABLE:
        return (
            f"Away: {away}. Too much to read or write now. Nothing is lost: it goes on where it was once they are back."
        )
    if away:
        return f"Away, and waited for: {away}. {in_words(layout, after_failures(layout, {*failed, *missing}))}"
    return in_words(layout, after_failures(layout, {*failed, *missing}))


def in_words(layout: Layout, after: AfterFailures) -> str:
    """Whether the data survive, and how many more failures they survive."""
    if not after.survives:
        return layout.lost_in_words(after)
    place = layout.part
    if after.more_best_case == 0:
        return "No data are lost. Survives no further failure."
    best = f"; in the best case {after.more_best_case}, in the right {place}s"
    if after.more_guaranteed == after.more_best_case:
        best = ""
    return f"No data are lost. {as_sentence(survives_more(after.more_guaranteed))}{best}."

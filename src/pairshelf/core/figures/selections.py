"""Which selections of failed units leave all data, counted exactly while that is feasible (rules: what survives).

A *hazard* is a list of rows: how much of one protected group (a set, a stripe) each unit carries. A
selection survives when no row has lost more than its tolerance. Units may be drives, shelves, hosts
or sites. Exact for every number k of failures with at most a million selections; beyond that by
nested seeded sampling, which keeps the curve monotone, with a 95 % interval (Wilson, 1927).
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from math import comb, sqrt

import numpy as np
import numpy.typing as npt

from pairshelf.core.patience import still_wanted

#: Selections of one size that are all looked at.
MOST_EXACT = 1_000_000
#: Random orders of failing, where not all selections can be looked at.
SAMPLES = 4_000
_CHUNK = 2_000_000

Rows = npt.NDArray[np.int16]


@dataclass(frozen=True, slots=True)
class Survey:
    """What survives of ``units`` units: any ``guaranteed`` may fail, some ``best_case`` may."""

    units: int
    guaranteed: int
    best_case: int
    #: Whether ``best_case`` is exact, or a lower bound that sampling found.
    best_case_exact: bool
    #: For k = 0..units, the probability that data survive k failing at once.
    curve: tuple[float, ...]
    #: Lowest and highest value of each point; equal where it is exact. None where all are.
    curve_interval: tuple[tuple[float, float], ...] | None


def rows_of(groups: Iterable[Sequence[int]], units: int) -> Rows:
    """Rows from groups given as lists of unit numbers (a unit may stand in a group more than once)."""
    distinct = sorted({tuple(sorted(g)) for g in groups})
    rows = np.zeros((len(distinct), units), np.int16)
    number = np.repeat(np.arange(len(distinct)), [len(g) for g in distinct])
    np.add.at(rows, (number, np.array([u for g in distinct for u in g], int)), 1)
    return rows


def guaranteed(rows: Rows, tolerance: int) -> int:
    """The largest f such that any f units may fail: the f heaviest of every row are within its tolerance."""
    if not rows.size:
        return int(rows.shape[1])
    heaviest = np.cumsum(-np.sort(-rows, axis=1), axis=1).max(axis=0)
    return int(np.searchsorted(heaviest, tolerance, side="right"))


def survey(rows: Rows, tolerance: int, *, seed: int = 1) -> Survey:
    """Guaranteed, best case and the whole curve."""
    units = rows.shape[1]
    sure = guaranteed(rows, tolerance)
    highest = min(units, _upper_bound(rows, tolerance))
    curve: list[float] = [1.0] * (sure + 1) + [0.0] * (units - sure)
    alive = _all_selections(units, min(sure, units)) if comb(units, sure) <= MOST_EXACT else None
    k = sure
    exact_to = sure
    while alive is not None and k < highest and comb(units, k + 1) <= MOST_EXACT:
        alive = _extend(alive, rows, tolerance, units)
        k += 1
        exact_to = k
        curve[k] = len(alive) / comb(units, k)
        if not len(alive):
            highest = min(highest, k - 1)
            break
    if exact_to >= highest:
        return Survey(units, sure, max(i for i, v in enumerate(curve) if v > 0), True, tuple(curve), None)
    return _sampled(rows, tolerance, curve, exact_to, highest, sure, seed)


def _upper_bound(rows: Rows, tolerance: int) -> int:
    """No more can ever survive: rows apart from one another each keep all but their tolerance."""
    used = np.zeros(rows.shape[1], bool)
    must_stay = 0
    for row in rows:
        units = np.flatnonzero(row)
        if used[units].any():
            continue
        used[units] = True
        lightest = np.cumsum(np.sort(row[units]))
        must_stay += len(units) - int(np.searchsorted(lightest, tolerance, side="right"))
    return int(rows.shape[1]) - must_stay


def _all_selections(units: int, size: int) -> npt.NDArray[np.int16]:
    """Every selection of that size, as rising unit numbers; only called where all of them survive."""
    found = np.zeros((1, 0), np.int16)
    for _ in range(size):
        found = _longer(found, units)
    return found


def _longer(selections: npt.NDArray[np.int16], units: int) -> npt.NDArray[np.int16]:
    """Each selection with each unit after its last."""
    last = selections[:, -1].astype(int) if selections.shape[1] else np.full(len(selections), -1)
    room = units - 1 - last
    index = np.repeat(np.arange(len(selections)), room)
    first = np.repeat(np.cumsum(room) - room, room)
    new = np.arange(len(index)) - first + last[index] + 1
    return np.column_stack([selections[index], new.astype(np.int16)])


def _extend(alive: npt.NDArray[np.int16], rows: Rows, tolerance: int, units: int) -> npt.NDArray[np.int16]:
    """The survivors one larger. Survival is monotone: only survivors need extending."""
    if not len(alive):
        return alive
    longer = _longer(alive, units)
    if not len(longer):
        return longer
    weights = rows.T.astype(np.float32)
    step = max(1, _CHUNK // max(1, rows.shape[0]))
    kept = []
    for start in range(0, len(longer), step):
        still_wanted()
        part = longer[start : start + step]
        hit = np.zeros((len(part), units), np.float32)
        np.put_along_axis(hit, part.astype(np.int64), 1.0, axis=1)
        kept.append(part[((hit @ weights) <= tolerance).all(axis=1)])
    return np.concatenate(kept)


def _sampled(
    rows: Rows, tolerance: int, curve: list[float], exact_to: int, highest: int, sure: int, seed: int
) -> Survey:
    """Beyond the exact part: random orders of failing, each asked how many it bears."""
    units = rows.shape[1]
    random = np.random.default_rng(seed)
    orders = random.permuted(np.tile(np.arange(units), (SAMPLES, 1)), axis=1)
    borne = np.full(SAMPLES, units)
    living = np.arange(SAMPLES)
    lost = np.zeros((SAMPLES, rows.shape[0]), np.int16)
    weights = np.ascontiguousarray(rows.T)
    for step in range(min(units, highest + 1)):
        lost[living] += weights[orders[living, step]]
        dead = (lost[living] > tolerance).any(axis=1)
        borne[living[dead]] = step
        living = living[~dead]
        if not len(living):
            break
    intervals = [(v, v) for v in curve]
    ceiling = curve[exact_to]
    for k in range(exact_to + 1, units + 1):
        share = float((borne >= k).mean()) if k <= highest else 0.0
        curve[k] = min(share, ceiling)
        low, high = _wilson(share, SAMPLES) if k <= highest else (0.0, 0.0)
        intervals[k] = (min(low, ceiling), min(high, ceiling))
    best = max(i for i, v in enumerate(curve) if v > 0)
    return Survey(units, sure, best, best == highest, tuple(curve), tuple(intervals))


def _wilson(share: float, count: int, z: float = 1.959964) -> tuple[float, float]:
    """The 95 % interval of a share seen in ``count`` trials."""
    middle = (share + z * z / (2 * count)) / (1 + z * z / count)
    half = z / (1 + z * z / count) * sqrt(share * (1 - share) / count + z * z / (4 * count * count))
    return max(0.0, middle - half), min(1.0, middle + half)

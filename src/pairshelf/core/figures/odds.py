"""The yearly odds of losing data, and the mean time to it (rules: rebuild time and odds).

A group of n members is a continuous-time Markov chain over the number of failed ones, with an
absorbing state: one more fails at (n-i) x lambda, one is repaired at mu, one repair at a time.
Rates are per hour. Nothing is subtracted where both sides are close, so that tiny odds stay right:
the transition matrix is built by uniformisation and squaring (all terms positive), mean times by
recursion (compare W. K. Grassmann, M. I. Taksar, D. P. Heyman, 1985).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache
from math import ceil, expm1, log1p, log2

import numpy as np
import numpy.typing as npt

from pairshelf.core.figures.assumptions import YEAR
from pairshelf.core.patience import still_wanted


def failure_rate(afr: float) -> float:
    """Failures per hour of a drive: lambda = -ln(1 - AFR) / 8766 h."""
    return -log1p(-afr) / YEAR


def unreadable(uber: float, read_bytes: float) -> float:
    """Chance to meet an unreadable sector in so many bytes: q = 1 - (1 - UBER)^(8 x bytes)."""
    return -expm1(8 * read_bytes * log1p(-uber))


@dataclass(frozen=True, slots=True)
class Chain:
    """One protected group: state i has i members failed; beyond the last state data are lost.

    ``fail[i]``: failures per hour in state i. ``bear[i]``: share of them that are borne (1 up to the
    tolerance; for spread pools S(i+1)/S(i)). ``repair``: repairs per hour.
    """

    fail: tuple[float, ...]
    bear: tuple[float, ...]
    repair: float
    #: From this state on a repair has no redundancy to spare: an unreadable sector there is damage.
    critical: int

    @classmethod
    def of_set(cls, members: int, tolerance: int, rate: float, repair_hours: float | None) -> Chain:
        """A set that survives ``tolerance`` failures; repairs last ``repair_hours`` (None: there are none)."""
        fail = tuple((members - i) * rate for i in range(tolerance + 1))
        mu = 1 / repair_hours if repair_hours and tolerance else 0.0
        return cls(fail, (1.0,) * tolerance + (0.0,), mu, tolerance)


@dataclass(frozen=True, slots=True)
class Odds:
    """Within a year: losing data (``yearly_loss``); damage or loss, whichever is first (``yearly_damage``)."""

    yearly_loss: float
    yearly_damage: float
    #: Mean hours until data are lost; None if that never happens (nothing ever fails).
    mttdl_hours: float | None


@dataclass(frozen=True, slots=True)
class Alike:
    """``sets`` alike groups, any one of which takes all; ``q`` for a repair with nothing to spare."""

    chain: Chain
    sets: int
    q: float

    @property
    def fails(self) -> bool:
        """Whether any of its drives can fail at all."""
        return self.chain.fail[0] > 0

    @property
    def spoilt(self) -> tuple[Chain, float]:
        """The chain with what its repairs may meet."""
        return self.chain, self.q if self.chain.critical >= 1 else 0.0


def odds(chain: Chain, sets: int, q: float) -> Odds:
    """The odds of a pool of alike sets."""
    return odds_of_all([[Alike(chain, sets, q)]])[0]


def odds_of_all(asked: Sequence[Sequence[Alike]]) -> list[Odds]:
    """The odds of many pools at once, each of groups of alike sets: chains of as many states and steps are worked out
    together.

    To the last bit what each of them gives alone: whatever else is asked changes no figure.
    """
    chances: dict[tuple[Chain, float], float] = {}
    alike: dict[tuple[int, int], list[tuple[Chain, float]]] = {}
    for one in (group for pool in asked for group in pool if group.fails):
        for pair in ((one.chain, 0.0), one.spoilt):
            if pair not in chances:
                chances[pair] = 0.0
                alike.setdefault((len(one.chain.fail), _doublings(one.chain)), []).append(pair)
    for (_, doublings), pairs in alike.items():
        chances |= zip(pairs, _absorbed(pairs, doublings), strict=True)
    found = []
    for pool in asked:
        failing = tuple(group for group in pool if group.fails)
        if not failing:
            found.append(Odds(0.0, 0.0, None))
            continue
        loss = _any_of([(chances[g.chain, 0.0], g.sets) for g in failing])
        damage = _any_of([(chances[g.spoilt], g.sets) for g in failing])
        found.append(Odds(loss, damage, _mean_time(tuple((g.chain, g.sets) for g in failing))))
    return found


def _any_of(chances: Sequence[tuple[float, int]]) -> float:
    """1 - product of (1 - P)^m."""
    if any(chance >= 1 for chance, _ in chances):
        return 1.0
    return -expm1(sum(sets * log1p(-chance) for chance, sets in chances))


Matrices = npt.NDArray[np.float64]

#: Terms of the series for the first, short step; with a step of 2^-5 of the fastest rate the rest is below 1e-20.
_TERMS = 11
_FINE = 5


def _generator(chain: Chain, q: float) -> tuple[Matrices, Matrices]:
    """Rates between the states (no diagonal), and from each state to the end."""
    states = len(chain.fail)
    rates = np.zeros((states, states))
    end = np.zeros(states)
    for i in range(states):
        if i + 1 < states:
            rates[i, i + 1] = chain.fail[i] * chain.bear[i]
            end[i] = chain.fail[i] * (1 - chain.bear[i])
        else:
            end[i] = chain.fail[i]
        if i:
            spoilt = q if i >= chain.critical else 0.0
            rates[i, i - 1] = chain.repair * (1 - spoilt)
            end[i] += chain.repair * spoilt
    return rates, end


def _first_step(rates: Matrices, end: Matrices, hours: Matrices) -> tuple[Matrices, Matrices]:
    """Transition matrices of a batch of chains over short times, by uniformisation.

    ``rates`` (batch, states, states), ``end`` (batch, states), ``hours`` (batch): the fastest rate times
    the hours is far below 1. Returns the matrices between states, and the chances of the end.
    """
    states = end.shape[1]
    out = rates.sum(axis=2) + end
    fastest = out.max(axis=1)
    jump = rates / fastest[:, None, None]
    index = np.arange(states)
    jump[:, index, index] += np.maximum(1 - out / fastest[:, None], 0.0)
    lost = end / fastest[:, None]
    x = fastest * hours
    weight = np.exp(-x)
    power = np.broadcast_to(np.eye(states), jump.shape)
    gone = np.zeros_like(end)
    between = weight[:, None, None] * power
    ended = np.zeros_like(end)
    for k in range(1, _TERMS):
        gone = lost + np.matmul(jump, gone[:, :, None])[:, :, 0]
        power = np.matmul(power, jump)
        weight = weight * x / k
        between = between + weight[:, None, None] * power
        ended = ended + weight[:, None] * gone
    return between, ended


def _square(between: Matrices, ended: Matrices) -> tuple[Matrices, Matrices]:
    """Twice the time. Rows are brought back to one, so that errors add up and do not double."""
    ended = ended + np.matmul(between, ended[:, :, None])[:, :, 0]
    between = np.matmul(between, between)
    kept = between.sum(axis=2)
    left = 1 - ended
    scale = np.where(left > 1e-3, left / np.where(kept > 0, kept, 1.0), 1.0)
    return between * scale[:, :, None], ended


def _doublings(chain: Chain) -> int:
    """How often a first step far shorter than the chain's fastest change is doubled to a year."""
    fastest = max(f + (chain.repair if i else 0.0) for i, f in enumerate(chain.fail))
    return max(0, ceil(log2(fastest * YEAR)) + _FINE)


def _absorbed(pairs: Sequence[tuple[Chain, float]], doublings: int) -> list[float]:
    """Probability of the end within a year, from nothing failed; all chains have as many states."""
    if len(pairs[0][0].fail) == 1:
        return [-expm1(-chain.fail[0] * YEAR) for chain, _ in pairs]
    generators = [_generator(chain, q) for chain, q in pairs]
    rates, end = np.array([g[0] for g in generators]), np.array([g[1] for g in generators])
    between, ended = _first_step(rates, end, np.full(len(pairs), YEAR / 2**doublings))
    for _ in range(doublings):
        between, ended = _square(between, ended)
    return [float(min(1.0, v)) for v in ended[:, 0]]


def mean_time(chain: Chain) -> float:
    """Mean hours to the end of one group.

    With everything borne to the tolerance this is the sum of h_0 = 1/(n lambda),
    h_i = (1 + mu h_(i-1)) / ((n-i) lambda). T_i is the mean time from i to i+1 or the end, a_i the
    chance that it is the end.
    """
    total, reached = 0.0, 1.0
    before = ends = 0.0
    for i, fail in enumerate(chain.fail):
        bear = chain.bear[i] if i + 1 < len(chain.fail) else 0.0
        mu = chain.repair if i else 0.0
        out = fail + mu * ends
        before = (1 + mu * before) / out
        up = fail * bear / out
        ends = (fail * (1 - bear) + mu * ends) / out
        total += reached * before
        reached *= up
    return total


Groups = tuple[tuple[Chain, int], ...]


@lru_cache(maxsize=8192)
def _mean_time(groups: Groups) -> float:
    """Mean hours until the first of all sets ends, given as (chain, how many alike): the integral of the product of
    their survival functions, to a relative 1e-3.

    The time to the end is a sum of exponential stages, the longest far above the others together (x).
    Then the first of m ends between (M-x)/m and (M-x)/m + x, and likewise where sets differ, with the sum of their
    rates m/(M-x); where that is not close enough the integral is taken numerically, over the logarithm of time.
    """
    if len(groups) == 1 and (groups[0][1] == 1 or len(groups[0][0].fail) == 1):
        return mean_time(groups[0][0]) / groups[0][1]
    if all(b == 1 for chain, _ in groups for b in chain.bear[:-1]):
        shorts = [_short_stages(chain) for chain, _ in groups]
        ends = sum(sets / (mean_time(chain) - x) for (chain, sets), x in zip(groups, shorts, strict=True))
        if max(shorts) * ends < 2e-4:
            return float(1 / ends + sum(shorts) / len(shorts) / 2)
    return _integral(groups)


def _short_stages(chain: Chain) -> float:
    """Mean hours of all stages but the longest: eigenvalues of the symmetrised chain."""
    states = len(chain.fail)
    matrix = np.zeros((states, states))
    for i in range(states):
        matrix[i, i] = chain.fail[i] + (chain.repair if i else 0.0)
        if i + 1 < states:
            matrix[i, i + 1] = matrix[i + 1, i] = -np.sqrt(chain.fail[i] * chain.repair)
    return float(sum(1 / v for v in np.linalg.eigvalsh(matrix)[1:]))


#: Points for each doubling of time; the integrand is smooth and dies off at both ends.
_POINTS = 8


def _integral(groups: Groups) -> float:
    generators = [_generator(chain, 0.0) for chain, _ in groups]
    fastest = max(float((rates.sum(axis=1) + end).max()) for rates, end in generators)
    hours = 2.0 ** -(np.arange(_POINTS)[::-1] / _POINTS + _FINE) / fastest
    first = 1e-6 * min(1 / sum(sets / mean_time(chain) for chain, sets in groups), 1 / fastest)
    while hours[0] > first:
        hours = hours / 2
    steps = [
        _first_step(np.broadcast_to(r, (_POINTS, *r.shape)), np.broadcast_to(e, (_POINTS, *e.shape)), hours)
        for r, e in generators
    ]
    total = float(hours[0])  # until then nothing has ended
    while True:
        still_wanted()
        left = np.ones(_POINTS)
        for (_, ended), (_, sets) in zip(steps, groups, strict=True):
            left = left * np.clip(1 - ended[:, 0], 0.0, 1.0) ** sets
        total += float((left * hours).sum() * np.log(2) / _POINTS)
        if left[-1] < 1e-12:
            return total
        steps = [_square(between, ended) for between, ended in steps]
        hours = hours * 2


def chain_of_curve(members: int, rate: float, repair_hours: float | None, curve: Sequence[float], sure: int) -> Chain:
    """One chain over all members, the failure k -> k+1 is loss with probability 1 - S(k+1)/S(k).

    Exact where the curve falls from 1 to 0 (stepped), an approximation for spread pools.
    """
    last = max(k for k, s in enumerate(curve) if s > 0)
    fail = tuple((members - i) * rate for i in range(last + 1))
    bear = tuple((curve[i + 1] / curve[i]) if i < last else 0.0 for i in range(last + 1))
    return Chain(fail, bear, 1 / repair_hours if repair_hours and sure else 0.0, sure)

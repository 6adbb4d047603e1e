"""The odds: against the tables of 1988, an exact solution, Monte Carlo, and what must hold for all."""

from __future__ import annotations

import math
from decimal import Decimal, getcontext

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from pairshelf.core.domain.drives import Drive, Kind
from pairshelf.core.domain.units import TB
from pairshelf.core.figures import odds as module
from pairshelf.core.figures.assess import assess
from pairshelf.core.figures.assumptions import YEAR, Assumptions
from pairshelf.core.figures.odds import (
    Alike,
    Chain,
    chain_of_curve,
    failure_rate,
    mean_time,
    odds,
    odds_of_all,
    unreadable,
)
from pairshelf.core.layouts import build_layout

rates = st.floats(1e-8, 1e-3)
hours = st.floats(0.1, 500)


@pytest.mark.parametrize(
    ("group", "checks", "groups", "repair", "paper"),
    [
        # Patterson, Gibson and Katz, 1988: mean time to failure of a disk 30,000 h, to repair 1 h, 100 data disks.
        (10, 1, 10, 1.0, 818_182),
        (25, 1, 4, 1.0, 346_154),
        (1, 1, 100, 1.0, 4_500_000),
    ],
)
def test_the_tables_of_1988(group: int, checks: int, groups: int, repair: float, paper: int) -> None:
    chain = Chain.of_set(group + checks, checks, 1 / 30_000, repair)
    assert mean_time(chain) / groups == pytest.approx(paper, rel=2e-3)
    found = odds(chain, groups, 0.0).mttdl_hours
    assert found == pytest.approx(mean_time(chain) / groups, rel=1e-3)
    if group == 10:
        assert mean_time(chain) / groups == pytest.approx(818_754.5, abs=0.6)


@given(st.integers(2, 30), rates, hours)
def test_a_set_with_one_parity_is_solved_exactly(members: int, rate: float, repair: float) -> None:
    """Two states and the end: roots of a quadratic, in fifty digits."""
    getcontext().prec = 50
    a, b, mu = Decimal(members) * Decimal(rate), Decimal(members - 1) * Decimal(rate), 1 / Decimal(repair)
    total = a + b + mu
    root = (total * total - 4 * a * b).sqrt()
    fast, slow = (total + root) / 2, 2 * a * b / (total + root)
    t = Decimal(YEAR)
    left = (fast * (-slow * t).exp() - slow * (-fast * t).exp()) / (fast - slow)
    found = odds(Chain.of_set(members, 1, rate, repair), 1, 0.0)
    assert found.yearly_loss == pytest.approx(float(1 - left), rel=1e-8)
    assert found.mttdl_hours == pytest.approx(float(total / (a * b)), rel=1e-12)


def test_tiny_odds_stay_right() -> None:
    """Far below what subtraction could tell: for short repairs the odds are a year over the mean time."""
    chain = Chain.of_set(8, 3, failure_rate(0.005), 0.5)
    found = odds(chain, 1, 0.0)
    assert 0 < found.yearly_loss < 1e-14
    assert found.yearly_loss == pytest.approx(YEAR / mean_time(chain), rel=1e-3)


@given(st.integers(1, 3), st.integers(0, 12), rates, hours, st.floats(0, 1), st.integers(1, 40))
def test_more_tolerance_is_never_worse(
    tolerance: int, more: int, rate: float, repair: float, q: float, sets: int
) -> None:
    members = tolerance + 2 + more
    found = odds(Chain.of_set(members, tolerance, rate, repair), sets, q)
    weaker = odds(Chain.of_set(members, tolerance - 1, rate, repair), sets, q)
    assert found.yearly_loss <= weaker.yearly_loss * (1 + 1e-9)
    assert 0 <= found.yearly_loss <= found.yearly_damage * (1 + 1e-9) <= 1 + 1e-9
    assert found.mttdl_hours is not None and weaker.mttdl_hours is not None
    assert found.mttdl_hours >= weaker.mttdl_hours * (1 - 1e-9)
    slower = odds(Chain.of_set(members, tolerance, rate, repair * 2), sets, q)
    assert slower.yearly_loss >= found.yearly_loss * (1 - 1e-9)


@given(st.integers(2, 12), st.integers(2, 400), st.floats(1e-6, 1e-3), st.floats(1, 300))
def test_the_first_of_many_sets(members: int, sets: int, rate: float, repair: float) -> None:
    """The quick way and the integral agree to the stated 1e-3, whichever is taken."""
    chain = Chain.of_set(members, 1, rate, repair)
    found = odds(chain, sets, 0.0).mttdl_hours
    assert found == pytest.approx(module._integral(((chain, sets),)), rel=1e-3)
    assert mean_time(chain) / sets <= found * (1 + 1e-3) and found <= mean_time(chain)


def test_without_redundancy_any_failure_counts() -> None:
    found = odds(Chain.of_set(12, 0, failure_rate(0.02), None), 1, 0.0)
    assert found.yearly_loss == found.yearly_damage == pytest.approx(1 - 0.98**12)
    assert found.mttdl_hours == pytest.approx(1 / (12 * failure_rate(0.02)))
    assert odds(Chain.of_set(12, 2, 0.0, 24), 3, 0.0).mttdl_hours is None


@given(st.lists(st.tuples(st.integers(2, 20), st.integers(1, 3), rates, hours), min_size=2, max_size=12))
def test_what_else_is_asked_changes_no_figure(asked: list[tuple[int, int, float, float]]) -> None:
    all_of_them = [Alike(Chain.of_set(n + t, t, rate, repair), 2, 0.1) for n, t, rate, repair in asked]
    assert odds_of_all([[a] for a in all_of_them]) == [odds(a.chain, a.sets, a.q) for a in all_of_them]


kinds = st.tuples(st.integers(2, 14), st.integers(1, 3), rates, hours, st.integers(1, 6))


@given(st.lists(kinds, min_size=1, max_size=4), st.floats(0, 1))
def test_sets_that_differ_have_their_own_odds(found: list[tuple[int, int, float, float, int]], q: float) -> None:
    """1 - product of (1 - P) over the sets; a set more is never better; alike ones count as if listed one by one."""
    groups = [Alike(Chain.of_set(n + t, t, rate, repair), sets, q) for n, t, rate, repair, sets in found]
    (whole,) = odds_of_all([groups])
    alone = [odds(g.chain, 1, g.q) for g in groups]
    kept = math.prod((1 - a.yearly_loss) ** g.sets for a, g in zip(alone, groups, strict=True))
    assert whole.yearly_loss == pytest.approx(1 - kept, rel=1e-9, abs=1e-12)
    assert whole.yearly_loss >= max(a.yearly_loss for a in alone) * (1 - 1e-12)
    assert whole.yearly_damage >= whole.yearly_loss * (1 - 1e-9)
    (listed,) = odds_of_all([[Alike(g.chain, 1, g.q) for g in groups for _ in range(g.sets)]])
    assert whole.yearly_loss == pytest.approx(listed.yearly_loss, rel=1e-12)
    # Between the mean time of the soonest by itself and as many of it as there are sets.
    soonest = min(a.mttdl_hours or math.inf for a in alone)
    assert whole.mttdl_hours is not None and listed.mttdl_hours is not None
    assert whole.mttdl_hours <= soonest * (1 + 1e-3)
    assert whole.mttdl_hours >= soonest / sum(g.sets for g in groups) * (1 - 2e-3)
    assert whole.mttdl_hours == pytest.approx(listed.mttdl_hours, rel=2e-3)


def test_the_first_of_sets_that_differ_agrees_with_monte_carlo() -> None:
    """Sets with different drives and repairs, walked through at random until the first ends."""
    kinds_ = [(Chain.of_set(4, 1, 2e-4, 300), 2), (Chain.of_set(6, 2, 5e-4, 200), 1)]
    (said,) = odds_of_all([[Alike(chain, sets, 0.0) for chain, sets in kinds_]])
    random = np.random.default_rng(11)

    def end(chain: Chain) -> float:
        time, state = 0.0, 0
        while True:
            repair = chain.repair if state else 0.0
            time += random.exponential(1 / (chain.fail[state] + repair))
            if random.random() * (chain.fail[state] + repair) < repair:
                state -= 1
            elif state + 1 == len(chain.fail):
                return time
            else:
                state += 1

    runs = 3000
    first = np.array([min(end(chain) for chain, sets in kinds_ for _ in range(sets)) for _ in range(runs)])
    assert said.mttdl_hours == pytest.approx(float(first.mean()), abs=4 * float(first.std()) / math.sqrt(runs))
    lost = float((first <= YEAR).mean())
    assert abs(lost - said.yearly_loss) < 4 * math.sqrt(said.yearly_loss * (1 - said.yearly_loss) / runs)


def test_each_set_of_a_pool_has_its_own_rebuild_rate_and_readings() -> None:
    """Two sets of large, old drives beside two of small, good ones: the odds are those of each by itself, together."""

    def drives(first: int, size: int, afr: float, uber: float) -> list[Drive]:
        return [Drive(str(first + i), size, Kind.HDD, 200_000_000, afr=afr, uber=uber) for i in range(8)]

    large, small = drives(0, 16 * TB, 0.03, 1e-14), drives(8, 4 * TB, 0.01, 1e-15)
    given_ = Assumptions(replace_hours=12)
    both = assess(build_layout([*large, *small], "parity-1", sets=4), given_)
    first = assess(build_layout(large, "parity-1", sets=2), given_)
    second = assess(build_layout(small, "parity-1", sets=2), given_)
    assert [(g.sets, g.afr) for g in both.groups] == [(2, pytest.approx(0.03)), (2, pytest.approx(0.01))]
    for name in ("yearly_loss", "yearly_damage"):
        a, b, all_ = (getattr(x.odds, name) for x in (first, second, both))
        assert all_ == pytest.approx(1 - (1 - a) * (1 - b), rel=1e-9)
    assert both.rebuild_hours == first.rebuild_hours and both.q == first.q
    assert both.odds.yearly_loss < assess(build_layout([*large, *drives(8, 16 * TB, 0.03, 1e-14)], "parity-1", sets=4), given_).odds.yearly_loss  # fmt: skip
    spared = assess(build_layout([*large, *small, Drive("s", 4 * TB, Kind.HDD, 200_000_000)], "parity-1", sets=4, spares=1), given_)  # fmt: skip
    waits = [(g.repair_hours or 0) - (g.rebuild_hours or 0) for g in spared.groups]
    assert waits == [pytest.approx(12), pytest.approx(0)]


def test_unreadable_sectors() -> None:
    assert unreadable(1e-15, 12.5e12) == pytest.approx(1 - math.exp(-0.1), rel=1e-6)
    assert unreadable(1e-17, 1e6) == pytest.approx(8e-11, rel=1e-6)


def _walk(chain: Chain, q: float, runs: int) -> tuple[float, float]:
    """The chain walked through at random: shares that ended within a year, without and with damage counted."""
    random = np.random.default_rng(7)
    loss = damage = 0
    for _ in range(runs):
        time, state, damaged = 0.0, 0, False
        while True:
            repair = chain.repair if state else 0.0
            time += random.exponential(1 / (chain.fail[state] + repair))
            if time > YEAR:
                break
            if random.random() * (chain.fail[state] + repair) < repair:
                damaged |= state >= chain.critical and random.random() < q
                state -= 1
            elif state + 1 == len(chain.fail) or random.random() >= chain.bear[state]:
                loss += 1
                damaged = True
                break
            else:
                state += 1
        damage += damaged
    return loss / runs, damage / runs


@pytest.mark.parametrize(
    ("chain", "q"),
    [
        (Chain.of_set(8, 1, 3e-5, 200), 0.1),
        (Chain.of_set(10, 2, 6e-5, 400), 0.3),
        (chain_of_curve(6, 5e-5, 300, (1.0, 1.0, 0.6, 0.2, 0.0, 0.0, 0.0), 1), 0.2),
    ],
)
def test_agrees_with_monte_carlo(chain: Chain, q: float) -> None:
    runs = 6000
    loss, damage = _walk(chain, q, runs)
    found = odds(chain, 1, q)
    for seen, said in ((loss, found.yearly_loss), (damage, found.yearly_damage)):
        assert 0.01 < said < 0.99, "raise the failure rates: nothing would be seen"
        assert abs(seen - said) < 4 * math.sqrt(said * (1 - said) / runs)

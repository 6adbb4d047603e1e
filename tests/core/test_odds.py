"""The odds: against the tables of 1988, an exact solution, Monte Carlo, and what must hold for all."""

from __future__ import annotations

import math
from decimal import Decimal, getcontext

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from pairshelf.core.figures import odds as module
from pairshelf.core.figures.assumptions import YEAR
from pairshelf.core.figures.odds import (
    Asked,
    Chain,
    chain_of_curve,
    failure_rate,
    mean_time,
    odds,
    odds_of_all,
    unreadable,
)

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
    assert found == pytest.approx(module._integral(chain, sets), rel=1e-3)
    assert mean_time(chain) / sets <= found * (1 + 1e-3) and found <= mean_time(chain)


def test_without_redundancy_any_failure_counts() -> None:
    found = odds(Chain.of_set(12, 0, failure_rate(0.02), None), 1, 0.0)
    assert found.yearly_loss == found.yearly_damage == pytest.approx(1 - 0.98**12)
    assert found.mttdl_hours == pytest.approx(1 / (12 * failure_rate(0.02)))
    assert odds(Chain.of_set(12, 2, 0.0, 24), 3, 0.0).mttdl_hours is None


@given(st.lists(st.tuples(st.integers(2, 20), st.integers(1, 3), rates, hours), min_size=2, max_size=12))
def test_what_else_is_asked_changes_no_figure(asked: list[tuple[int, int, float, float]]) -> None:
    all_of_them = [Asked(Chain.of_set(n + t, t, rate, repair), 2, 0.1) for n, t, rate, repair in asked]
    assert odds_of_all(all_of_them) == [odds(a.chain, a.sets, a.q) for a in all_of_them]


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

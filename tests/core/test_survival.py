"""What survives, held against the layout itself: a stripe is lost when more of it is gone than its parity."""

from __future__ import annotations

from itertools import combinations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from pairshelf.core.drives import parse_shorthand
from pairshelf.core.figures.survival import PoolState, after_failures, state_of, survival
from pairshelf.core.layouts import Layout, build_layout
from pairshelf.core.units import GIB
from tests.core.strategies import layouts


def _data_survive(layout: Layout, gone: set[int]) -> bool:
    """From the bands, not from the scheme: every group that holds data can do without what is gone."""
    return all(len(gone.intersection(group.members)) <= group.parity for band in layout.bands for group in band.groups)


@given(layouts(size=st.integers(2 * GIB, 12 * GIB), most=10))
def test_guaranteed_and_best_case_agree_with_every_selection(layout: Layout) -> None:
    count = len(layout.members)
    outcomes = {k: [_data_survive(layout, set(c)) for c in combinations(range(count), k)] for k in range(count + 1)}
    guaranteed = max(k for k, all_k in outcomes.items() if all(all(outcomes[j]) for j in range(k + 1)))
    best = max(k for k, all_k in outcomes.items() if any(all_k))
    assert (survival(layout).guaranteed, survival(layout).best_case) == (guaranteed, best)


@given(layouts(size=st.integers(2 * GIB, 12 * GIB), most=12), st.data())
def test_any_selection_agrees_with_the_bands(layout: Layout, data: st.DataObject) -> None:
    gone = data.draw(st.sets(st.integers(0, len(layout.members) - 1)))
    after = after_failures(layout, {layout.members[i].id for i in gone})
    assert after.survives == _data_survive(layout, gone)
    left = [i for i in range(len(layout.members)) if i not in gone]
    if after.survives and after.more_guaranteed < len(left):
        assert all(_data_survive(layout, gone | set(c)) for c in combinations(left, after.more_guaranteed))
        assert not all(_data_survive(layout, gone | set(c)) for c in combinations(left, after.more_guaranteed + 1))


@pytest.mark.parametrize(
    ("failed", "missing", "state"),
    [
        ((), (), PoolState.HEALTHY),
        (("d1",), (), PoolState.DEGRADED),
        (("d1",), ("d2",), PoolState.UNPROTECTED),
        (("d1",), ("d2", "d3"), PoolState.UNREACHABLE),
        (("d1", "d2", "d3"), (), PoolState.LOST),
        (("d1", "d2", "d3"), ("d4",), PoolState.LOST),
    ],
)
def test_states(failed: tuple[str, ...], missing: tuple[str, ...], state: PoolState) -> None:
    layout = build_layout(parse_shorthand("6x4TB"), "parity-2")
    assert state_of(layout, failed, missing) is state


def test_a_pool_without_redundancy_is_healthy_until_it_is_lost() -> None:
    layout = build_layout(parse_shorthand("3x4TB"), "stripe")
    assert state_of(layout, (), ()) is PoolState.HEALTHY
    assert state_of(layout, ("d2",), ()) is PoolState.LOST

"""What survives, held against the layout itself: a stripe is lost when more of it is gone than its parity."""

from __future__ import annotations

from itertools import combinations, pairwise
from math import comb

import pytest
from hypothesis import given
from hypothesis import strategies as st

from pairshelf.core.domain.drives import parse_shorthand
from pairshelf.core.domain.units import GIB
from pairshelf.core.figures import selections
from pairshelf.core.figures.assess import assess
from pairshelf.core.figures.assumptions import Assumptions
from pairshelf.core.figures.selections import rows_of, survey
from pairshelf.core.figures.survival import (
    PoolState,
    after_failures,
    curve,
    guaranteed_of,
    state_of,
    survival,
    survival_of,
)
from pairshelf.core.layouts import Layout, build_layout
from pairshelf.core.search.candidates import Question, all_layouts
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


@given(layouts(size=st.integers(2 * GIB, 12 * GIB), most=12))
def test_the_curve_agrees_with_every_selection(layout: Layout) -> None:
    count = len(layout.members)
    points = curve(layout)
    assert len(points) == count + 1
    for k in range(count + 1):
        outcomes = [_data_survive(layout, set(c)) for c in combinations(range(count), k)]
        assert points[k] == pytest.approx(sum(outcomes) / len(outcomes), rel=1e-12)


@given(st.integers(1, 40), st.integers(0, 3), st.integers(1, 25))
def test_the_curve_falls_from_one_to_nothing(width: int, tolerance: int, sets: int) -> None:
    scheme = {0: "stripe", 1: "parity-1", 2: "parity-2", 3: "parity-3"}[tolerance]
    width = max(width, tolerance + 2)
    layout = build_layout(parse_shorthand(f"{width * sets}x4TB"), scheme, sets=sets)
    points, promised = curve(layout), survival(layout)
    assert all(a >= b for a, b in pairwise(points))
    assert all(p == 1 for p in points[: promised.guaranteed + 1])
    assert all(p == 0 for p in points[promised.best_case + 1 :])
    assert 0 < points[promised.best_case] <= 1
    if promised.guaranteed < promised.best_case:
        assert points[promised.guaranteed + 1] < 1


@st.composite
def _hazards(draw: st.DrawFn) -> tuple[list[list[int]], int, int]:
    units = draw(st.integers(1, 9))
    groups = draw(st.lists(st.lists(st.integers(0, units - 1), min_size=1, max_size=6), min_size=1, max_size=7))
    return groups, units, draw(st.integers(0, 3))


@given(_hazards())
def test_what_survives_of_whole_shelves_agrees_with_every_selection(hazard: tuple[list[list[int]], int, int]) -> None:
    groups, units, tolerance = hazard
    found = survey(rows_of(groups, units), tolerance)
    outcomes = [
        [all(sum(u in chosen for u in g) <= tolerance for g in groups) for chosen in combinations(range(units), k)]
        for k in range(units + 1)
    ]
    assert found.guaranteed == max(k for k in range(units + 1) if all(all(o) for o in outcomes[: k + 1]))
    assert found.best_case == max(k for k in range(units + 1) if any(outcomes[k]))
    assert found.best_case_exact and found.curve_interval is None
    assert list(found.curve) == pytest.approx([sum(o) / len(o) for o in outcomes])


def test_sampling_keeps_its_interval_and_says_so(monkeypatch: pytest.MonkeyPatch) -> None:
    groups = [[i, (i + 1) % 14, (i + 5) % 14] for i in range(0, 14, 2)]
    exact = survey(rows_of(groups, 14), 1)
    monkeypatch.setattr(selections, "MOST_EXACT", 100)
    sampled = survey(rows_of(groups, 14), 1)
    assert sampled.curve_interval is not None
    assert sampled.guaranteed == exact.guaranteed and sampled.best_case <= exact.best_case
    assert all(a >= b for a, b in pairwise(sampled.curve))
    inside = [
        low - 0.01 <= p <= high + 0.01 for p, (low, high) in zip(exact.curve, sampled.curve_interval, strict=True)
    ]
    assert all(inside)
    assert sampled == survey(rows_of(groups, 14), 1), "the same question has the same answer"


def test_shelves_are_told_apart() -> None:
    layout = build_layout(parse_shorthand("2x4TB@a,2x4TB@b"), "copies-2", sets=2)
    assert guaranteed_of(layout, "shelf") == 0
    assert survival_of(layout, "shelf").curve == (1.0, 0.0, 0.0)
    crosswise = build_layout(parse_shorthand("4TB@a,4TB@b,4TB@a,4TB@b"), "copies-2", sets=2)
    assert guaranteed_of(crosswise, "shelf") == 1


@pytest.mark.parametrize("count", range(1, 13))
def test_every_layout_of_up_to_twelve_drives_by_brute_force(count: int) -> None:
    """All that the search lists, each held against every selection of its members: no rule of ours is used."""
    for candidate in all_layouts(parse_shorthand(f"{count}x4TB"), Question(file_system="none")).layouts:
        layout = candidate.layout
        members = len(layout.members)
        groups = {(sum(1 << m for m in g.members), g.parity) for band in layout.bands for g in band.groups}
        alive = [0] * (members + 1)
        for gone in range(1 << members):
            if all((gone & mask).bit_count() <= parity for mask, parity in groups):
                alive[gone.bit_count()] += 1
        shares = [a / comb(members, k) for k, a in enumerate(alive)]
        assert list(curve(layout)) == pytest.approx(shares, rel=1e-12), candidate.key
        assert candidate.survives.best_case == max(k for k, a in enumerate(alive) if a)
        assert candidate.survives.guaranteed == next((k for k, s in enumerate(shares) if s < 1), members + 1) - 1


@given(st.integers(5, 24), st.integers(1, 4))
def test_who_survives_more_loses_no_more_often(width: int, sets: int) -> None:
    drives = parse_shorthand(f"{width * sets}x4TB")
    found = [assess(build_layout(drives, s, sets=sets), Assumptions()) for s in ("parity-1", "parity-2", "parity-3")]
    for weaker, stronger in pairwise(found):
        assert stronger.odds.yearly_loss <= weaker.odds.yearly_loss
        assert stronger.odds.yearly_damage <= weaker.odds.yearly_damage
        assert (stronger.odds.mttdl_hours or 0) >= (weaker.odds.mttdl_hours or 0)

"""Moving the stripes of spread pools: off what leaves, and evenly over what stays."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from pairshelf.core.domain.drives import Drive
from pairshelf.core.domain.units import GIB, MIB
from pairshelf.core.errors import NotPossible
from pairshelf.core.layouts.protections import Protection
from pairshelf.core.layouts.spread import SpreadLayout, StripedVolume, spread_layout
from pairshelf.core.layouts.stripe_moves import Move, StripeMoves, moved, room_without, uneven_extents, without_slots

PROTECTIONS = (
    Protection("copies-2", 2),
    Protection("copies-3", 3),
    Protection("parity-1", 3),
    Protection("parity-2", 5),
)


def _members(extents: Sequence[int], hosts: Sequence[int]) -> list[Drive]:
    return [
        Drive(str(i), e * GIB + 256 * MIB, host=f"h{h}") for i, (e, h) in enumerate(zip(extents, hosts, strict=True))
    ]


def _fill(layout: SpreadLayout, wanted: Sequence[tuple[Protection, int]]) -> SpreadLayout:
    """With volumes of so many stripes, as far as they fit."""
    for number, (protection, stripes) in enumerate(wanted, start=1):
        for count in range(stripes, 0, -1):
            try:
                spots = layout.more(protection, count)
            except NotPossible:
                continue
            layout = layout.with_volume(StripedVolume(number, protection, spots))
            break
    return layout


@st.composite
def pools(draw: st.DrawFn) -> SpreadLayout:
    count = draw(st.integers(3, 9))
    extents = draw(st.lists(st.integers(1, 12), min_size=count, max_size=count))
    domain = draw(st.sampled_from(["drive", "host"]))
    hosts = draw(st.lists(st.integers(0, 5), min_size=count, max_size=count))
    wanted = draw(st.lists(st.tuples(st.sampled_from(PROTECTIONS), st.integers(1, 12)), max_size=3))
    return _fill(spread_layout(_members(extents, hosts), domain), wanted)


def _sound(layout: SpreadLayout) -> None:
    """No extent twice, every stripe in domains of its own, every row on its drive."""
    every = [tuple(s) for v in layout.volumes for s in v.spots.reshape(-1, 2).tolist()]
    assert len(every) == len(set(every))
    assert all(0 <= row < layout.members[slot].extents for slot, row in every)
    for volume in layout.volumes:
        for slots in volume.slots.tolist():
            assert len({layout.pool.domain_of[s] for s in slots}) == volume.protection.width


def _make(layout: SpreadLayout, moves: Sequence[Move]) -> SpreadLayout:
    """Each move from where the extent stands to where nothing stands before or after any of them."""
    stood = {tuple(s) for v in layout.volumes for s in v.spots.reshape(-1, 2).tolist()}
    for move in moves:
        assert tuple(layout.volume(move.volume).spots[move.stripe, move.column]) == move.source
        assert move.to not in stood
    after = moved(layout, moves)
    _sound(after)
    return after


@settings(deadline=None, suppress_health_check=[HealthCheck.too_slow])
@given(pools(), st.data())
def test_whatever_can_be_placed_elsewhere_is_and_nothing_else_is_begun(
    layout: SpreadLayout, data: st.DataObject
) -> None:
    _sound(layout)
    slots = st.sampled_from(range(len(layout.members)))
    leaving = data.draw(st.sets(slots, min_size=1, max_size=3))
    missing = room_without(layout, leaving)
    most = data.draw(st.integers(1, 40))
    before = sum(layout.used_extents)
    while moves := StripeMoves(layout, leaving).off(leaving, most):
        assert len(moves) <= most
        assert all(m.to[0] not in leaving for m in moves)
        layout = _make(layout, moves)
    left = sum(layout.used_extents[s] for s in leaving)
    assert (left == 0) == (missing == 0)
    assert sum(layout.used_extents) == before
    if not left:
        smaller = without_slots(layout, leaving)
        _sound(smaller)
        assert len(smaller.members) == len(layout.members) - len(leaving)
        kept = [u for s, u in enumerate(layout.used_extents) if s not in leaving]
        assert list(smaller.used_extents) == kept


def test_where_only_others_can_make_room_they_do() -> None:
    """Stripe 0 on drives 0, 1 must leave 0. Only drive 1 has room; the other stripe goes there from 2 first."""
    layout = spread_layout(_members([1, 2, 1, 1], range(4)), "drive")
    spots = np.array([[[0, 0], [1, 0]], [[2, 0], [3, 0]]], np.int32)
    layout = layout.with_volume(StripedVolume(1, PROTECTIONS[0], spots))
    assert room_without(layout, {0}) == 0
    (first,) = StripeMoves(layout, {0}).off({0}, 10)
    assert (first.stripe, first.to[0]) == (1, 1)
    (then,) = StripeMoves(moved(layout, [first]), {0}).off({0}, 10)
    assert (then.stripe, then.column, then.to) == (0, 0, first.source)
    assert room_without(layout, {0, 3}) == 1 and room_without(layout, {0}, closed={3}) == 1


@settings(deadline=None, suppress_health_check=[HealthCheck.too_slow])
@given(pools(), st.lists(st.integers(4, 12), min_size=1, max_size=3), st.booleans())
def test_what_came_is_filled_evenly_and_it_ends(layout: SpreadLayout, more: list[int], own_host: bool) -> None:
    have = list(layout.members)
    came = [
        Drive(str(len(have) + i), e * GIB + 256 * MIB, host="new" if own_host else "h0") for i, e in enumerate(more)
    ]
    grown = spread_layout([*have, *came], layout.domain, layout.volumes)
    before, steps = grown, 0

    def unevenness(one: SpreadLayout) -> tuple[float, float]:
        used, sizes = np.array(one.used_extents), np.array([d.extents for d in one.members])
        held, room = np.bincount(one.pool.domain_of, used), np.bincount(one.pool.domain_of, sizes)
        return round(float((held**2 / room).sum()), 9), round(float((used**2 / sizes).sum()), 9)

    while moves := StripeMoves(grown, ()).evenly(5):
        after = _make(grown, moves)
        assert unevenness(after) < unevenness(grown)
        grown, steps = after, steps + 1
        assert steps < 400
    assert sum(grown.used_extents) == sum(before.used_extents)
    if layout.domain == "drive" and grown.volumes:
        # Nothing more could go from a fuller drive to an emptier one that its stripe does not use.
        used, sizes = np.array(grown.used_extents), np.array([d.extents for d in grown.members])
        less, more = (2 * used - 1) / sizes, (2 * used + 1) / sizes
        for volume in grown.volumes:
            for slots in volume.slots.tolist():
                others = [m for s, m in enumerate(more) if s not in slots and used[s] < sizes[s]]
                assert max(less[slots]) <= min(others, default=9.0) + 1e-6
        assert uneven_extents(grown) <= uneven_extents(before)


def test_where_one_came_from_nothing_goes_before_that_is_noted() -> None:
    """The small drive of the full host gives its one extent to the new host, and would take one of the large drive beside
    it: in moves of its own, once the first is noted."""
    layout = spread_layout(_members([1, 6, 8, 3], [0, 0, 1, 2]), "host")
    spots = np.array([[[0, 0], [2, 0]], *([[1, row], [2, row + 1]] for row in range(6))], np.int32)
    layout = layout.with_volume(StripedVolume(1, PROTECTIONS[0], spots))
    batches = 0
    while moves := StripeMoves(layout, ()).evenly(50):
        layout, batches = _make(layout, moves), batches + 1
    assert batches > 1 and layout.used_extents[0] == 1 and layout.used_extents[3] >= 2


def test_an_emptier_pool_has_nothing_to_move() -> None:
    empty = spread_layout(_members([3, 3, 3], range(3)), "drive")
    assert StripeMoves(empty, {0}).off({0}, 9) == [] and StripeMoves(empty, ()).evenly(9) == []
    assert without_slots(empty, {0}).stock == 6
    with pytest.raises(AssertionError):
        without_slots(_fill(empty, [(PROTECTIONS[0], 3)]), {0})

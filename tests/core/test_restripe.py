"""The front of a restripe against brute force: no step may write where something stands that has not been moved."""

from __future__ import annotations

import random
from itertools import pairwise

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from pairshelf.core.domain.drives import Drive
from pairshelf.core.domain.units import EXTENT, GIB
from pairshelf.core.errors import NotPossible
from pairshelf.core.figures.survival import PoolState, state_of, survival
from pairshelf.core.layouts import Band, Layout, build_layout
from pairshelf.core.layouts.restripe import COPIED_ROWS, Moving, Walk, Window, capacity_of, in_common, walk_between
from pairshelf.core.layouts.restriping import restriping


def drives(*extents: int) -> list[Drive]:
    return [Drive(str(i), e * GIB + GIB // 2) for i, e in enumerate(extents)]


def laid(scheme: str, extents: tuple[int, ...], sets: int = 1, names: str = "") -> Layout:
    have = drives(*extents)
    if names:
        have = [Drive(n, d.size) for n, d in zip(names, have, strict=True)]
    return build_layout(have, scheme, sets=sets)


#: Pairs of layouts, drive names saying which is which; those of one letter are in both.
PAIRS = {
    "a drive added": (laid("parity-1", (9,) * 3, names="abc"), laid("parity-1", (9,) * 4, names="abcd")),
    "three added": (laid("parity-1", (7,) * 3, names="abc"), laid("parity-1", (7,) * 6, names="abcdef")),
    "one for each of two sets": (
        laid("parity-1", (8,) * 6, 2, "abcdef"), laid("parity-1", (8,) * 8, 2, "abcxdefy"),
    ),
    "sets that differ": (
        laid("parity-1", (8, 8, 8, 5, 5, 5), 2, "abcdef"), laid("parity-1", (8, 8, 8, 9, 5, 5, 5, 6), 2, "abcxdefy"),
    ),
    "parity-1 to parity-2": (laid("parity-1", (9,) * 4, names="abcd"), laid("parity-2", (9,) * 5, names="abcde")),
    "parity-2 to parity-1": (laid("parity-2", (9,) * 5, names="abcde"), laid("parity-1", (9,) * 4, names="abcd")),
    "parity-3 to parity-1": (laid("parity-3", (9,) * 6, names="abcdef"), laid("parity-1", (9,) * 4, names="abcd")),
    "copies to parity-1": (laid("copies-2", (9,) * 2, names="ab"), laid("parity-1", (9,) * 3, names="abc")),
    "copies to parity-2": (laid("copies-2", (9,) * 2, names="ab"), laid("parity-2", (9,) * 4, names="abcd")),
    "stepped, a larger one added": (laid("stepped-1", (4, 6, 9, 9), names="abcd"), laid("stepped-1", (4, 6, 9, 9, 9), names="abcde")),
    "stepped, a small one added": (laid("stepped-1", (4, 6, 9, 9), names="abcd"), laid("stepped-1", (4, 6, 9, 9, 5), names="abcde")),
    "stepped-1 to stepped-2": (laid("stepped-1", (4, 6, 9, 9), names="abcd"), laid("stepped-2", (4, 6, 9, 9, 9), names="abcde")),
    "stepped-1 to stepped-2, shrinking": (laid("stepped-1", (4, 6, 9, 9), names="abcd"), laid("stepped-2", (4, 6, 9, 9), names="abcd")),
    "stepped-2 to stepped-1": (laid("stepped-2", (4, 6, 9, 9), names="abcd"), laid("stepped-1", (4, 6, 9, 9), names="abcd")),
    "stepped, one grown": (laid("stepped-1", (4, 4, 8, 8), names="abcd"), laid("stepped-1", (8, 4, 8, 8), names="abcd")),
}  # fmt: skip


class Room:
    """Spots of drives, each knowing which addresses' stripe last stood on it, and the addresses that have moved."""

    def __init__(self, old: tuple[Band, ...], new: tuple[Band, ...]) -> None:
        self.spots = {True: _spots(old), False: _spots(new)}

    def needed(self, of_old: bool, wanted: range | set[int], stored: int) -> set[tuple[int, int]]:
        """Every spot of the stripes in which one of these addresses stands."""
        mine = {a for a in wanted if a < stored}
        return {spot for spot, addresses in self.spots[of_old] if mine.intersection(addresses)}

    def written(self, of_old: bool, window: Window) -> set[tuple[int, int]]:
        return {
            spot for spot, addresses in self.spots[of_old] if window.low <= addresses[0] and addresses[-1] < window.high
        }


def _spots(bands: tuple[Band, ...]) -> list[tuple[tuple[int, int], range]]:
    found = []
    first = 0
    for band in bands:
        for row in range(band.rows):
            at = first + row * band.data
            for group in band.groups:
                found += [((m, band.start + row), range(at, at + group.data)) for m in group.members]
                at += group.data
        first += band.capacity
    return found


def go(room: Room, walk: Walk, of_old: bool, front: int, dice: random.Random, windows: int | None = None) -> int:
    """Follow the front for some windows; it must never do harm. Where it is then."""
    while windows is None or windows > 0:
        window = walk.next(front, dice.choice([1, 3, 100]))
        if window is None:
            break
        after = window.high if walk.upwards else window.low
        assert window.low < window.high and (after > front if walk.upwards else after < front)
        if window.by_copy:
            assert window.high - window.low <= COPIED_ROWS * max(b.data for b in walk.new)
        # Until the step is done, everything on the front's far side stands as the old layout says. What is copied
        # may be overwritten; what comes after it may not.
        edge = after if window.by_copy else front
        ahead = range(edge, walk.stored) if walk.upwards else range(min(edge, walk.stored))
        assert not room.written(not of_old, window) & room.needed(of_old, ahead, walk.stored)
        front = after
        windows = None if windows is None else windows - 1
    return front


@pytest.mark.parametrize("name", PAIRS)
def test_nothing_is_overwritten_that_has_not_been_moved(name: str) -> None:
    old, new = PAIRS[name]
    moving = Moving(old, new)
    walk = moving.walk()
    for seed in range(6):
        room, dice = Room(moving.old.bands, moving.new_bands), random.Random(seed)
        assert go(room, walk, True, walk.begins, dice) == walk.arrives


@pytest.mark.parametrize("name", PAIRS)
def test_it_can_be_turned_round_anywhere_and_again(name: str) -> None:
    moving = Moving(*PAIRS[name])
    walk = moving.walk()
    back = Walk(moving.new_bands, moving.old.bands, upwards=not walk.upwards, stored=walk.stored)
    for seed in range(12):
        room, dice = Room(moving.old.bands, moving.new_bands), random.Random(seed)
        front = go(room, walk, True, walk.begins, dice, dice.randrange(9))
        for _ in range(3):
            front = go(room, back, False, front, dice, dice.randrange(5))
            front = go(room, walk, True, front, dice, dice.randrange(5))
        end = go(room, back, False, front, dice) if seed % 2 else go(room, walk, True, front, dice)
        assert end == (back.arrives if seed % 2 else walk.arrives)


def test_the_first_rows_and_those_that_overlap_go_by_way_of_a_copy() -> None:
    moving = Moving(*PAIRS["a drive added"])
    walk = moving.walk()
    # 2 data a row become 3: of row 1 the drives still hold addresses 2 and 3, and it is to have 3 to 5.
    assert walk.straight.tolist() == [False, False, True, True, True, True, True, True, True]
    first = walk.next(0, 100)
    assert first == Window(0, 6, True)
    then = walk.next(6, 100)
    assert then == Window(6, 9, False)
    assert walk.next(9, 100) == Window(9, 12, False)
    assert walk.next(12, 100) == Window(12, 18, False)
    assert walk.next(27, 100) is None
    same = Moving(*PAIRS["parity-1 to parity-2"]).walk()
    assert not same.straight.any() and same.safe.all()


@given(st.data())
@settings(max_examples=150)
def test_any_two_layouts_that_one_front_can_join(data: st.DataObject) -> None:
    """Of any schemes, over up to eight drives of any sizes: where a way is offered it does no harm, there and back."""
    count = data.draw(st.integers(2, 8))
    sizes = data.draw(st.lists(st.integers(3, 9), min_size=count, max_size=count))
    everyone = drives(*sizes)

    def some() -> Layout:
        scheme = data.draw(st.sampled_from(
            ["copies-2", "copies-3", "parity-1", "parity-2", "parity-3", "stepped-1", "stepped-2", "stripe", "span"]
        ))  # fmt: skip
        order = data.draw(st.permutations(everyone))[: data.draw(st.integers(1, count))]
        return build_layout(order, scheme)

    try:
        moving = Moving(some(), some())
        walk = moving.walk()
    except NotPossible:
        return
    dice = random.Random(data.draw(st.integers(0, 999)))
    room = Room(moving.old.bands, moving.new_bands)
    assert go(room, walk, True, walk.begins, dice) == walk.arrives
    back = Walk(moving.new_bands, moving.old.bands, upwards=not walk.upwards, stored=walk.stored)
    if back.possible:
        half = go(room, walk, True, walk.begins, dice, dice.randrange(6))
        end = go(room, back, False, half, dice)
        # It may have been turned round where the old layout has nothing any more, or where both are the same: then the
        # front need not go on.
        beyond = half > back.arrives if back.upwards else half < back.arrives
        rest = range(min(end, back.arrives), max(end, back.arrives))
        alike = all(room.needed(True, {a}, walk.stored) == room.needed(False, {a}, walk.stored) for a in rest)
        assert end == half if beyond else (end == back.arrives or alike)


def test_where_neither_direction_goes_all_the_way_it_is_refused() -> None:
    # Below more a row, above less: upwards it would overrun in the upper rows, downwards in the lower ones.
    old, new = laid("parity-1", (6, 6, 6), names="abc"), laid("parity-1", (6, 6, 6), names="cab")
    assert Moving(old, new).walk().possible
    crossed = laid("span", (6, 6), names="ba"), laid("span", (6, 6), names="ab")
    with pytest.raises(NotPossible, match="two steps"):
        Moving(*crossed).walk()


def test_what_both_have_in_common_is_not_touched() -> None:
    old, new = PAIRS["stepped, one grown"]
    moving = Moving(old, new)
    assert in_common(moving.old.bands, moving.new_bands) == 4 * 3
    walk = moving.walk()
    assert walk.begins == 12 and walk.next(12, 100) == Window(12, 14, True)
    # Lengthened at its end, nothing of it has to be moved.
    longer = laid("parity-1", (9,) * 3, names="abc"), laid("parity-1", (12,) * 3, names="abc")
    assert Moving(*longer).at_once
    assert not Moving(*PAIRS["a drive added"]).at_once
    assert not Moving(*reversed(longer)).at_once


@pytest.mark.parametrize("name", PAIRS)
def test_the_hours_are_what_the_windows_make_the_drives_do(name: str) -> None:
    old, new = PAIRS[name]
    big = 40
    taller = [
        build_layout([Drive(d.id, (d.size - GIB // 2) * big + GIB // 2) for d in one.members], one.scheme.id, sets=len(one.sets))
        for one in (old, new)
    ]  # fmt: skip
    moving = Moving(*taller)
    walk = moving.walk()
    read = np.zeros(len(moving.drives))
    copied = 0
    front = walk.begins
    windows = []
    while window := walk.next(front, 64):
        windows.append(window)
        front = window.high if walk.upwards else window.low
        if window.by_copy:
            copied += max(0, min(window.high, walk.stored) - window.low)
    # Every row once, none twice.
    assert sum(w.high - w.low for w in windows) == abs(walk.arrives - walk.begins)
    assert all(a.high == b.low if walk.upwards else a.low == b.high for a, b in pairwise(windows))
    for spot, addresses in _spots(moving.old.bands):
        moved = [a for a in addresses if walk.common <= a < walk.stored]
        group = next(
            g
            for b in moving.old.bands
            for g in b.groups
            if spot[0] in g.members and b.start <= spot[1] < b.start + b.rows
        )
        read[spot[0]] += len(moved) / len(group.members)
    written = np.zeros(len(moving.drives))
    for spot, addresses in _spots(moving.new_bands):
        written[spot[0]] += addresses[0] >= walk.common
    expected = read + written + copied * moving.copies / len(moving.drives)
    assert walk.extents_moved(len(moving.drives), moving.copies) == pytest.approx(expected, rel=0.01)
    rate = old.members[0].mean_rate
    assert moving.seconds() == pytest.approx(max(expected) * EXTENT / rate, rel=0.01)
    assert capacity_of(moving.new_bands) == taller[1].data_extents


def test_a_way_of_a_thousand_rows_is_found_at_once() -> None:
    old = laid("parity-2", (18_000,) * 8, names="abcdefgh")
    new = build_layout([*old.members, Drive("i", old.members[0].size)], "parity-2")
    walk = walk_between(old.bands, Moving(old, new).new_bands)
    assert walk.upwards and len(walk.starts) == 18_000
    # Windows grow with the front: few are needed.
    front, count = 0, 0
    while window := walk.next(front, 24_576):
        front, count = window.high, count + 1
    assert count < 200


def test_between_two_layouts_no_more_is_said_to_be_survived_than_both_do() -> None:
    old, new = PAIRS["copies to parity-2"]
    moving = Moving(old, new)
    for front in (0, 3, 8):
        layout = restriping(moving, front, upwards=True, turned=False)
        assert survival(layout).guaranteed == 1
        assert state_of(layout, [], []) is PoolState.HEALTHY
        assert state_of(layout, ["c"], []) is PoolState.DEGRADED
        assert state_of(layout, ["a"], []) is PoolState.UNPROTECTED
        # Both drives of the old layout hold what has not been moved; the new ones hold only what has.
        assert state_of(layout, ["a", "b"], []) is PoolState.LOST
        assert (state_of(layout, ["c", "d", "b"], []) is PoolState.LOST) == (front > 0)
        assert state_of(layout, [], ["a", "b"]) is PoolState.UNREACHABLE
    assert layout.ribbon == (4, 4, 4, 4) and layout.passed == pytest.approx(8 / 18)
    assert restriping(moving, 8, upwards=True, turned=True).passed == pytest.approx(1 - 8 / 9)
    # What really stands there: rows of the new layout below, of the old one above, nothing twice on a drive.
    for slot, used in enumerate(layout.used_extents):
        assert used <= layout.members[slot].extents
    assert layout.stripes == old.stripes + new.stripes and layout.data_extents == 9


def test_turned_round_beyond_what_the_old_layout_has_nothing_is_counted_as_moved_that_will_be_written_over() -> None:
    moving = Moving(*PAIRS["copies to parity-2"])
    far = restriping(moving, 14, upwards=True, turned=False).turned_round()
    assert (far.front, far.turned) == (9, True)
    assert (far.turned_round().front, far.turned_round().turned) == (9, False)
    near = restriping(moving, 4, upwards=True, turned=False).turned_round()
    assert near.front == 4
    down = Moving(*reversed(PAIRS["copies to parity-2"]))
    assert not down.walk().upwards
    assert restriping(down, 7, upwards=False, turned=False).turned_round().front == 7

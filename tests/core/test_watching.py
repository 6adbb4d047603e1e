"""Condensing is exact, dates are given on a week and more, thresholds fire once a crossing, and what is used is counted."""

from __future__ import annotations

import datetime as dt
import math
import random

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from pairshelf.core.domain.drives import Drive
from pairshelf.core.domain.units import EXTENT, GIB
from pairshelf.core.errors import BadInput
from pairshelf.core.layouts import Layout, build_layout
from pairshelf.core.layouts.placement import Placement
from pairshelf.core.layouts.restripe import Moving
from pairshelf.core.layouts.restriping import restriping
from pairshelf.core.layouts.taken import used_on_members
from pairshelf.core.watching.condensing import Bucket, condense
from pairshelf.core.watching.holding import VolumeHolds, holding
from pairshelf.core.watching.series import GRAINS, SERIES, Subject, coarser, finer, grain_for, kept_bytes
from pairshelf.core.watching.thresholds import SLACK, Level, Thresholds, level
from pairshelf.core.watching.trend import outlook, student
from tests.core.strategies import layouts

NOW = dt.datetime(2026, 11, 27, 12, tzinfo=dt.UTC)
DAY = dt.timedelta(days=1)

values = st.lists(st.one_of(st.none(), st.integers(-(2**40), 2**40)), min_size=1, max_size=6)


# -- condensing ----------------------------------------------------------------------------------------


@given(st.lists(values, min_size=1, max_size=12), st.integers(0, 2**32))
def test_condensing_keeps_lowest_highest_sum_and_count_however_it_is_done(
    rounds: list[list[int | None]], seed: int
) -> None:
    # In any order, and by any steps between.
    left, dice = [Bucket.of_round(r) for r in rounds], random.Random(seed)
    dice.shuffle(left)
    while len(left) > 1:
        some = dice.randint(1, len(left))
        left = [condense(left[:some]), *left[some:]] if some > 1 else [*left[1:], left[0]]
    whole = condense(left)
    for subject in range(max(map(len, rounds))):
        known = [r[subject] for r in rounds if subject < len(r) and r[subject] is not None]
        assert whole.count[subject] == len(known)
        if known:
            assert (whole.low[subject], whole.high[subject], whole.total[subject]) == (
                min(known),
                max(known),
                sum(known),
            )


def test_grains_divide_one_another_and_days_are_utc() -> None:
    for grain in GRAINS[1:]:
        assert grain.seconds % finer(grain).seconds == 0
        assert coarser(finer(grain)) is grain
        # Condensed long before what it is condensed from goes.
        assert finer(grain).kept.total_seconds() > 4 * grain.seconds
    assert coarser(GRAINS[-1]) is None
    at = dt.datetime(2026, 3, 29, 3, 30, tzinfo=dt.timezone(dt.timedelta(hours=2)))
    assert GRAINS[-1].start(at) == dt.datetime(2026, 3, 29, tzinfo=dt.UTC)
    assert GRAINS[-1].end(at) == dt.datetime(2026, 3, 30, tzinfo=dt.UTC)
    assert [grain_for(span).id for span in (DAY / 24, DAY / 2, 30 * DAY, 365 * DAY, 3650 * DAY)] == [
        "round", "minute", "hour", "day", "day"]  # fmt: skip
    assert len({s.number for s in SERIES}) == len({s.id for s in SERIES}) == len(SERIES)


def test_the_size_of_a_history_grows_with_what_is_watched_and_ends() -> None:
    small = kept_bytes({Subject.DRIVE: 24, Subject.POOL: 3, Subject.VOLUME: 5})
    assert kept_bytes({Subject.DRIVE: 24, Subject.POOL: 3, Subject.VOLUME: 5}, 30) < small
    assert small < 250e6
    assert small < kept_bytes({Subject.DRIVE: 10_000, Subject.POOL: 500, Subject.VOLUME: 2000}) < 40e9


# -- when it is full -----------------------------------------------------------------------------------


def _line(days: int, a_day: float, start: float = 100.0, noise: float = 0.0) -> list[tuple[dt.datetime, float]]:
    dice = np.random.default_rng(days)
    return [(NOW - (days - 1 - i) * DAY, start + a_day * i + noise * dice.standard_normal()) for i in range(days)]


def test_a_line_is_met_where_it_meets() -> None:
    found = outlook(_line(30, 2.0), 100 + 2 * 29 + 40, NOW)
    assert found.growth == pytest.approx(2)
    assert found.at is not None
    assert abs((found.at - NOW) - 20 * DAY) < dt.timedelta(hours=1)
    # Without any scatter, there is nothing to be unsure of.
    assert found.earliest is not None and found.latest is not None
    assert found.latest - found.earliest < dt.timedelta(hours=3)


@given(st.integers(0, 6), st.floats(0.1, 50), st.integers(1, 40))
def test_never_on_fewer_than_seven_days(days: int, a_day: float, a_day_often: int) -> None:
    points = [(at + i * dt.timedelta(minutes=1), use) for at, use in _line(days, a_day) for i in range(a_day_often)]
    found = outlook(points, 1e6, NOW)
    assert (found.at, found.days) == (None, days)
    assert str(days) in (found.why_none or "")


@given(st.integers(7, 90), st.floats(0.01, 20), st.floats(0, 30), st.floats(1, 5000))
def test_the_date_lies_in_its_interval_and_scatter_widens_it(
    days: int, a_day: float, noise: float, room: float
) -> None:
    points = _line(days, a_day, noise=noise)
    full_at = max(use for _, use in points) + room
    found = outlook(points, full_at, NOW)
    if found.at is None:
        assert found.why_none in ("it does not grow", "not within ten years")
        return
    assert found.earliest is not None
    assert NOW <= found.earliest <= found.at
    assert found.latest is None or found.at <= found.latest
    calm = outlook(_line(days, found.growth or 0, points[0][1]), full_at, NOW)
    if calm.at and calm.latest and found.latest and calm.earliest:
        assert found.latest - found.earliest >= calm.latest - calm.earliest - dt.timedelta(hours=2)


@pytest.mark.parametrize(
    ("points", "full_at", "why"),
    [
        (_line(20, -1.0), 200, "it does not grow"),
        (_line(20, 0.0), 200, "it does not grow"),
        (_line(20, 10.0), 250, "it is full"),
        (_line(20, 0.01), 1e5, "not within ten years"),
        # What was recorded last year says nothing of now.
        ([(at - 365 * DAY, use) for at, use in _line(80, 1)], 1000, "0 so far"),
    ],
)
def test_no_date_is_better_than_a_wrong_one(points: list[tuple[dt.datetime, float]], full_at: float, why: str) -> None:
    found = outlook(points, full_at, NOW)
    assert found.at is None
    assert why in (found.why_none or "")


def test_an_interval_holds_what_it_says() -> None:
    """Of many weeks with scatter, the day that use really comes to the mark lies within in about 95 of 100."""
    dice = np.random.default_rng(4)
    within = 0
    for _ in range(300):
        points = [(NOW - (20 - i) * DAY, 100 + 2 * i + 3 * dice.standard_normal()) for i in range(21)]
        found = outlook(points, 100 + 2 * 35 + 3 * dice.standard_normal(), NOW)
        truth = NOW + 15 * DAY
        within += bool(found.earliest and found.earliest <= truth and (found.latest is None or truth <= found.latest))
    assert 270 <= within <= 299


@pytest.mark.parametrize(("dof", "t"), [(5, 2.5706), (10, 2.2281), (30, 2.0423), (88, 1.9873)])
def test_students_t_is_that_of_the_tables(dof: int, t: float) -> None:
    assert student(dof) == pytest.approx(t, rel=2e-3)


# -- thresholds ----------------------------------------------------------------------------------------


@given(st.lists(st.floats(0, 1), min_size=1, max_size=60), st.floats(0.05, 0.9), st.floats(0.01, 0.09))
def test_a_threshold_fires_once_a_crossing(shares: list[float], tell: float, more: float) -> None:
    limits = Thresholds(tell, tell + more)
    before, fired_at = Level.ROOM, 0.0
    for share in shares:
        found = level(share, before, limits)
        # Never less than is true, and never more than within the slack.
        assert found >= level(share, Level.ROOM, limits)
        assert found <= level(share + SLACK, Level.ROOM, limits)
        if found > before:
            fired_at = share
        if found == before == Level.TELL and share < fired_at:
            assert share + SLACK >= limits.tell
        # Said twice, it stays as it is.
        assert level(share, found, limits) == found
        before = found


def test_wavering_about_a_threshold_tells_once() -> None:
    limits, now, told = Thresholds(), Level.ROOM, 0
    for share in [0.79, 0.80, 0.799, 0.801, 0.785, 0.80, 0.79, 0.81, 0.779, 0.80]:
        after = level(share, now, limits)
        told += after > now
        now = after
    assert told == 2  # once, and again only after it had fallen well below


@pytest.mark.parametrize(("tell", "urgent", "field"), [
    (0.04, 0.9, "tell"), (1.0, 1.0, "tell"), (math.nan, 0.9, "tell"), (0.8, 0.8, "urgent"), (0.8, 1.01, "urgent"),
])  # fmt: skip
def test_thresholds_that_make_no_sense_are_refused(tell: float, urgent: float, field: str) -> None:
    with pytest.raises(BadInput) as refused:
        Thresholds(tell, urgent)
    assert refused.value.field == field


# -- what a pool holds ---------------------------------------------------------------------------------


def _volume(**facts: object) -> VolumeHolds:
    plain = {"id": 1, "name": "v", "size": 100 * GIB, "thin": False, "overhead": 2 * GIB, "reserved_share": 0.05,
             "given": 100 * GIB, "files": 30 * GIB, "in_bins": 4 * GIB,
             "taken": 100 * GIB, "reclaimable": 0}  # fmt: skip
    return VolumeHolds(**(plain | facts))  # type: ignore[arg-type]


def test_a_pools_account() -> None:
    thick, thin = (
        _volume(),
        _volume(
            id=2,
            size=900 * GIB,
            thin=True,
            given=80 * GIB,
            taken=80 * GIB,
            reclaimable=16 * GIB,
            files=70 * GIB,
            in_bins=6 * GIB,
        ),
    )
    held = holding(500 * GIB, [thick, thin])
    assert (held.capacity, held.given, held.free) == (500 * GIB, 180 * GIB, 320 * GIB)
    assert (held.files, held.in_bins) == (100 * GIB, 10 * GIB)
    assert held.over_commit == 2
    assert held.reclaimable == 16 * GIB
    assert thick.reserve == int(98 * GIB * 0.05)
    assert held.thin and not holding(500 * GIB, [thick]).thin
    # In a spread pool files count once, and what they take counts as its drives bear it.
    spread = holding(500 * GIB, [_volume(times=1.5, taken=150 * GIB)], of_drives=True)
    assert (spread.files, spread.footprint, spread.of_drives) == (30 * GIB, 45 * GIB, True)
    assert held.footprint == held.files and not held.of_drives
    assert holding(0, []).share == 1
    assert _volume(size=GIB, overhead=2 * GIB).share == 1


# -- what is used on drives ----------------------------------------------------------------------------


def _counted(layout: Layout, taken: list[tuple[int, int]]) -> list[int]:
    """The slow way: every address, by where it lies."""
    place = Placement(layout.bands)
    stripes = {
        (s.stripe.band, s.stripe.group, s.stripe.row)
        for first, count in taken for s in map(place.spot, range(first, first + count))
    }  # fmt: skip
    used = [0] * len(layout.members)
    for band, group, _ in stripes:
        for member in layout.bands[band].groups[group].members:
            used[member] += 1
    return used


@settings(max_examples=80)
@given(layouts(st.integers(2 * GIB, 14 * GIB), 8), st.data())
def test_used_on_members_is_what_every_address_says(layout: Layout, data: st.DataObject) -> None:
    whole = layout.data_extents
    cuts = sorted(data.draw(st.sets(st.integers(0, whole), max_size=6)))
    taken = [(a, b - a) for a, b in zip(cuts[::2], cuts[1::2], strict=False)]
    used = used_on_members(layout, taken)
    assert used == _counted(layout, taken)
    # All given: all that the layout uses; nothing: nothing.
    assert used_on_members(layout, [(0, whole)]) == list(layout.used_extents)
    assert used_on_members(layout, []) == [0] * len(layout.members)


@pytest.mark.parametrize("front", [0, 4, 12, 24])
def test_used_on_members_of_a_pool_that_is_restriped(front: int) -> None:
    drives = [Drive(f"d{i}", 14 * EXTENT) for i in range(5)]
    moving = Moving(build_layout(drives[:3], "parity-1"), build_layout(drives, "parity-1"))
    layout = restriping(moving, front, upwards=True, turned=False)
    whole = moving.old.data_extents
    used = used_on_members(layout, [(0, whole)])
    behind, before = -(-front // 4), (whole - front) // 2
    assert used == [behind + before] * 3 + [behind] * 2

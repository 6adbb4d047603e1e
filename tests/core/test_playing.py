"""Loads that are played: what each request makes drives do, and what comes of it, against what is known by hand."""

from __future__ import annotations

from collections import Counter
from itertools import islice

import pytest
from hypothesis import given
from hypothesis import strategies as st

from pairshelf.core.domain.drives import Drive
from pairshelf.core.domain.units import GIB
from pairshelf.core.errors import BadInput, NotPossible
from pairshelf.core.figures.speed import Speed
from pairshelf.core.figures.workloads import WORKLOADS
from pairshelf.core.layouts.model import Division
from pairshelf.core.layouts.protections import parse_protection
from pairshelf.core.layouts.registry import layout_of
from pairshelf.core.loads.measured import (
    Beside,
    Rates,
    abilities_of,
    estimate_together,
    moved_by_job,
    rates_of,
    row_width,
    speed_for,
)
from pairshelf.core.loads.mixes import MIXES, MOST_AT_ONCE, check_play, estimate, mix_of, requests
from pairshelf.core.loads.queues import Ability, Asked, Operation, Player, Walking, play

#: Ten milliseconds for a small operation, 100 MB/s.
STAND = Ability(100e6, 100.0)
SPEED = Speed(1200.0, 300.0, 100.0, 1000e6, 500e6)


def forever(*phases: list[Operation], size: int = 4096):
    while True:
        yield Asked(phases, size, any(a.writes for p in phases for a in p))


def test_every_use_is_played_by_a_mix_that_there_is() -> None:
    assert {w.plays for w in WORKLOADS.values()} <= set(MIXES)


def test_shares_of_every_mix_add_up() -> None:
    for mix in MIXES.values():
        assert sum(p.share for p in mix.parts) == pytest.approx(1)
        assert 1 <= mix.at_once <= MOST_AT_ONCE


@given(
    room=st.lists(st.tuples(st.integers(0, 500), st.integers(1, 60)), min_size=1, max_size=5),
    step=st.integers(1, 12),
    base=st.integers(0, 5),
    seed=st.integers(0, 9),
    name=st.sampled_from(sorted(MIXES)),
)
def test_nothing_is_asked_for_outside_what_is_there(
    room: list[tuple[int, int]], step: int, base: int, seed: int, name: str
) -> None:
    at, apart = 0, []
    for gap, count in room:
        apart.append((at + gap, count))
        at += gap + count
    inside = {a for first, count in apart for a in range(first, first + count)}
    asked = list(islice(requests(MIXES[name], apart, step, seed, base=base), 60))
    assert asked == list(islice(requests(MIXES[name], apart, step, seed, base=base), 60)), "one seed, one list"
    for one in asked:
        assert set(range(one.first, one.first + one.count)) <= inside
        # A long one never goes on into the next row; a small one is one extent.
        assert (one.first - base) // step == (one.first + one.count - 1 - base) // step
        assert one.walk is not None or one.count == 1


def test_a_mix_asks_for_what_it_says() -> None:
    for mix in MIXES.values():
        asked = list(islice(requests(mix, [(0, 10_000)], 4, 1), 4000))
        assert sum(not r.writes for r in asked) / len(asked) == pytest.approx(mix.reads, abs=0.03)


def test_where_nothing_is_written_nothing_is_asked_for() -> None:
    with pytest.raises(NotPossible):
        next(requests(MIXES["files"], [], 4, 1))
    with pytest.raises(BadInput) as refused:
        mix_of("everything")
    assert refused.value.field == "mix"
    for at_once, wanted, field in ((0, None, "at_once"), (MOST_AT_ONCE + 1, None, "at_once"), (None, 0.0, "wanted")):
        with pytest.raises(BadInput) as refused:
            check_play(at_once, wanted)
        assert refused.value.field == field


# -- queues --------------------------------------------------------------------------------------------


def test_one_after_another_a_drive_does_its_operations_a_second() -> None:
    found = play([STAND], [Player(forever([Operation(0, 4096, False)]), 1)])
    rates = rates_of(found.players, found.seconds)
    assert rates.operations == pytest.approx(100, rel=0.01)
    assert rates.median == pytest.approx(0.010)
    assert found.drives[0].busy == pytest.approx(found.seconds, rel=0.01)


def test_who_waits_in_line_is_answered_later() -> None:
    found = play([STAND], [Player(forever([Operation(0, 4096, False)]), 8)])
    rates = rates_of(found.players, found.seconds)
    # A drive does no more of them for it: by Little's law eight wait eight times as long.
    assert rates.operations == pytest.approx(100, rel=0.02)
    assert rates.median == pytest.approx(0.080, rel=0.02)
    assert rates.slow is not None and rates.slow >= rates.median


def test_what_follows_waits_for_all_before_it() -> None:
    slow = Ability(100e6, 50.0)
    phases = (
        [Operation(0, 4096, False), Operation(1, 4096, False)],
        [Operation(0, 4096, True), Operation(1, 4096, True)],
    )
    found = play([STAND, slow], [Player(forever(*phases), 1)])
    # Twice the slower of the two: 20 ms each.
    assert rates_of(found.players, found.seconds).median == pytest.approx(0.040)
    assert found.players[0].writes == found.players[0].requests
    assert found.drives[0].written == pytest.approx(found.drives[0].size / 2, rel=0.01)


def test_a_walk_goes_at_the_drives_rate_unless_it_is_disturbed() -> None:
    alone = play([STAND], [Player(forever([Operation(0, 10**6, False, "a")], size=10**6), 1)])
    assert rates_of(alone.players, alone.seconds).throughput == pytest.approx(100e6, rel=0.01)
    both = play(
        [STAND],
        [
            Player(forever([Operation(0, 10**6, False, "a")], size=10**6), 1),
            Player(forever([Operation(0, 10**6, False, "b")], size=10**6), 1),
        ],
    )
    # Ten milliseconds to move it, and nearly ten to get there, by turns.
    assert rates_of(both.players, both.seconds).throughput == pytest.approx(50e6, rel=0.03)


def test_a_link_carries_no_more_than_it_can() -> None:
    stands = [Ability(100e6, 100.0, 0)] * 4
    acts = [Operation(i, 10**6, False, "a") for i in range(4)]
    found = play(stands, [Player(forever(acts, size=4 * 10**6), 2)], links=[200e6])
    assert found.links[0] / found.seconds == pytest.approx(200e6, rel=0.03)


def test_no_more_is_asked_than_is_wanted() -> None:
    found = play([STAND], [Player(forever([Operation(0, 4096, False)]), 4, wanted=20.0)])
    rates = rates_of(found.players, found.seconds)
    assert rates.operations == pytest.approx(20, rel=0.03)
    assert rates.median == pytest.approx(0.010)


@pytest.mark.parametrize("share", [0.2, 0.8])
def test_a_job_gets_its_share_and_no_more(share: float) -> None:
    steps = [[[Operation(0, 10**6, False, "job")], [Operation(1, 10**6, True, "job")]]]
    users = [Player(forever([Operation(i, 4096, False)]), 6) for i in range(2)]
    found = play([STAND, STAND], users, job=Walking(steps, share, share), most=600)
    for drive in found.drives:
        assert drive.for_job / found.seconds == pytest.approx(share, abs=0.04)
        assert drive.busy / found.seconds == pytest.approx(1, abs=0.03)
    assert rates_of(found.players, found.seconds).operations == pytest.approx(200 * (1 - share), rel=0.06)
    # By itself it keeps to its share too: that is what its pace says.
    alone = play([STAND, STAND], (), job=Walking(steps, share, share), most=300)
    assert alone.drives[0].for_job / alone.seconds == pytest.approx(share, abs=0.03)


def test_a_job_that_may_takes_what_users_leave() -> None:
    steps = [[[Operation(0, 10**6, False, "job")]]]
    found = play(
        [STAND], [Player(forever([Operation(0, 4096, False)]), 4, wanted=40.0)], job=Walking(steps, 0.05, 1.0), most=400
    )
    assert rates_of(found.players, found.seconds).operations == pytest.approx(40, rel=0.05)
    assert found.drives[0].for_job / found.seconds == pytest.approx(0.6, abs=0.05)


@given(
    acts=st.lists(st.tuples(st.integers(0, 3), st.integers(1, 10**6), st.booleans()), min_size=1, max_size=6),
    at_once=st.integers(1, 9),
)
def test_nothing_is_lost_or_made_up(acts: list[tuple[int, int, bool]], at_once: int) -> None:
    phases = [Operation(d, size, w) for d, size, w in acts]
    found = play([STAND] * 4, [Player(forever(phases, size=7), at_once)], most=40)
    played, each = found.players[0], Counter(d for d, *_ in acts)
    assert played.requests == played.reads + played.writes == len(played.responses) == 40
    assert played.size == 7 * 40
    for drive, done in enumerate(found.drives):
        # Of those that have not ended, some may have been begun.
        assert each[drive] * 40 <= done.operations <= each[drive] * (40 + at_once)
        assert done.busy <= found.seconds * (1 + 1e-9) + 10 * 0.02
    assert min(played.responses) >= max(s / STAND.rate for _, s, _ in acts)


def test_without_anybody_nothing_happens() -> None:
    found = play([STAND], ())
    assert (found.seconds, found.steps) == (0.0, 0)
    assert rates_of([], 0.0) == Rates(0.0, 0.0, None, None)


# -- estimates -----------------------------------------------------------------------------------------


def test_an_estimate_is_the_figure_that_layouts_are_compared_by() -> None:
    assert estimate(MIXES["small-reads"], SPEED, 4).operations == pytest.approx(1200)
    assert estimate(MIXES["small-writes"], SPEED, 4).operations == pytest.approx(300)
    # Two reads to a write: 1 / (0.67 / 1200 + 0.33 / 300).
    assert estimate(MIXES["database"], SPEED, 4).operations == pytest.approx(1 / (0.67 / 1200 + 0.33 / 300))
    recorder = estimate(MIXES["recorder"], SPEED, 4)
    assert recorder.throughput == pytest.approx(1 / (0.9 / 500e6 + 0.1 / 1000e6))
    both = estimate_together([(MIXES["small-reads"], SPEED, 4, 1.0), (MIXES["small-writes"], SPEED, 4, 1.0)])
    assert both.operations == pytest.approx(1 / (0.5 / 1200 + 0.5 / 300))
    assert estimate_together([]).operations == 0


def test_what_a_job_costs_is_said_both_ways() -> None:
    told = Beside("check", "fast", Rates(200, 0, None, None), Rates(50, 0, None, None), 100.0, 80.0)
    assert (told.costs_users, told.costs_job) == (pytest.approx(0.75), pytest.approx(0.2))
    steps = [[[Operation(0, 10, False, "j")]], [[Operation(0, 30, False, "j")]]]
    found = play([STAND], (), job=Walking(steps, 1, 1), most=5)
    assert moved_by_job(found, [10.0, 30.0]) * found.seconds == pytest.approx(10 * 3 + 30 * 2)


def test_drives_of_one_shelf_share_its_link() -> None:
    drives = [
        Drive(str(i), 100 * GIB, shelf="oak" if i < 2 else "elm", link=10**9 if i < 2 else None) for i in range(3)
    ]
    stands, shelves, carries = abilities_of(drives)
    assert [s.link for s in stands] == [0, 0, None]
    assert (shelves, carries) == (["oak"], [1e9])


@pytest.mark.parametrize(
    ("protection", "cost", "width"),
    [("copies-2", 2, 1), ("copies-3", 3, 1), ("parity-1:4", 4, 3), ("parity-2:8", 6, 6)],
)
def test_in_a_spread_pool_a_mix_is_estimated_by_the_volumes_own_protection(
    protection: str, cost: int, width: int
) -> None:
    drives = [Drive(str(i), 100 * GIB, ops=150) for i in range(8)]
    layout = layout_of(drives, "spread", Division(domain="drive", built=True))
    own = parse_protection(protection)
    assert speed_for(layout, own).random_write_rmw == pytest.approx(8 * 150 / cost)
    assert speed_for(layout, own).random_read == pytest.approx(8 * 150)
    assert row_width(layout, own) == width

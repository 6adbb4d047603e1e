"""Layouts at their edges: placement as a whole, what is refused at the last number, what failures leave."""

from __future__ import annotations

from itertools import combinations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from pairshelf.core.domain.drives import Drive
from pairshelf.core.domain.units import EXTENT, GIB, TB
from pairshelf.core.errors import BadInput, NoRoom, NotPossible
from pairshelf.core.layouts import Layout, build_layout
from pairshelf.core.layouts.allocation import allocate, gaps
from pairshelf.core.layouts.erasure import locate, parity
from pairshelf.core.layouts.model import Code, Division, Group
from pairshelf.core.layouts.placement import Placement, columns_of
from pairshelf.core.layouts.placing import MOST_VOLUMES, Placer, WantedVolume, place, spread_pool
from pairshelf.core.layouts.protections import Protection, parse_protection
from pairshelf.core.layouts.registry import MOST_DATA_DRIVES, layout_of, scheme_of, set_counts, why_not
from pairshelf.core.layouts.repairs import repair_seconds
from pairshelf.core.layouts.spread import SpreadLayout, StripedVolume, spread_layout
from tests.core.strategies import layouts

SMALL = st.integers(4, 14).map(lambda extents: extents * GIB + GIB // 2)


def drives(*extents: int, hosts: int = 0) -> list[Drive]:
    return [Drive(str(i), e * GIB + GIB // 2, host=f"h{i % hosts}" if hosts else None) for i, e in enumerate(extents)]


# -- where every extent lies -------------------------------------------------------------------------------------


@given(layouts(SMALL, 9))
def test_every_address_has_a_place_of_its_own_and_every_stripe_its_number(layout: Layout) -> None:
    found = Placement(layout.bands)
    seen: set[tuple[int, int]] = set()
    for address in range(found.capacity):
        spot = found.spot(address)
        band = layout.bands[spot.stripe.band]
        assert band.start <= spot.stripe.row < band.start + band.rows
        assert len(set(spot.stripe.columns)) == len(spot.stripe.columns)
        # The same stripe as that of whoever comes by its row, not by an address.
        assert spot.stripe.columns == columns_of(band.groups[spot.stripe.group], spot.stripe.row)
        place_of = (spot.stripe.columns[spot.column], spot.stripe.row)
        assert place_of not in seen and spot.column < band.groups[spot.stripe.group].data
        seen.add(place_of)
    assert found.capacity == layout.data_extents
    for wrong in (-1, found.capacity):
        with pytest.raises(BadInput, match="outside the pool"):
            found.spot(wrong)
    # Runs from any stripe on are the stripes in their order, each once.
    total = layout.stripes
    listed = [
        (b, g, row + i) for b, g, row, rows in found.runs(0, total) for i in range(rows)
    ]  # fmt: skip
    assert [found.stripe_number(*one) for one in listed] == list(range(total))
    for start in {0, total // 2, max(0, total - 1)}:
        cut = [(b, g, row + i) for b, g, row, rows in found.runs(start, 3) for i in range(rows)]
        assert cut == listed[start : start + 3]


@given(layouts(SMALL, 9))
def test_redundancy_goes_round_so_that_no_drive_has_all_of_it(layout: Layout) -> None:
    for band in layout.bands:
        for group in band.groups:
            n, p = len(set(group.members)), group.parity
            if group.code is not Code.PARITY or len(group.members) != n:
                continue
            checks = [columns_of(group, row)[-p:] for row in range(n)]
            counted = [sum(m in one for one in checks) for m in group.members]
            assert counted == [p] * n


# -- the last number that goes, and the first that does not --------------------------------------------------------


def test_a_set_takes_exactly_as_many_data_drives_as_can_be_told_apart() -> None:
    for name, parities in (("parity-1", 1), ("parity-3", 3)):
        scheme = scheme_of(name)
        assert why_not(scheme, MOST_DATA_DRIVES + parities, 1) is None
        assert "at most 255" in (why_not(scheme, MOST_DATA_DRIVES + parities + 1, 1) or "")
    assert "needs at least 4" in (why_not(scheme_of("parity-2"), 3, 1) or "")
    assert why_not(scheme_of("parity-2"), 4, 1) is None
    assert "exactly 2 drives a set, not 3" in (why_not(scheme_of("copies-2"), 3, 1) or "")
    assert "as one set" in (why_not(scheme_of("stepped-1"), 4, 2) or "")
    assert set_counts(scheme_of("parity-1"), 12) == [1, 2, 3, 4]
    assert set_counts(scheme_of("stripe"), 12) == [1] == set_counts(scheme_of("stepped-2"), 12)


@pytest.mark.parametrize(
    ("count", "scheme", "more", "field", "said"),
    [
        (4, "parity-1", {"spares": -1}, "spares", "negative"),
        (4, "parity-1", {"spares": 4}, "spares", "no drive of 4"),
        (4, "parity-1", {"sets": 0}, "sets", "at least 1"),
        (5, "copies-2", {"sets": 2}, "sets", "leave 1 more"),
        (11, "parity-1", {"sets": 3, "spares": 1}, "sets", "leave 1 more"),
        (3, "spread", {}, "scheme", "spread pool"),
        (3, "parity-9", {}, "scheme", "parity-9"),
    ],
)
def test_divisions_that_make_no_sense_are_refused(
    count: int, scheme: str, more: dict[str, int], field: str, said: str
) -> None:
    with pytest.raises(BadInput, match=said) as refused:
        build_layout(drives(*[6] * count), scheme, **more)  # type: ignore[arg-type]
    assert refused.value.field == field


def test_only_a_spread_pool_has_domains_and_only_the_others_have_sets() -> None:
    four = drives(6, 6, 6, 6)
    for division, field in ((Division(sets=2), "spares"), (Division(spares=1), "spares")):
        with pytest.raises(BadInput) as refused:
            layout_of(four, "spread", division)
        assert refused.value.field == field
    with pytest.raises(BadInput) as refused:
        layout_of(four, "parity-1", Division(domain="shelf"))
    assert refused.value.field == "domain"
    assert layout_of(four, "spread", Division(sets=1)).stock == 24


def test_layouts_in_words() -> None:
    for spares, words in ((0, "1 set of 4"), (1, "1 set of 4, 1 spare"), (2, "1 set of 4, 2 spares")):
        assert build_layout(drives(*[6] * (4 + spares)), "parity-1", spares=spares).describe() == words
    assert build_layout(drives(*[6] * 4), "copies-2", sets=2).describe() == "2 sets of 2"


def test_what_failures_leave_of_sets() -> None:
    layout = build_layout(drives(*[6] * 8), "parity-2", sets=2)
    found = layout.after_failures({"0", "1", "4", "nobody"})
    assert (found.survives, found.more_guaranteed, found.more_best_case, found.lost_sets) == (True, 0, 1, ())
    lost = layout.after_failures({"0", "1", "2"})
    assert (lost.survives, lost.more_guaranteed, lost.more_best_case, lost.lost_sets) == (False, 0, 0, (0,))


@pytest.mark.parametrize(
    ("text", "said"),
    [("copies-2:3", "2 wide"), ("parity-1", "parity-1:7"), ("parity-2", "parity-2:8"), ("parity-1:2", "3 to"), ("parity-2:3", "4 to"),
     ("parity-3:9", "is not a protection"), ("", "is not a protection")],
)  # fmt: skip
def test_protections_that_are_none(text: str, said: str) -> None:
    with pytest.raises(BadInput, match=said):
        parse_protection(text)


def test_protections_as_narrow_as_they_can_be() -> None:
    assert parse_protection(" copies-2:2 ") == Protection("copies-2", 2)
    assert parse_protection("parity-1:3") == Protection("parity-1", 3)
    assert parse_protection("parity-2:4") == Protection("parity-2", 4)


# -- one wrong column --------------------------------------------------------------------------------------------


@given(st.integers(2, 9), st.integers(2, 3), st.data())
def test_a_wrong_column_is_found_and_two_are_not_taken_for_one(count: int, parities: int, data: st.DataObject) -> None:
    dice = np.random.default_rng(data.draw(st.integers(0, 2**32)))
    blocks = [dice.integers(0, 256, 64, np.uint8) for _ in range(count)]
    columns = [*blocks, *parity(blocks, parities)]
    assert locate(count, columns) is None
    one = data.draw(st.integers(0, count + parities - 1))
    spoilt = [c.copy() for c in columns]
    for at in data.draw(st.sets(st.integers(0, 63), min_size=1, max_size=4)):
        spoilt[one][at] ^= data.draw(st.integers(1, 255))
    assert locate(count, spoilt) == one
    if parities == 3:
        # A second column wrong at another byte: two parities would blame one column, the third disagrees.
        other = data.draw(st.integers(0, count + parities - 1).filter(lambda c: c != one))
        for at in np.flatnonzero(spoilt[one] != columns[one]):
            spoilt[other][at] ^= 0x5A
        assert locate(count, spoilt) is None


# -- spread pools --------------------------------------------------------------------------------------------------


def with_volumes(members: list[Drive], *wanted: tuple[str, int], domain: str = "drive") -> SpreadLayout:
    layout = spread_layout(members, domain)
    for number, (protection, stripes) in enumerate(wanted, start=1):
        own = parse_protection(protection)
        layout = layout.with_volume(StripedVolume(number, own, layout.more(own, stripes)))
    return layout


@given(
    st.lists(st.integers(3, 12), min_size=4, max_size=7),
    st.sampled_from(["copies-2", "copies-3", "parity-1:3", "parity-2:4"]),
    st.integers(0, 3),
)
def test_placing_in_two_goes_is_placing_in_one(extents: list[int], protection: str, first: int) -> None:
    """What is known of the stripes that stand there is all that the next ones need."""
    own, pool = parse_protection(protection), spread_pool(drives(*extents), "drive")
    whole = Placer(pool)
    stripes = []
    while (one := whole.next(own.width)) is not None:
        stripes.append(one)
    cut = len(stripes) * first // 3
    before = [np.array(stripes[:cut], np.int64)] if cut else []
    later = Placer(pool, before)
    assert [later.next(own.width) for _ in stripes[cut:]] == stripes[cut:]
    assert later.next(own.width) is None
    assert len(stripes) == pool.stripes_max(own)


def test_hosts_apart_are_partnered_in_two_goes_as_in_one() -> None:
    pool = spread_pool(drives(*[6] * 8, hosts=4), "host")
    whole = Placer(pool)
    stripes = [whole.next(2) for _ in range(20)]
    later = Placer(pool, [np.array(stripes[:9], np.int64)])
    assert [later.next(2) for _ in range(11)] == stripes[9:]


def test_room_for_self_repair_needs_a_domain_more_than_a_stripe_is_wide() -> None:
    own = parse_protection("parity-1:3")
    three = spread_pool(drives(6, 6, 6), "drive")
    # Three are taken by each stripe: nothing is kept for a loss that cannot be repaired.
    assert not three.repairs_a_domain(own) and three.stripes_with_repair(own) == three.stripes_max(own) == 6
    assert spread_pool(drives(6, 6, 6, 6), "drive").repairs_a_domain(own)
    assert spread_pool(drives(6, 6, 6, 6), "drive").stripes_with_repair(own) == 6
    assert spread_pool(drives(6, 6, 6, 9), "drive").stripes_with_repair(own) == 6


def test_what_does_not_fit_says_how_much_does() -> None:
    own = parse_protection("copies-2")
    with pytest.raises(NotPossible, match=r"8\.59 GB of it do, 2\.15 GB are missing") as refused:
        place(spread_pool(drives(4, 4, 8), "drive"), [WantedVolume(10 * EXTENT, own)])
    assert (refused.value.code, refused.value.field) == ("volume-does-not-fit", "volume")
    with pytest.raises(NoRoom) as full:
        spread_layout(drives(4, 4, 8), "drive").more(own, 10)
    assert (full.value.facts["needed"], full.value.facts["left"]) == (10, 8)
    with pytest.raises(NotPossible, match="needs 4 drives; there are 3") as few:
        spread_layout(drives(4, 4, 8), "drive").more(parse_protection("parity-2:4"), 1)
    assert (few.value.code, few.value.field) == ("too-few-domains", "protection")
    assert spread_layout(drives(4, 4, 8), "drive").room_for(parse_protection("parity-2:4")) == 0
    assert spread_layout(drives(4, 4, 8), "drive").room_for(own) == 8
    assert spread_layout(drives(4, 4, 8), "drive").room_for(own, closed=[0]) == 4


def test_parity_is_turned_from_stripe_to_stripe() -> None:
    layout = with_volumes(drives(6, 6, 6), ("parity-1:3", 6))
    last = layout.volume(1).slots[:, -1].tolist()
    assert sorted(last) == [0, 0, 1, 1, 2, 2]


@given(st.lists(st.integers(3, 9), min_size=3, max_size=6), st.integers(1, 4))
@settings(max_examples=40)
def test_what_failures_leave_of_stripes_agrees_with_every_selection(extents: list[int], stripes: int) -> None:
    layout = with_volumes(drives(*extents), ("copies-2", stripes))
    stands = [set(map(int, one)) for one in layout.volume(1).slots]
    count = len(extents)

    def bears(gone: set[int]) -> bool:
        return all(len(one & gone) <= 1 for one in stands)

    for first in range(-1, count):
        gone = {first} - {-1}
        found = layout.after_failures({str(i) for i in gone})
        assert found.survives == bears(gone)
        left = [i for i in range(count) if i not in gone]
        sure = max(k for k in range(len(left) + 1) if all(bears(gone | set(c)) for c in combinations(left, k)))
        best = max(k for k in range(len(left) + 1) if any(bears(gone | set(c)) for c in combinations(left, k)))
        assert found.more_guaranteed == min(sure, 1 if not gone else sure) and sure <= found.more_best_case <= best
    assert not layout.after_failures({str(i) for i in range(count)}).survives


def test_the_cut_of_a_spread_pool_shows_what_is_used_in_its_shares() -> None:
    layout = with_volumes(drives(8, 8, 8, 8), ("copies-2", 4), ("parity-1:4", 2))
    assert (layout.data_extents, sum(layout.used_extents), layout.free_extents, layout.stripes) == (4 + 6, 16, 16, 6)
    for band, used in zip(layout.drawn, layout.used_extents, strict=True):
        (group,) = band.groups
        assert band.rows == used and group.data / len(group.members) == pytest.approx(10 / 16, abs=0.01)


def test_hours_of_a_spread_repair_worked_by_hand() -> None:
    rate = 100_000_000
    members = [Drive(str(i), 2 * TB, rate=rate) for i in range(5)]
    pool, copies, three = spread_pool(members, "drive"), Protection("copies-2", 2), Protection("parity-1", 3)
    held = [(copies, np.array([10, 10, 0, 0, 0])), (three, np.array([6, 6, 6, 0, 0]))]
    # Copies move twice what was lost, parity over three drives three times; four others share it.
    assert repair_seconds(pool, held, 0, None) == pytest.approx((10 * 2 + 6 * 3) * EXTENT / (4 * rate))
    assert repair_seconds(pool, held, 3, None) == 0.0
    # One new drive takes all that was lost, however many read.
    assert repair_seconds(pool, held, 0, None, onto=members[0]) == pytest.approx(16 * EXTENT / rate)
    assert repair_seconds(pool, held, 0, None, readers=members[1:2]) == pytest.approx(38 * EXTENT / rate)
    # With no domain to spare only what is left of the same one takes any; here that is a new drive.
    wide = [(Protection("parity-1", 5), np.array([6] * 5))]
    assert repair_seconds(pool, wide, 0, None) == pytest.approx(max(6 * EXTENT / rate, 6 * 5 * EXTENT / (4 * rate)))


def test_where_redundancy_stands_is_part_of_the_format_on_the_drives() -> None:
    """It goes down one drive a row, P before Q; data stand in the order of the drives."""
    four = Group((0, 1, 2, 3), Code.PARITY, 2)
    places = [(1, 2, 3, 0), (0, 1, 2, 3), (0, 3, 1, 2), (2, 3, 0, 1), (1, 2, 3, 0)]
    assert [columns_of(four, row) for row in range(5)] == places
    one = Group((0, 1, 2), Code.PARITY, 1)
    assert [columns_of(one, row) for row in range(3)] == [(0, 1, 2), (0, 2, 1), (1, 2, 0)]


def test_a_step_without_data_is_no_band() -> None:
    for scheme, extents in (("stepped-1", (4, 6, 9)), ("stepped-2", (4, 5, 6, 9, 11))):
        layout = build_layout(drives(*extents), scheme)
        assert all(band.capacity > 0 for band in layout.bands)
        assert sum(band.rows for band in layout.bands) == sorted(extents)[-1 - layout.scheme.survives]


def test_copies_come_in_pairs_or_threes_where_nobody_says_otherwise() -> None:
    assert len(build_layout(drives(*[6] * 6), "copies-2").sets) == 3
    assert len(build_layout(drives(*[6] * 6), "copies-3").sets) == 2
    assert len(build_layout(drives(*[6] * 6), "parity-1").sets) == 1


def test_a_domain_has_to_be_known_of_every_drive() -> None:
    with pytest.raises((BadInput, NotPossible)) as refused:
        spread_pool(drives(6, 6), "host")
    assert refused.value.message.endswith(".")


def test_a_span_is_one_drive_after_the_other() -> None:
    layout = build_layout(drives(4, 9), "span")
    assert [(b.start, b.rows, b.groups[0].members, b.groups[0].parity) for b in layout.bands] == [
        (0, 4, (0,), 0),
        (0, 9, (1,), 0),
    ]
    two = build_layout(drives(4, 6, 5, 9), "copies-2", sets=2)
    assert [(b.start, b.rows, [g.members for g in b.groups]) for b in two.bands] == [
        (0, 4, [(0, 1), (2, 3)]), (4, 1, [(2, 3)]),
    ]  # fmt: skip


def test_room_is_told_to_the_extent() -> None:
    assert gaps(10, [(0, 3), (3, 2), (8, 2)]) == [(5, 3)]
    assert gaps(10, []) == [(0, 10)] and gaps(4, [(0, 4)]) == []
    with pytest.raises(NoRoom, match="7 GiB left, 3 GiB too few") as full:
        allocate([(0, 4), (6, 3)], 0, 10)
    assert (full.value.facts["needed"], full.value.facts["left"]) == (10, 7)
    layout = with_volumes(drives(6, 6, 6, 6), ("copies-2", 4))
    assert layout.room_for(parse_protection("copies-2")) == 8
    assert layout.room_for(parse_protection("parity-1:4")) == 12
    pool = spread_pool(drives(6, 6, 6), "drive")
    small = WantedVolume(EXTENT, parse_protection("copies-2"))
    with pytest.raises(BadInput, match="smaller groups") as many:
        place(pool, [small] * (MOST_VOLUMES + 1))
    assert many.value.field == "volume"

"""The small parts that layouts are made of, each against its definition: counted out, or worked by hand."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from itertools import combinations, pairwise, product

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from pairshelf.core.domain.drives import Drive
from pairshelf.core.domain.units import EXTENT, GIB
from pairshelf.core.errors import BadInput, NotPossible
from pairshelf.core.layouts import Layout, build_layout, placing
from pairshelf.core.layouts.arrange import arrange
from pairshelf.core.layouts.erasure import (
    Block,
    changed_parity,
    columns_to_read,
    inverse,
    invert,
    locate,
    multiply,
    parity,
    power,
    reconstruct,
    times,
)
from pairshelf.core.layouts.grown import (
    converted,
    height,
    laid_anew,
    needed,
    with_drives,
    with_members,
    with_room,
    with_sets,
)
from pairshelf.core.layouts.links import link_share
from pairshelf.core.layouts.model import Band, Code, Group
from pairshelf.core.layouts.placing import Placer, WantedVolume, spread_pool
from pairshelf.core.layouts.protections import Protection, parse_protection
from pairshelf.core.layouts.regions import ANYWHERE, REGION, rows_missed
from pairshelf.core.layouts.registry import scheme_of, why_not
from pairshelf.core.layouts.restripe import COPIED_ROWS, Moving, Walk, Window
from pairshelf.core.layouts.restriping import restriping
from pairshelf.core.layouts.sets import cut, cut_span
from pairshelf.core.layouts.spread import SpreadLayout, StripedVolume, base_of, spread_layout, volume_at
from pairshelf.core.layouts.stepped import cut as cut_in_steps
from pairshelf.core.layouts.stripe_moves import uneven_extents, uneven_seconds
from pairshelf.core.patience import as_long_as
from tests.core.strategies import layouts

MB = 10**6
SMALL = st.integers(4, 14).map(lambda extents: extents * GIB + GIB // 2)


def drives(*extents: int, first: int = 0) -> list[Drive]:
    return [Drive(f"d{first + i}", e * GIB + GIB // 2) for i, e in enumerate(extents)]


def blocks(number: int, size: int, seed: int) -> list[Block]:
    return list(np.random.default_rng(seed).integers(0, 256, (number, size), np.uint8))


# -- the field -----------------------------------------------------------------------------------------------------


def test_the_field_has_an_inverse_for_all_but_zero_and_powers_that_go_round() -> None:
    assert [multiply(a, inverse(a)) for a in range(1, 256)] == [1] * 255
    with pytest.raises(ZeroDivisionError):
        inverse(0)
    # The generator comes back to one after 255 steps and not before, so 255 data drives are told apart.
    assert sorted(power(e) for e in range(255)) == list(range(1, 256))
    assert [power(e) for e in (-1, 0, 1, 255, 256, 510)] == [power(254), 1, 2, 1, 2, 1]
    assert all(multiply(a, 0) == 0 == multiply(0, a) for a in range(256))


@given(st.integers(1, 4), st.data())
def test_a_matrix_times_its_inverse_is_one(size: int, data: st.DataObject) -> None:
    lost = sorted(data.draw(st.sets(st.integers(0, 254), min_size=size, max_size=size)))
    matrix = [[power(i * j) for i in lost] for j in range(size)]
    found = invert(matrix)
    for i in range(size):
        for j in range(size):
            total = 0
            for k in range(size):
                total ^= multiply(matrix[i][k], found[k][j])
            assert total == (i == j)


def test_a_matrix_whose_rows_say_the_same_cannot_be_inverted() -> None:
    with pytest.raises(NotPossible, match="cannot be told apart") as refused:
        invert([[1, 2], [1, 2]])
    assert refused.value.code == "data-lost"
    # One whose first column begins with nothing can.
    assert invert([[0, 1], [1, 0]]) == [[0, 1], [1, 0]]


@pytest.mark.parametrize("factor", [0, 1, 2, 29, 255])
def test_a_block_times_a_constant_is_each_byte_times_it(factor: int) -> None:
    block = np.arange(256, dtype=np.uint8)
    found = times(factor, block)
    assert found.tolist() == [multiply(factor, x) for x in range(256)]
    found[3] ^= 1
    assert block[3] == 3, "it is another block"


@given(st.integers(1, 9), st.integers(1, 3), st.integers(1, 300), st.integers(0, 9))
def test_parity_of_what_lies_in_rows_is_that_of_the_rows(count: int, parities: int, size: int, seed: int) -> None:
    """Every second row of something larger, and outs that lie apart as well: the same bytes."""
    large = np.random.default_rng(seed).integers(0, 256, (count, 6, size), np.uint8)
    apart = [large[i, ::2] for i in range(count)]
    room = np.zeros((parities, 7, size), np.uint8)
    outs = [room[p, 1::2] for p in range(parities)]
    parity(apart, parities, outs)
    whole = parity([np.ascontiguousarray(a).reshape(-1) for a in apart], parities)
    assert [o.tobytes() for o in outs] == [w.tobytes() for w in whole]
    assert not room[:, ::2].any(), "nothing is written between them"
    for j, one in enumerate(whole):
        byte = 0
        for i in range(count):
            byte ^= multiply(power(i * j), int(apart[i].reshape(-1)[-1]))
        assert one[-1] == byte
    assert parity(apart, 0) == []


@given(st.integers(1, 8), st.integers(1, 3), st.data())
def test_parity_after_a_change_is_that_of_what_stands_then(count: int, parities: int, data: st.DataObject) -> None:
    before = blocks(count, 24, 1)
    checks = parity(before, parities)
    which = data.draw(st.sets(st.integers(0, count - 1), min_size=1))
    changed = {c: blocks(1, 24, 100 + c)[0] for c in which}
    after = [changed.get(c, before[c]) for c in range(count)]
    columns = columns_to_read(count, parities, which)
    stands = {c: before[c] if c < count else checks[c - count] for c in columns}
    assert [p.tobytes() for p in changed_parity(count, parities, changed, stands)] == [
        p.tobytes() for p in parity(after, parities)
    ]
    # It reads what is less, and of what is as much the columns that change: those it writes anyway.
    assert len(columns) == min(count - len(which), len(which) + parities)
    assert len(set(columns)) == len(columns)


def test_nothing_is_read_before_a_stripe_is_written_as_a_whole() -> None:
    assert columns_to_read(4, 2, range(4)) == []
    assert columns_to_read(4, 2, [0, 1, 2]) == [3]
    assert columns_to_read(8, 1, [5, 2]) == [2, 5, 8]
    # As much either way: what changes is read.
    assert columns_to_read(4, 1, [1]) == [1, 4] and columns_to_read(3, 1, [1]) == [1, 3]


@pytest.mark.parametrize(("count", "parities"), [(1, 1), (3, 1), (4, 2), (5, 3)])
def test_columns_are_given_back_up_to_the_parity_that_is_there(count: int, parities: int) -> None:
    data = blocks(count, 16, 5)
    columns = dict(enumerate([*data, *parity(data, parities)]))
    for gone in range(parities + 2):
        for lost in combinations(columns, gone):
            present = {c: b for c, b in columns.items() if c not in lost}
            lost_data = [c for c in lost if c < count]
            checks = parities - (len(lost) - len(lost_data))
            if len(lost_data) > checks:
                with pytest.raises(NotPossible) as refused:
                    reconstruct(count, parities, present, lost_data)
                assert refused.value.code == "data-lost"
                continue
            # All are asked for, those that are there too.
            found = reconstruct(count, parities, present, list(columns))
            assert {c: b.tobytes() for c, b in found.items()} == {c: b.tobytes() for c, b in columns.items()}


def test_one_wrong_byte_is_laid_to_its_column_only_where_the_parity_can_say_so() -> None:
    data = blocks(4, 32, 8)
    for parities, told in ((1, False), (2, True), (3, True)):
        good = [*data, *parity(data, parities)]
        for column in range(4 + parities):
            wrong = [c.copy() for c in good]
            wrong[column][7] ^= 0x41
            assert locate(4, wrong) == (column if told else None)
        assert locate(4, good) is None, "nothing is wrong"
    # Two columns wrong at different bytes: each by itself could be one, together they are not.
    wrong = [c.copy() for c in [*data, *parity(data, 2)]]
    wrong[0][3] ^= 1
    wrong[2][9] ^= 1
    assert locate(4, wrong) is None
    # What would be a column beyond the data is none; the last one is one.
    for column, told in ((3, 3), (4, None), (200, None)):
        beyond = [c.copy() for c in [*data, *parity(data, 2)]]
        beyond[4][0] ^= 1
        beyond[5][0] ^= power(column)
        assert locate(4, beyond) == told


# -- how sets are cut ----------------------------------------------------------------------------------------------


@given(st.lists(st.lists(st.integers(1, 9), min_size=2, max_size=2), min_size=1, max_size=4))
def test_at_every_row_those_sets_have_data_whose_smallest_drive_reaches_it(sizes: list[list[int]]) -> None:
    sets = [drives(*one, first=2 * i) for i, one in enumerate(sizes)]
    bands = cut(scheme_of("copies-2"), sets)
    for row in range(10):
        expected = [tuple(range(2 * i, 2 * i + 2)) for i, one in enumerate(sizes) if min(one) > row]
        (*found,) = (g.members for b in bands if b.start <= row < b.start + b.rows for g in b.groups)
        assert found == expected
    assert all(b.rows > 0 for b in bands)


@given(st.integers(1, 2), st.lists(st.integers(1, 9), min_size=3, max_size=7))
def test_at_every_row_a_stepped_pool_protects_what_reaches_it(survives: int, sizes: list[int]) -> None:
    bands = cut_in_steps(scheme_of(f"stepped-{survives}"), [drives(*sizes)])
    for row in range(10):
        reaching = tuple(i for i, size in enumerate(sizes) if size > row)
        found = [g for b in bands if b.start <= row < b.start + b.rows for g in b.groups]
        if len(reaching) <= survives:
            assert found == []
            continue
        (group,) = found
        assert (group.members, group.parity) == (reaching, survives)
        assert group.code is (Code.COPIES if len(reaching) == survives + 1 else Code.PARITY)
        assert group.data == len(reaching) - survives


def test_a_span_is_cut_drive_by_drive() -> None:
    bands = cut_span(scheme_of("span"), [drives(3, 5), drives(2, first=2)])
    assert [(b.start, b.rows, [g.members for g in b.groups]) for b in bands] == [
        (0, 3, [(0,)]), (0, 5, [(1,)]), (0, 2, [(2,)]),
    ]  # fmt: skip


# -- what is missed, and what links leave ----------------------------------------------------------------------------


@given(layouts(SMALL, 8), st.data())
def test_rows_missed_are_those_in_the_regions_on_which_something_stands(layout: Layout, data: st.DataObject) -> None:
    slot = data.draw(st.integers(0, len(layout.members) - 1))
    regions = data.draw(st.sets(st.integers(0, 3)))
    used = {row for first, rows in layout.rows_of(slot) for row in range(first, first + rows)}
    assert rows_missed(layout, slot, regions) == sum(row // REGION in regions for row in used)
    assert rows_missed(layout, slot, None) == rows_missed(layout, slot, {*regions, ANYWHERE}) == len(used)


def test_a_region_is_sixteen_rows_from_its_first_to_its_last() -> None:
    layout = build_layout(drives(40, 40), "copies-2")
    assert [rows_missed(layout, 0, [region]) for region in range(4)] == [16, 16, 8, 0]
    assert rows_missed(layout, 1, [0, 2]) == 24


def test_streams_share_the_narrowest_link() -> None:
    def on(shelf: str, link: int | None, host: str | None = None) -> Drive:
        return Drive(f"{shelf}{link}{host}", 10 * GIB, shelf=shelf, link=link, host=host)

    assert link_share([]) == link_share([on("A", None), on("B", None)]) == float("inf")
    assert link_share([on("A", 600 * MB)] * 3) == 200 * MB
    # The one with more drives on less is what all wait for.
    assert link_share([on("A", 600 * MB)] * 2 + [on("B", 250 * MB)]) == 250 * MB
    assert link_share([on("A", 600 * MB)] * 4 + [on("B", 250 * MB)]) == 150 * MB
    # The network counts where there is more than one host, and then for all of them.
    near = [on("A", None, "elm"), on("B", None, "elm")]
    assert link_share(near, 100 * MB) == float("inf")
    assert link_share([*near, on("C", None, "fir"), on("D", None, "fir")], 100 * MB) == 25 * MB


# -- a pool that grows ---------------------------------------------------------------------------------------------


def test_a_set_reaches_as_high_as_its_smallest_drive_and_one_more_must_too() -> None:
    layout = build_layout(drives(6, 6, 9, 9), "copies-2", sets=2)
    assert [height(layout, n) for n in (0, 1)] == [6, 9]
    assert [needed(layout, n) for n in (0, 1)] == [6, 9]
    assert needed(build_layout(drives(6, 6, 9), "stepped-1"), 0) == 1
    assert needed(build_layout(drives(6, 6), "span"), 0) == 1
    three = with_drives(build_layout(drives(6, 6, 9), "parity-1"), drives(6, first=9))
    assert three.width == 4 and three.data_extents == 18
    with pytest.raises(BadInput, match="d9 has 5 extents; its set needs 6") as refused:
        with_drives(build_layout(drives(6, 6, 9), "parity-1"), drives(5, first=9))
    assert (refused.value.code, refused.value.field) == ("too-small", "drives")


def test_into_which_set() -> None:
    pool = build_layout(drives(*[6] * 6), "parity-1", sets=2)
    one = with_drives(pool, drives(6, first=9), into=1)
    assert [len(s) for s in one.sets] == [3, 4] and [d.id for d in one.sets[1]] == ["d3", "d4", "d5", "d9"]
    both = with_drives(pool, drives(6, 6, 6, 6, first=9))
    assert [[d.id for d in s[3:]] for s in both.sets] == [["d9", "d10"], ["d11", "d12"]]
    for into in (-1, 2):
        with pytest.raises(BadInput, match=f"It has 2 sets; there is no set {into + 1}") as refused:
            with_drives(pool, drives(6, first=9), into=into)
        assert refused.value.field == "into"
    with pytest.raises(BadInput, match=r"It has 1 set; there is no set 2\."):
        with_drives(build_layout(drives(6, 6, 6), "parity-1"), drives(6, first=9), into=1)
    with pytest.raises(BadInput, match="choose 2 drives"):
        with_drives(pool, drives(6, first=9))
    with pytest.raises(BadInput, match="Choose a drive"):
        with_drives(build_layout(drives(6, 6, 6), "parity-1"), [])


@settings(max_examples=30)
@given(st.lists(st.integers(4, 9), min_size=2, max_size=5), st.data())
def test_a_longer_drive_of_a_span_adds_its_further_rows_behind_all_others(
    sizes: list[int], data: st.DataObject
) -> None:
    span = build_layout(drives(*sizes), "span")
    slot, more = data.draw(st.integers(0, len(sizes) - 1)), data.draw(st.integers(1, 4))
    grown = with_members(span, {slot: Drive("new", (sizes[slot] + more) * GIB + GIB // 2)})
    assert grown.bands[: len(span.bands)] == span.bands
    (last,) = grown.bands[len(span.bands) :]
    assert (last.start, last.rows, last.groups[0].members) == (sizes[slot], more, (slot,))
    assert grown.data_extents == sum(sizes) + more
    assert with_members(span, {slot: span.members[slot]}).bands == span.bands


def test_room_that_drives_offer_is_taken_only_where_it_is_more() -> None:
    pool = build_layout(drives(6, 6), "copies-2")
    size = pool.members[0].size
    assert with_room(pool, {0: size, 1: size}) is pool and with_room(pool, {0: size - 1, 1: 0}) is pool
    assert with_room(pool, {0: size + 3 * EXTENT}).data_extents == 6, "the other is the smaller one now"
    assert with_room(pool, {0: size + 3 * EXTENT, 1: size + EXTENT}).data_extents == 7


def test_what_is_laid_anew_keeps_its_spares_and_must_fit_its_scheme() -> None:
    pool = build_layout(drives(6, 6, 6, 6), "stepped-1", spares=1)
    again = laid_anew(pool, [drives(6, 8, 8)])
    assert again.spares == pool.spares and again.data_extents == 14
    with pytest.raises(NotPossible) as refused:
        laid_anew(pool, [drives(6)])
    assert (refused.value.code, refused.value.field) == ("scheme-does-not-fit", "drives")
    assert str(refused.value)[0].isupper()


def test_conversions_that_do_not_come_out_even_are_refused_at_their_field() -> None:
    pool = build_layout(drives(*[6] * 8), "parity-1", sets=2)
    with pytest.raises(BadInput, match="as many drives for each") as refused:
        converted(pool, "parity-2", drives(6, first=9))
    assert refused.value.field == "drives"
    with pytest.raises(BadInput, match="As many drives must leave each set") as refused:
        converted(pool, "parity-1", [], freed=[0])
    assert refused.value.field == "free"
    with pytest.raises(NotPossible) as short:
        converted(pool, "parity-3", [])
    assert short.value.code == "scheme-does-not-fit"
    assert [d.id for s in converted(pool, "copies-2", [], freed=[1, 2, 5, 6]).sets for d in s] == [
        "d0",
        "d3",
        "d4",
        "d7",
    ]
    six = converted(pool, "parity-2", drives(6, 6, first=9))
    assert [[d.id for d in s[4:]] for s in six.sets] == [["d9"], ["d10"]] and six.data_extents == 36
    with pytest.raises(BadInput, match=r"A set takes 4 drives; choose 4"):
        with_sets(pool, drives(6, 6, first=9))


# -- a walk from one layout to another ---------------------------------------------------------------------------------


def _walks() -> list[Walk]:
    found = []
    for old, scheme, new in (
        ((9, 9, 9), "parity-1", (9,)), ((12, 12, 12, 12), "parity-2", (12, 12)), ((8, 8, 8, 8, 8), "parity-1", ()),
    ):  # fmt: skip
        before = build_layout(drives(*old), scheme)
        after = with_drives(before, drives(*new, first=20)) if new else converted(before, "parity-2", [])
        moving = Moving(before, after)
        walk = moving.walk()
        found += [walk, Walk(moving.new_bands, moving.old.bands, upwards=not walk.upwards, stored=walk.stored)]
    return found


@pytest.mark.parametrize("number", range(6))
@pytest.mark.parametrize("most", [1, 2, 3, 100])
def test_what_goes_by_way_of_a_copy_is_as_much_as_is_safe_together_and_never_more(number: int, most: int) -> None:
    walk = _walks()[number]
    for row, (start, end) in enumerate(zip(walk.starts.tolist(), walk.ends.tolist(), strict=True)):
        if start < walk.common or not walk.safe[row]:
            continue
        # Turned round in the middle of a row, it takes that row and no other.
        for front in range(start + 1, end):
            if front < walk.entered(front + 1):
                assert walk.next(front, most) == Window(start, end, True)
        front = start if walk.upwards else end
        window = walk.next(front, most)
        assert window is not None
        step = 1 if walk.upwards else -1
        if walk.straight[row]:
            assert not window.by_copy
            continue
        # Rows one after the other, none of which could be written in its place, up to the last that is safe.
        ends, other = row, row
        for other in range(row, row + step * min(most, COPIED_ROWS), step):
            if not 0 <= other < len(walk.starts) or walk.starts[other] < walk.common:
                break
            if other != row and walk.straight[other]:
                break
            ends = other if walk.safe[other] else ends
        low, high = sorted((row, ends))
        assert window == Window(int(walk.starts[low]), int(walk.ends[high]), True)


def test_while_it_is_restriped_a_drive_is_filled_from_all_that_are_there() -> None:
    def of(*rates: int, first: int = 0) -> list[Drive]:
        return [replace(d, rate=r * MB) for d, r in zip(drives(*[9] * len(rates), first=first), rates, strict=True)]

    before = build_layout(of(200, 180, 160), "parity-1")
    layout = restriping(Moving(before, with_drives(before, of(120, first=7))), 6, upwards=True, turned=False)
    held = layout.used_extents[0] * EXTENT
    slow = layout.members[3].mean_rate
    assert layout.rebuild_seconds(0, None, ()) == pytest.approx(held / slow)
    # Without the slowest of the others, the next one; onto a slower one, that one.
    assert layout.rebuild_seconds(0, None, {"d7"}) == pytest.approx(held / layout.members[2].mean_rate)
    new = replace(drives(9, first=30)[0], rate=50 * MB)
    assert layout.rebuild_seconds(0, new, ()) == pytest.approx(held / new.mean_rate)
    # One that is gone itself does not slow its own rebuild.
    assert layout.rebuild_seconds(3, of(300, first=31)[0], ()) == pytest.approx(
        layout.used_extents[3] * EXTENT / layout.members[2].mean_rate
    )
    assert layout.rebuild_seconds_by_set(None) == [max(layout.rebuild_seconds(i, None, ()) for i in range(4))]


def test_each_set_is_rebuilt_in_the_time_of_its_fullest_and_slowest_drive() -> None:
    first, second = drives(6, 6, 6), drives(9, 9, 9, first=3)
    first[1], second[2] = replace(first[1], rate=60 * MB), replace(second[2], rate=90 * MB)
    pool = build_layout([*first, *second], "parity-1", sets=2)
    found = pool.rebuild_seconds_by_set(None)
    assert found == pytest.approx([6 * EXTENT / first[1].mean_rate, 9 * EXTENT / second[2].mean_rate])
    assert pool.slowest_rebuild_seconds(None) == max(found)
    assert pool.rebuild_seconds(0, None, {"d1"}) == pytest.approx(6 * EXTENT / first[2].mean_rate)


# -- stripes that lie all over -----------------------------------------------------------------------------------------


def _spread(*extents: int, protection: str = "copies-2", stripes: int = 6) -> SpreadLayout:
    pool = spread_pool(drives(*extents), "drive")
    own = parse_protection(protection)
    placer, rows = Placer(pool), [list(range(d.extents)) for d in pool.drives]
    spots = np.zeros((stripes, own.width, 2), np.int32)
    for stripe in range(stripes):
        for column, slot in enumerate(placer.next(own.width) or []):
            spots[stripe, column] = slot, rows[slot].pop(0 if stripe % 2 else -1)
    return spread_layout(pool.drives, "drive", [StripedVolume(1, own, spots)])


def test_where_extents_stand_on_a_drive_is_said_in_stretches() -> None:
    layout = _spread(9, 9, 9, 9, stripes=8)
    for slot in range(4):
        stands = {int(row) for s, row in layout.volumes[0].spots.reshape(-1, 2).tolist() if s == slot}
        said = layout.rows_of(slot)
        assert [row for first, rows in said for row in range(first, first + rows)] == sorted(stands)
        assert all(b > a + rows for (a, rows), (b, _) in pairwise(said)), "stretches that touch are one"
        assert rows_missed(layout, slot, [0]) == len(stands)
    empty = spread_layout(layout.members, "drive")
    assert empty.rows_of(0) == [] and rows_missed(empty, 0, None) == 0


def test_what_fails_in_a_spread_pool_is_filled_by_all_others_that_are_there() -> None:
    layout = _spread(9, 9, 9, 9, stripes=8)
    rates = [60, 100, 140, 180]
    members = [replace(d, rate=r * MB) for d, r in zip(layout.members, rates, strict=True)]
    layout = spread_layout(members, "drive", layout.volumes)
    new = replace(drives(9, first=30)[0], rate=100_000 * MB)
    for slot in range(4):
        # A copy is read and one is written.
        traffic = 2 * layout.used_extents[slot] * EXTENT
        others = [d.mean_rate for d in members if d.id != f"d{slot}"]
        assert layout.rebuild_seconds(slot, new, ()) == pytest.approx(traffic / sum(others))
        away = f"d{(slot + 1) % 4}"
        rest = [d.mean_rate for d in members if d.id not in {f"d{slot}", away}]
        assert layout.rebuild_seconds(slot, new, {away}) == pytest.approx(traffic / sum(rest))


def test_on_a_drive_of_sets_rows_that_touch_are_one_stretch_and_a_gap_is_one() -> None:
    layout = build_layout(drives(9, 9, 9), "parity-1")
    group, without = Group((0, 1, 2), Code.PARITY, 1), Group((1, 2), Code.PARITY, 1)
    bands = (Band(0, 2, (group,)), Band(2, 3, (group,)), Band(5, 1, (without,)), Band(6, 3, (group,)))
    layout = replace(layout, bands=bands)
    assert layout.rows_of(0) == [(0, 5), (6, 3)]
    assert layout.rows_of(1) == [(0, 9)]


def test_a_stripe_is_so_wide_and_no_wider() -> None:
    assert parse_protection("parity-1:257").width == 257
    with pytest.raises(BadInput, match="is 3 to 257 wide, not 258"):
        parse_protection("parity-1:258")


def test_where_there_are_too_few_domains_nothing_is_placed() -> None:
    assert Placer(spread_pool(drives(9, 9), "drive")).next(3) is None


def test_what_failures_leave_of_stripes_is_nothing_once_one_has_lost_too_many() -> None:
    layout = _spread(9, 9, 9)
    lost = layout.after_failures(["d0", "d1"])
    assert (lost.survives, lost.more_guaranteed, lost.more_best_case, lost.failed_by_set) == (False, 0, 0, (2,))
    assert lost.lost_sets == (0,)
    one = layout.after_failures(["d0", "a stranger"])
    assert (one.survives, one.more_guaranteed, one.failed_by_set, one.lost_sets) == (True, 0, (1,), ())
    empty = spread_layout(layout.members, "drive").after_failures([])
    assert (empty.survives, empty.more_guaranteed) == (True, 3)


def test_among_very_many_domains_the_first_and_its_best_partner_are_taken(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(placing, "_WEIGHED_PAIRS", 3)
    placer = Placer(spread_pool(drives(*[6] * 5), "drive"))
    assert [placer.next(2) for _ in range(3)] == [[0, 1], [2, 3], [4, 0]]
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(placing, "_WEIGHED_PAIRS", 5)
        assert Placer(spread_pool(drives(*[6] * 5), "drive")).next(2) == [0, 1]


@settings(max_examples=60)
@given(st.lists(st.tuples(st.integers(1, 6), st.integers(0, 6)), min_size=2, max_size=4))
def test_what_is_uneven_is_how_far_it_is_from_the_best_there_is(domains: list[tuple[int, int]]) -> None:
    sizes = [size for size, _ in domains]
    used = [min(size, own) for size, own in domains]
    spots, at = [], 0
    for slot, count in enumerate(used):
        for row in range(count):
            spots.append((at, slot, row))
            at += 1
    # Copies of width one stand for themselves: only how much each has is asked.
    volume = StripedVolume(
        1, Protection("copies-2", 1), np.array([[[s, r]] for _, s, r in spots], np.int32).reshape(-1, 1, 2)
    )
    layout = spread_layout(drives(*sizes), "drive", [volume])

    def cost(one: tuple[int, ...] | list[int]) -> float:
        return sum(u * u / size for u, size in zip(one, sizes, strict=True))

    all_of_them = [o for o in product(*(range(size + 1) for size in sizes)) if sum(o) == sum(used)]
    least = min(map(cost, all_of_them))
    moved = [sum(max(0, u - b) for u, b in zip(used, o, strict=True)) for o in all_of_them if cost(o) <= least + 1e-9]
    if cost(used) <= least + 1e-9:
        assert uneven_extents(layout) == 0
    else:
        assert min(moved) <= uneven_extents(layout) <= max(moved)
    # What is closed takes no part.
    assert uneven_extents(layout, range(1, len(sizes))) == 0


def test_the_time_to_even_out_is_reading_and_writing_by_all() -> None:
    layout = _spread(9, 9, 9)
    assert uneven_seconds(layout, 5) == pytest.approx(10 * EXTENT / sum(d.mean_rate for d in layout.members))
    assert uneven_seconds(layout, 0) == 0


def test_how_few_drives_there_are_is_said_in_grammar() -> None:
    assert "there is 1" in (why_not(scheme_of("parity-1"), 1, 1) or "")
    assert "there are 2" in (why_not(scheme_of("parity-1"), 2, 1) or "")
    assert "exactly 1 drive a set, not 2" in (why_not(scheme_of("single"), 2, 1) or "")


# -- where something stands, and where it goes -------------------------------------------------------------------------


@given(layouts(SMALL, 8), st.data())
def test_the_first_stripe_not_filled_is_the_first_of_a_drive_that_is_not_below_the_row(
    layout: Layout, data: st.DataObject
) -> None:
    slot = data.draw(st.integers(0, len(layout.members) - 1))
    row = data.draw(st.integers(0, 16))
    in_order = [
        (group, band.start + i) for band in layout.bands for group in band.groups for i in range(band.rows)
    ]  # fmt: skip
    waiting = (number for number, (group, at) in enumerate(in_order) if slot in group.members and at >= row)
    assert layout.stripes_below(slot, row) == next(waiting, layout.stripes)


@pytest.mark.parametrize(
    ("shelves", "tolerance", "sets"),
    [
        ("aabc", 1, ["ab", "ac"]),  # a has to give one to each; its other is the smallest left, and not for the same
        ("aabbcc", 1, ["ab", "ac", "bc"]),  # a need not, but may not give two
        ("abbbcc", 2, ["abb", "bcc"]),  # a has nothing left to give
    ],
)
def test_a_shelf_gives_its_smallest_drives_and_to_no_set_more_than_it_may(
    shelves: str, tolerance: int, sets: list[str]
) -> None:
    members = [Drive(f"d{i}", (4 + i) * GIB, shelf=shelf) for i, shelf in enumerate(shelves)]
    laid = arrange(members, len(sets), tolerance, "shelf")
    assert laid is not None
    width = len(members) // len(sets)
    assert ["".join(sorted(d.shelf for d in laid[i * width : (i + 1) * width])) for i in range(len(sets))] == sets


@pytest.mark.parametrize("upwards", [True, False])
def test_a_failure_counts_for_that_side_of_the_front_on_which_something_stands(upwards: bool) -> None:
    held, apart = build_layout(drives(9, 9, 9), "parity-1"), {"d0", "d1"}
    moving = Moving(held, with_drives(held, drives(9, first=7)))
    whole = min(held.data_extents, moving.new.data_extents)
    for front in (0, 1, whole - 1, whole):
        layout = restriping(moving, front, upwards=upwards, turned=False)
        # Two of three: neither survives, and whichever has something says so.
        assert not layout.after_failures(apart).survives
        # One that is only in the new layout and one in both: the new one alone is hurt.
        new_stands = front > 0 if upwards else front < whole
        assert layout.after_failures({"d0", "d7"}).survives is not new_stands
        assert layout.after_failures({"d0"}).more_guaranteed == 0
    mirrored = build_layout(drives(9, 9, 9, 9), "parity-2")
    less = Moving(mirrored, converted(mirrored, "parity-1", []))
    whole = min(mirrored.data_extents, less.new.data_extents)
    for front in (0, 1, whole - 1, whole):
        layout = restriping(less, front, upwards=upwards, turned=False)
        assert layout.after_failures({"d0"}).more_guaranteed == 0
        assert layout.after_failures(set()).more_guaranteed == 1
    more = Moving(held, converted(held, "parity-1", []))
    assert more.at_once and not moving.at_once


@pytest.mark.parametrize("upwards", [True, False])
def test_each_side_of_the_front_is_the_rows_of_its_layout_in_which_an_address_of_that_side_stands(
    upwards: bool,
) -> None:
    held = build_layout(drives(5, 5, 7, 7, 9, 9), "parity-1", sets=2)
    moving = Moving(held, with_drives(held, drives(9, 9, first=7)))
    low, high = (moving.new_bands, held.bands) if upwards else (held.bands, moving.new_bands)

    def rows(bands: tuple[Band, ...], least: int, below: int) -> list[tuple[int, tuple[Group, ...]]]:
        found, address = [], 0
        for band in bands:
            for row in range(band.start, band.start + band.rows):
                if address < below and address + band.data > least:
                    found.append((row, band.groups))
                address += band.data
        return found

    for front in range(min(held.data_extents, moving.new.data_extents) + 1):
        layout = restriping(moving, front, upwards=upwards, turned=False)
        stands = [(band.start + i, band.groups) for band in layout.bands for i in range(band.rows)]
        assert stands == [*rows(low, 0, front), *rows(high, front, 2**40)]


@pytest.mark.parametrize(
    ("before", "after"), [("copies-2", "copies-3"), ("parity-1", "parity-1"), ("parity-1", "parity-2")]
)
def test_what_the_front_has_passed_reaches_so_high_on_each_drive(before: str, after: str) -> None:
    held = build_layout(drives(*[6] * scheme_of(before).least), before)
    moving = Moving(held, build_layout([*held.members, *drives(7, first=7)], after))
    for front in range(held.data_extents + 1):
        layout = restriping(moving, front, upwards=True, turned=False)
        ends, address = [0] * len(layout.members), 0
        for band in moving.new_bands:
            for row in range(band.start, band.start + band.rows):
                for member in (m for group in band.groups for m in group.members if address < front):
                    ends[member] = row + 1
                address += band.data
        assert list(layout.ribbon) == ends


def test_whose_set_a_drive_is_in_while_it_is_restriped() -> None:
    held = build_layout(drives(9, 9, 9, 9), "copies-2", sets=2)
    moving = Moving(held, with_sets(held, drives(9, 9, first=7)))
    layout = restriping(moving, 2, upwards=True, turned=False)
    assert [layout.set_of(i) for i in range(6)] == [0, 0, 1, 1, 2, 2]


def test_as_many_volumes_and_stripes_as_may_be_and_not_one_more(monkeypatch: pytest.MonkeyPatch) -> None:
    pool, one = spread_pool(drives(*[400] * 2), "drive"), WantedVolume(EXTENT, parse_protection("copies-2"))
    assert len(placing.place(pool, [one] * placing.MOST_VOLUMES)) == placing.MOST_VOLUMES
    with pytest.raises(BadInput, match="More than 200 volumes"):
        placing.place(pool, [one] * 201)
    monkeypatch.setattr(placing, "MOST_STRIPES", 6)
    assert [len(rows) for rows in placing.place(pool, [one] * 6)] == [1] * 6
    with pytest.raises(BadInput, match="7 stripes are more than are placed in one question"):
        placing.place(pool, [one] * 7)
    # What does not fit in any case is said so.
    with pytest.raises(NotPossible, match=r"does not fit: 429\.5 GB of it do, 1\.07 GB are missing"):
        placing.place(pool, [WantedVolume(401 * EXTENT, one.protection)])


def test_nothing_is_put_on_closed_drives() -> None:
    pool = spread_pool(drives(6, 6, 6), "drive")
    placer = Placer(pool, closed=[2])
    assert [sorted(placer.next(2) or ()) for _ in range(6)] == [[0, 1]] * 6
    assert placer.next(2) is None
    assert Placer(pool, closed=[1, 2]).next(2) is None


def test_a_single_drive_is_one_drive() -> None:
    with pytest.raises(NotPossible, match="exactly 1 drive a set, not 3"):
        build_layout(drives(9, 9, 9), "single")
    assert len(build_layout(drives(9, 9, 9, 9), "copies-2").sets) == 2
    assert len(build_layout(drives(*[9] * 6), "parity-2").sets) == 1


def _rows_on(bands: Sequence[Band], drive: int, low: int, high: int) -> list[int]:
    """The rows of a drive in whose stripes an address from ``low`` on and below ``high`` stands, counted out."""
    found, address = [], 0
    for band in bands:
        for row in range(band.start, band.start + band.rows):
            for group in band.groups:
                if drive in group.members and address < high and address + group.data > low:
                    found.append(row)
                address += group.data
    return found


@pytest.mark.parametrize("number", range(6))
@pytest.mark.parametrize("most", [1, 2, 3, 100])
def test_what_is_written_in_its_place_is_as_much_as_harms_nothing_and_never_more(number: int, most: int) -> None:
    walk = _walks()[number]
    width, last = 12, len(walk.starts) - 1

    def harms_nothing(first: int, end: int) -> bool:
        """What stands on a drive beyond the front is not reached by what is written of the new layout."""
        low, high = int(walk.starts[first]), int(walk.ends[end])
        for drive in range(width):
            written = _rows_on(walk.new, drive, low, high)
            if walk.upwards:
                needed = _rows_on(walk.old, drive, low, walk.stored)
                if written and needed and max(written) >= min(needed):
                    return False
            else:
                needed = _rows_on(walk.old, drive, 0, min(high, walk.stored))
                if written and needed and min(written) <= max(needed):
                    return False
        return True

    for row in range(last + 1):
        if walk.starts[row] < walk.common or not walk.straight[row]:
            continue
        assert harms_nothing(row, row)
        window = walk.next(int(walk.starts[row] if walk.upwards else walk.ends[row]), most)
        rows = [r for r in range(last + 1) if window and walk.starts[r] >= window.low and walk.ends[r] <= window.high]
        assert window is not None and not window.by_copy and row == (rows[0] if walk.upwards else rows[-1])
        assert len(rows) <= most and harms_nothing(rows[0], rows[-1])
        beyond = rows[-1] + 1 if walk.upwards else rows[0] - 1
        ends = beyond > last or walk.starts[max(0, beyond)] < walk.common or beyond < 0
        assert len(rows) == most or ends or not harms_nothing(min(row, beyond), max(row, beyond)), "more could go"


def test_addresses_of_volumes_are_as_they_were_written() -> None:
    # They stand in the books and on the drives of pools that were built long ago.
    assert [base_of(v) for v in (0, 1, 7)] == [0, 4294967296, 7 * 4294967296]
    assert [volume_at(a) for a in (0, 4294967295, 4294967296, 2 * 4294967296 - 1)] == [0, 0, 1, 1]


def test_of_how_many_drives_a_scheme_is_made_at_least() -> None:
    least = {
        "single": 1,
        "span": 2,
        "stripe": 2,
        "copies-2": 2,
        "copies-3": 3,
        "parity-1": 3,
        "parity-2": 4,
        "spread": 2,
    }
    assert {name: scheme_of(name).least for name in least} == least


def test_placing_ends_when_its_answer_is_not_wanted_any_more() -> None:
    class Enough(Exception):
        pass

    asked = 0

    def ask() -> None:
        nonlocal asked
        asked += 1
        if asked == 3:
            raise Enough

    pool, wanted = spread_pool(drives(200, 200), "drive"), parse_protection("copies-2")
    for work in (
        lambda: placing.place(pool, [WantedVolume(200 * EXTENT, wanted)]),
        lambda: spread_layout(pool.drives, "drive").more(wanted, 200),
    ):
        asked = 0
        with pytest.raises(Enough), as_long_as(ask):
            work()
        assert asked == 3

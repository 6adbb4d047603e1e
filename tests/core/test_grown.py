"""What comes of a pool that grows or is converted: the capacity of a fresh layout to the byte, addresses that stay."""

from __future__ import annotations

from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from pairshelf.core.domain.drives import Drive, size_of
from pairshelf.core.domain.units import GIB
from pairshelf.core.errors import BadInput, NotPossible
from pairshelf.core.figures.assess import assess
from pairshelf.core.figures.assumptions import Assumptions
from pairshelf.core.layouts import Layout, build_layout
from pairshelf.core.layouts.grown import converted, height, with_drives, with_members, with_sets
from pairshelf.core.layouts.model import Family
from pairshelf.core.layouts.placement import Placement
from pairshelf.core.layouts.restripe import Moving
from tests.core.strategies import layouts

SMALL = st.integers(4, 14).map(lambda extents: extents * GIB + GIB // 2)


def more(extents: list[int], first: int = 1) -> list[Drive]:
    return [Drive(f"n{first + i}", e * GIB + GIB // 2) for i, e in enumerate(extents)]


def every_spot_once(layout: Layout) -> None:
    placement, seen = Placement(layout.bands), set()
    for address in range(placement.capacity):
        spot = placement.spot(address)
        seen |= {(m, spot.stripe.row) for m in spot.stripe.columns}
        assert all(spot.stripe.row < layout.members[m].extents for m in spot.stripe.columns)
    assert placement.capacity == layout.data_extents
    assert len(seen) == sum(b.rows * b.width for b in layout.bands)


def as_built(layout: Layout) -> Layout:
    return build_layout(list(layout.members), layout.scheme.id, sets=len(layout.sets))


@given(layouts(SMALL, 9), st.data())
def test_sets_and_larger_drives_bring_what_a_fresh_layout_has_and_move_nothing(
    layout: Layout, data: st.DataObject
) -> None:
    if layout.scheme.family is not Family.SETS:
        return
    grown = layout
    for step in range(3):
        if layout.scheme.survives and data.draw(st.booleans()):
            after = with_sets(
                grown,
                more(data.draw(st.lists(st.integers(4, 14), min_size=layout.width, max_size=layout.width)), 100 * step),
            )
        else:
            slot = data.draw(st.integers(0, len(grown.members) - 1))
            larger = Drive(f"L{step}", grown.members[slot].size + data.draw(st.integers(0, 6)) * GIB)
            after = with_members(grown, {slot: larger})
            if layout.scheme.id == "stripe":
                continue
        every_spot_once(after)
        assert after.data_extents == as_built(after).data_extents
        # A drive that takes a place is that place's: for the addresses it is the same one.
        named = with_ids(after, grown)
        assert Moving(grown, named).at_once or after.bands == grown.bands
        grown = after


def with_ids(after: Layout, before: Layout) -> Layout:
    from dataclasses import replace

    ids = [d.id for d in before.members]
    members = [replace(d, id=ids[i]) if i < len(ids) else d for i, d in enumerate(after.members)]
    width = after.width
    return replace(after, sets=tuple(tuple(members[i : i + width]) for i in range(0, len(members), width)), known={})


@given(layouts(SMALL, 8), st.data())
def test_one_more_for_each_set_can_be_restriped_to_and_is_worth_a_fresh_layout(
    layout: Layout, data: st.DataObject
) -> None:
    if layout.scheme.id in ("single", "stripe", "copies-2", "copies-3"):
        return
    count = len(layout.sets)
    # Dealt out set after set, each as high as its set reaches at least.
    added = more([height(layout, i) + data.draw(st.integers(0, 5)) for i in range(count)])
    after = with_drives(layout, added)
    every_spot_once(after)
    assert after.data_extents == as_built(after).data_extents
    moving = Moving(layout, after)
    assert moving.at_once or moving.walk().upwards
    assert after.data_extents > layout.data_extents or layout.scheme.family is Family.STEPPED


@pytest.mark.parametrize(
    ("before", "extents", "sets", "after", "added", "freed"),
    [
        ("parity-1", [9, 9, 9], 1, "parity-2", 1, ()),
        ("parity-1", [9, 9, 9, 5, 5, 5], 2, "parity-2", 2, ()),
        ("parity-1", [9, 9, 9], 1, "parity-3", 2, ()),
        ("parity-2", [9] * 8, 2, "parity-1", 0, (3, 7)),
        ("parity-3", [9] * 5, 1, "parity-1", 0, (0, 1)),
        ("copies-2", [9, 7], 1, "parity-1", 1, ()),
        ("copies-2", [9, 9], 1, "parity-2", 2, ()),
        ("stepped-1", [4, 6, 9, 9], 1, "stepped-2", 1, ()),
        ("stepped-2", [4, 6, 9, 9], 1, "stepped-1", 0, ()),
    ],
)  # fmt: skip
def test_conversions_have_a_way_and_a_fresh_capacity(
    before: str, extents: list[int], sets: int, after: str, added: int, freed: tuple[int, ...]
) -> None:
    layout = build_layout(more(extents), before, sets=sets)
    found = converted(layout, after, more([9] * added, 50), freed)
    every_spot_once(found)
    assert found.scheme.id == after and Moving(layout, found).walk().possible
    assert found.data_extents == as_built(found).data_extents
    assert not Moving(layout, found).only_copies


def test_copies_are_only_filled_or_leave() -> None:
    one = build_layout(more([9]), "single")
    two = converted(one, "copies-2", more([9], 7))
    three = converted(two, "copies-3", more([10], 8))
    assert Moving(one, two).only_copies and Moving(two, three).only_copies and Moving(three, two).only_copies
    back = converted(three, "copies-2", [], (0,))
    assert Moving(three, back).only_copies and [d.id for d in back.members] == ["n7", "n8"]
    many = build_layout(more([9] * 4), "copies-2", sets=2)
    wider = converted(many, "copies-3", more([9, 9], 10))
    assert Moving(many, wider).only_copies and [d.id for d in wider.members] == ["n1", "n2", "n10", "n3", "n4", "n11"]
    assert not Moving(two, converted(two, "parity-1", more([9], 9))).only_copies


def test_what_does_not_come_out_even_or_high_enough_is_refused_at_its_field() -> None:
    layout = build_layout(more([9, 9, 9, 5, 5, 5]), "parity-1", sets=2)
    for wrong in (1, 3):
        with pytest.raises(BadInput, match="2 sets") as error:
            with_drives(layout, more([9] * wrong, 20))
        assert error.value.field == "drives"
    with pytest.raises(BadInput, match="its set needs 9") as error:
        with_drives(layout, more([8, 9], 20))
    assert (error.value.code, error.value.field) == ("too-small", "drives")
    assert with_drives(layout, more([9, 5], 20)).data_extents == 9 * 3 + 5 * 3
    with pytest.raises(BadInput, match="3 drives"):
        with_sets(layout, more([9] * 4, 20))
    with pytest.raises(BadInput, match="each set"):
        converted(build_layout(more([9] * 8), "parity-2", sets=2), "parity-1", [], (0, 1))
    with pytest.raises(NotPossible, match="at least 4"):
        converted(build_layout(more([9] * 2), "copies-2"), "parity-2", more([9], 20))


def test_sets_that_are_not_alike_count_each_by_itself() -> None:
    """Worked by hand: sets of 3 and 5 over rows of 8 and 5, one parity each."""
    layout = build_layout([Drive(str(i), (8 if i < 3 else 5) * GIB + GIB // 2) for i in range(6)], "parity-1", sets=2)
    more = [Drive(n, 5 * GIB + GIB // 2) for n in ("x", "y")]
    wide = with_drives(layout, more, 1)
    assert [len(one) for one in wide.sets] == [3, 5] and wide.describe() == "2 sets of 3 and 5"
    assert wide.data_extents == 8 * 2 + 5 * 4 and wide.data_drives == 6
    assert [wide.set_of(i) for i in range(8)] == [0, 0, 0, 1, 1, 1, 1, 1]
    assert (list(wide.members_of(0)), list(wide.members_of(1))) == ([0, 1, 2], [3, 4, 5, 6, 7])
    assert not wide.after_failures({"3", "x"}).survives and wide.after_failures({"0", "x"}).survives
    # Of the set of five, four are read to compute the fifth; of the other, two.
    reads = {one.width: one.reads for one in assess(wide, Assumptions()).groups}
    assert reads == {3: 2 * 8 * GIB, 5: 4 * 5 * GIB}
    assert [len(one) for one in with_drives(wide, [Drive("z", 9 * GIB)], 0).sets] == [4, 5]
    both = with_drives(wide, [Drive("z", 9 * GIB), Drive("w", 9 * GIB)])
    assert [len(one) for one in both.sets] == [4, 6]
    taller = with_members(wide, {i: Drive(f"t{i}", 7 * GIB) for i in range(3, 8)})
    assert taller.data_extents == 8 * 2 + 6 * 4 and wide.data_extents < taller.data_extents
    double = converted(wide, "parity-2", [Drive("z", 9 * GIB), Drive("w", 9 * GIB)])
    assert [len(one) for one in double.sets] == [4, 6] and double.data_extents == wide.data_extents
    for wrong in (2, -1):
        with pytest.raises(BadInput, match="there is no set"):
            with_drives(layout, more, wrong)


@given(layouts(SMALL, 10), st.data())
def test_a_place_needs_what_its_layout_uses_of_it_and_no_more(layout: Layout, data: st.DataObject) -> None:
    """Whatever larger drive had it: with the smallest that does, the layout is the same; with a smaller one it is not."""
    slot = data.draw(st.integers(0, len(layout.members) - 1))
    needs = layout.needs(slot)
    assert 1 <= needs <= layout.members[slot].extents

    def with_extents(extents: int) -> Layout:
        changed = [replace(d, size=size_of(extents)) if i == slot else d for i, d in enumerate(layout.members)]
        return build_layout(changed, layout.scheme.id, sets=len(layout.sets))

    assert with_extents(needs).data_extents == layout.data_extents
    if layout.used_extents[slot] and needs > 1:
        assert with_extents(needs - 1).data_extents < layout.data_extents

"""Ways to grow: each is what its sheet says, each that is not possible says why, and one is suggested."""

from __future__ import annotations

from dataclasses import replace

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from pairshelf.core.changes.doors import doors
from pairshelf.core.changes.kinds import KINDS, request_of
from pairshelf.core.changes.later import Opening
from pairshelf.core.changes.pools.change_scheme import targets
from pairshelf.core.domain.drives import Drive, Kind
from pairshelf.core.domain.estate import Estate, EstateDrive, EstatePlace, EstatePool
from pairshelf.core.domain.units import EXTENT, GIB, TB
from pairshelf.core.errors import PairShelfError
from pairshelf.core.layouts import DIVIDED, build_layout
from pairshelf.core.policies.beside import Under
from pairshelf.core.search.ways import Way, conversions, free_drives, remark_on, way_round, ways, why_no_conversion


def house(
    scheme: str, sizes: list[int], free: list[int], sets: int = 1, kind: Kind = Kind.HDD
) -> tuple[Estate, EstatePool]:
    """A pool of drives of these sizes, and free drives of those, in bytes."""
    layout = build_layout([Drive(str(i), s, kind) for i, s in enumerate(sizes)], scheme, sets=sets)
    used = tuple(
        EstateDrive(i + 1, f"S{i}", "Oak", i + 1, s, kind, None, "in-use", "good", pool="p")
        for i, s in enumerate(sizes)
    )
    more = tuple(EstateDrive(100 + i, f"F{i}", "Elm", i + 1, s, kind, None, "free", "good") for i, s in enumerate(free))
    places = tuple(EstatePlace(i, "active", d, used[i]) for i, d in enumerate(layout.members))
    pool = EstatePool(1, "p", "healthy", layout, places, (), True, scheme, ((0, layout.data_extents),))
    return Estate(drives=(*used, *more), pools=(pool,), pool_names=frozenset({"p"})), pool


def by_id(found: tuple[Way, ...]) -> dict[str, Way]:
    return {w.id: w for w in found}


@given(st.sampled_from(sorted(DIVIDED)), st.data())
@settings(max_examples=80)
def test_each_way_is_what_its_sheet_would_say(scheme: str, data: st.DataObject) -> None:
    one = DIVIDED[scheme]
    width = data.draw(st.integers(one.least, one.most or max(one.least, 5)))
    sets = data.draw(st.integers(1, 2)) if not one.one_set and one.survives else 1
    sizes = data.draw(
        st.lists(st.integers(4, 8).map(lambda n: n * GIB + GIB // 2), min_size=width * sets, max_size=width * sets)
    )
    free = data.draw(st.lists(st.integers(4, 16).map(lambda n: n * GIB + GIB // 2), max_size=6))
    estate, pool = house(scheme, sizes, free, sets)
    picked = data.draw(st.lists(st.sampled_from([100 + i for i in range(len(free))]), unique=True)) if free else []
    for way in (*ways(estate, pool, picked), *conversions(estate, pool, picked)):
        if way.why_not is not None or way.kind is None:
            assert way.why_not or way.kind is None
            continue
        sheet = KINDS[way.kind].plan(estate, request_of(way.kind, way.request)).sheet
        capacity = next(f for f in sheet.figures if f.label == "Pool capacity")
        assert (
            capacity.after.bytes == way.capacity
            and (capacity.after.bytes or 0) - (capacity.before.bytes or 0) == way.gain
        )
        if picked and way.id in ("add-drives", "add-sets"):
            assert set(way.drives) == set(picked)


@pytest.mark.parametrize("scheme", sorted(DIVIDED))
def test_what_can_be_done_is_what_compare_says_of_the_doors(scheme: str) -> None:
    one = DIVIDED[scheme]
    width = one.most or max(one.least, 4)
    estate, pool = house(scheme, [6 * TB] * width, [6 * TB] * 9)
    said = {d.change: d.opening for d in doors(pool.layout)}
    found = by_id(ways(estate, pool))
    assert (found["add-drives"].why_not is None) == (said["add-drive"] is not Opening.CLOSED)
    assert (found["add-sets"].why_not is None) == (said["add-set"] is not Opening.CLOSED)
    assert (why_no_conversion(pool) is None) == (said["change-scheme"] is not Opening.CLOSED)
    assert bool(way_round(pool)) == (said["change-scheme"] is Opening.CLOSED)


def test_legal_pairs_are_those_of_the_table() -> None:
    """Which schemes become which, as the table of changes has it, there and back."""
    legal = {
        ("single", "copies-2"), ("copies-2", "single"), ("copies-2", "copies-3"), ("copies-3", "copies-2"),
        ("copies-2", "parity-1"), ("copies-2", "parity-2"), ("parity-1", "copies-2"), ("parity-2", "copies-2"),
        ("parity-1", "parity-2"), ("parity-2", "parity-1"), ("parity-1", "parity-3"), ("parity-3", "parity-1"),
        ("parity-2", "parity-3"), ("parity-3", "parity-2"), ("stepped-1", "stepped-2"), ("stepped-2", "stepped-1"),
    }  # fmt: skip
    found = {(a, b) for a, one in DIVIDED.items() for b in one.becomes}
    assert found == legal
    many = build_layout([Drive(str(i), 6 * TB) for i in range(4)], "copies-2", sets=2)
    assert targets(many) == ("single", "copies-3")


def test_one_is_suggested_with_its_reason_and_it_is_not_the_slow_one() -> None:
    estate, pool = house("copies-2", [6 * TB] * 2, [6 * TB] * 2)
    (best,) = [w for w in ways(estate, pool) if w.suggested]
    assert best.id == "add-sets" and "at once" in (best.suggested or "") and best.hours == 0
    # Of parity, one drive brings a drive; a set of four brings three for four.
    estate, pool = house("parity-1", [6 * TB] * 4, [6 * TB] * 4)
    (best,) = [w for w in ways(estate, pool) if w.suggested]
    assert best.id == "add-drives" and best.hours > 0
    assert ways(estate, pool)[0] is not None and ways(estate, pool)[0].suggested
    estate, pool = house("parity-1", [6 * TB] * 4, [])
    found = ways(estate, pool)
    assert not any(w.suggested for w in found) and all(w.why_not for w in found)


def test_larger_drives_are_told_step_by_step_up_to_the_last_that_brings_something() -> None:
    estate, pool = house("parity-1", [6 * TB] * 3, [8 * TB] * 5)
    way = by_id(ways(estate, pool))["larger-drives"]
    assert [bool(s.gain) for s in way.steps] == [False, False, True] and len(way.drives) == 3
    assert way.gain == sum(s.gain for s in way.steps) and way.hours == pytest.approx(sum(s.hours for s in way.steps))
    way = by_id(ways(estate, pool, [100, 101]))["larger-drives"]
    assert "3 larger drives" in (way.why_not or "") and "are 2" in (way.why_not or "")
    estate, pool = house("stepped-1", [6 * TB] * 3, [8 * TB] * 3)
    way = by_id(ways(estate, pool))["larger-drives"]
    assert [bool(s.gain) for s in way.steps] == [False, True, True]
    estate, pool = house("parity-1", [6 * TB] * 3, [6 * TB])
    assert "larger than 6 TB" in (by_id(ways(estate, pool))["larger-drives"].why_not or "")


def test_what_is_to_be_known_of_a_drive_is_said_of_it() -> None:
    estate, pool = house("parity-1", [6 * TB] * 3, [6 * TB])
    drive = estate.drives[-1]
    assert remark_on(pool, drive) is None
    for changed, said in (
        (replace(drive, size=4 * TB), "smaller than its sets need"), (replace(drive, condition="failing"), "readings warn"),
        (replace(drive, kind=Kind.SSD), "another kind"), (replace(drive, holds="letters"), "letters"),
        (replace(drive, service="in-use", pool="q"), "in use in pool q"), (replace(drive, service="new"), None),
    ):  # fmt: skip
        assert (remark_on(pool, changed) is None) if said is None else said in (remark_on(pool, changed) or "")
    assert [
        d.id
        for d in free_drives(
            replace(estate, drives=(drive, replace(drive, id=7, service="new"), replace(drive, id=8, service="in-use")))
        )
    ] == [7, 100]


def test_while_something_else_is_under_way_every_way_says_so() -> None:
    estate, pool = house("parity-1", [6 * TB] * 3, [6 * TB] * 3)
    busy = replace(pool, under_way=(Under("restripe"),))
    found = by_id(ways(replace(estate, pools=(busy,)), busy))
    assert all("restripe" in (found[w].why_not or "").lower() for w in ("add-drives", "add-sets"))
    with pytest.raises(PairShelfError, match="one at a time"):
        KINDS["add-drives"].plan(
            replace(estate, pools=(busy,)), request_of("add-drives", {"pool": "p", "drives": (100,)})
        )


def test_a_span_grows_at_once_and_held_back_flash_is_a_way() -> None:
    estate, pool = house("span", [4 * TB, 6 * TB], [2 * TB])
    way = by_id(ways(estate, pool))["add-drives"]
    assert way.hours == 0 and way.gain == Drive("x", 2 * TB).extents * EXTENT
    estate, pool = house("copies-2", [1 * TB] * 2, [], kind=Kind.SSD)
    held = tuple(
        replace(p, drive=replace(p.drive, held_share=0.2, size=int(1.25 * TB))) for p in pool.places if p.drive
    )
    pool = replace(pool, places=held)
    way = by_id(ways(replace(estate, pools=(pool,)), pool))["hold-back"]
    assert way.gain > 0.2 * TB and way.hours == 0 and way.request == {"drives": [1, 2], "share": 0.0}


def test_one_set_alone_can_grow_with_a_word_of_warning() -> None:
    estate, pool = house("parity-1", [6 * TB] * 4 + [4 * TB] * 4, [6 * TB, 4 * TB], sets=2)
    found = by_id(ways(estate, pool, [100]))
    assert found["add-drives"].why_not is not None and "say which set" in found["add-drives"].why_not
    way = found["add-to-one-set"]
    assert (way.name, way.request["into"]) == ("one more drive for set 1 alone", 1)
    assert way.after is not None and way.after.describe() == "2 sets of 4 and 5"
    assert any("Set 1 takes longer to rebuild" in c for c in way.cautions)
    # The small one reaches only as high as the second set.
    assert by_id(ways(estate, pool, [101]))["add-to-one-set"].request["into"] == 2
    assert "add-to-one-set" not in by_id(ways(*house("parity-1", [6 * TB] * 4, [6 * TB])))
    assert "add-to-one-set" not in by_id(ways(*house("copies-2", [6 * TB] * 4, [6 * TB], sets=2)))

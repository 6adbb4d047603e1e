"""The comparison: complete, obedient to the needs, and the same every time."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from pairshelf.core.domain.drives import Drive, parse_shorthand
from pairshelf.core.domain.units import GIB
from pairshelf.core.figures.report import answer_json
from pairshelf.core.layouts import DIVIDED
from pairshelf.core.layouts.placement import Placement, columns_of
from pairshelf.core.search.candidates import Question, all_layouts
from tests.core.strategies import drives, layouts


@given(drives(1, 14), st.integers(0, 40 * 10**12), st.integers(0, 4), st.sampled_from([None, 0, 1]))
def test_every_result_obeys_the_needs(members: list[Drive], need: int, survive: int, spares: int | None) -> None:
    if spares is not None and spares >= len(members):
        return
    answer = all_layouts(members, Question(need=need, survive=survive, spares=spares, file_system="none"))
    for candidate in answer.layouts:
        assert candidate.space.usable >= need
        assert candidate.survives.guaranteed >= survive
        assert spares is None or len(candidate.layout.spares) == spares
    assert (answer.recommended is None) == (not answer.layouts)
    named = {c.layout.scheme.id for c in answer.layouts} | {r.scheme for r in answer.ruled_out}
    assert named == set(DIVIDED)


@given(st.integers(1, 40))
def test_every_division_into_equal_sets_is_there(count: int) -> None:
    answer = all_layouts([Drive(str(i), 4 * 10**12) for i in range(count)], Question(spares=0))
    found = {(c.layout.scheme.id, len(c.layout.sets)) for c in answer.layouts}
    least = {"parity-1": 3, "parity-2": 4, "parity-3": 5}
    for scheme, width in least.items():
        expected = {m for m in range(1, count + 1) if count % m == 0 and count // m >= width}
        assert {m for s, m in found if s == scheme} == expected
    assert ("copies-2" in {s for s, _ in found}) == (count % 2 == 0)


@given(drives(1, 10))
def test_same_question_same_answer(members: list[Drive]) -> None:
    assert answer_json(all_layouts(members)) == answer_json(all_layouts(list(members)))


def test_what_is_short_is_said() -> None:
    answer = all_layouts(parse_shorthand("4x4TB"), Question(need=100 * 10**12, file_system="none", spares=0))
    assert not answer.layouts
    reason = next(r.why for r in answer.ruled_out if r.scheme == "parity-1")
    assert "short of the need" in reason and "12 TB usable" in reason


@given(layouts(size=st.integers(2 * GIB, 9 * GIB), most=12))
def test_every_address_has_a_place_of_its_own(layout: object) -> None:
    placement = Placement(layout.bands)  # type: ignore[attr-defined]
    assert placement.capacity == layout.data_extents  # type: ignore[attr-defined]
    seen = set()
    for address in range(placement.capacity):
        spot = placement.spot(address)
        assert len(set(spot.stripe.columns)) == len(spot.stripe.columns)
        seen.add((spot.stripe.columns[spot.column], spot.stripe.row))
    assert len(seen) == placement.capacity
    runs = placement.runs(0, 10**9)
    assert sum(rows for *_, rows in runs) == layout.stripes  # type: ignore[attr-defined]


@given(layouts(size=st.just(40 * GIB), most=12))
def test_every_member_carries_its_share_of_parity(layout: object) -> None:
    for band in layout.bands:  # type: ignore[attr-defined]
        for group in band.groups:
            if group.code.value == "parity":
                n = len(group.members)
                carried = [columns_of(group, row)[group.data :] for row in range(n)]
                flat = [m for row in carried for m in row]
                assert all(flat.count(m) == group.parity for m in group.members)

"""Ranking, marks, arrangement, what is missing, growth, purchases and division by use."""

from __future__ import annotations

from dataclasses import replace
from itertools import permutations

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from pairshelf.core.changes.pools.larger_drives import best_order
from pairshelf.core.domain.drives import Drive, Kind, parse_shorthand
from pairshelf.core.domain.price_list import Model, with_models
from pairshelf.core.domain.units import GIB, format_chance, format_size
from pairshelf.core.errors import BadInput
from pairshelf.core.figures.assess import assess
from pairshelf.core.figures.assumptions import Assumptions, Backup
from pairshelf.core.figures.registry import FIGURES
from pairshelf.core.figures.space import space_account
from pairshelf.core.figures.survival import guaranteed_of, withstands
from pairshelf.core.figures.workloads import WORKLOADS
from pairshelf.core.layouts import Layout, build_layout
from pairshelf.core.layouts.arrange import arrange
from pairshelf.core.layouts.model import Family
from pairshelf.core.search.buy import shopping
from pairshelf.core.search.candidates import Candidate, Question, all_layouts, lay_out
from pairshelf.core.search.growth import growth
from pairshelf.core.search.ranking import safe_enough
from pairshelf.core.search.split import Use, split
from tests.core.strategies import drives

TB = 10**12


@given(drives(2, 12), st.sampled_from(list(WORKLOADS)))
def test_marks_are_the_front_and_nothing_else(members: list[Drive], workload: str) -> None:
    answer = all_layouts(members, Question(workload=workload, file_system="none"))
    table = [
        [
            (-1e300 if (v := f.value(c.assessment)) is None else v if f.more_is_better else -v)
            for f in FIGURES.values()
            if f.weighed
        ]
        for c in answer.layouts
    ]  # fmt: skip
    for row, candidate in zip(table, answer.layouts, strict=True):
        beaten = any(all(o >= r for o, r in zip(other, row, strict=True)) and other != row for other in table)
        assert candidate.pareto == (not beaten)
    assert answer.recommended == answer.layouts[0].key
    assert len({c.key for c in answer.layouts}) == len(answer.layouts)
    assert all(c.reasons.pros or c.reasons.cons for c in answer.layouts)


@pytest.mark.parametrize(
    ("drives", "workload", "scheme"),
    [
        ("8x14TB", "general", "parity-2"),
        ("8x4TB", "database", "copies-2"),
        ("4x2TB ssd", "virtual", "copies-2"),
        ("12x14TB", "archive", "parity-2"),
        ("2x4TB", "general", "copies-2"),
        ("3x2TB ssd", "general", "parity-1"),
    ],
)
def test_what_is_recommended_is_what_the_trade_would_say(drives: str, workload: str, scheme: str) -> None:
    best = all_layouts(parse_shorthand(drives), Question(workload=workload)).layouts[0]
    assert best.layout.scheme.id == scheme
    assert best.layout.width <= 10


@given(
    st.lists(st.tuples(st.integers(0, 3), st.sampled_from([4, 6, 8])), min_size=4, max_size=16),
    st.integers(1, 4), st.integers(1, 3),
)  # fmt: skip
def test_an_arrangement_is_found_exactly_when_there_is_one(
    given_: list[tuple[int, int]], sets: int, tolerance: int
) -> None:
    members = [Drive(f"d{i}", size * TB, shelf=f"s{shelf}") for i, (shelf, size) in enumerate(given_)]
    members = members[: len(members) // sets * sets]
    counts = [sum(d.shelf == s for d in members) for s in {d.shelf for d in members}]
    laid = arrange(members, sets, tolerance, "shelf")
    # No more than tolerance of a shelf in a set: each shelf gives at most sets x tolerance, and each set is
    # filled exactly when the shelves together can fill it.
    width = len(members) // sets
    possible = max(counts) <= sets * tolerance and sum(min(c, sets * tolerance) for c in counts) >= sets * width
    assert (laid is not None) == possible
    if laid is not None:
        assert sorted(d.id for d in laid) == sorted(d.id for d in members)
        for i in range(sets):
            one = laid[i * width : (i + 1) * width]
            assert max(sum(d.shelf == s for d in one) for s in {d.shelf for d in one}) <= tolerance


def test_the_search_proposes_what_a_shelf_may_fail_and_says_the_cost() -> None:
    stock = parse_shorthand("6x8TB@oak,6x4TB@elm")
    answer = all_layouts(stock, Question(survive_shelves=1))
    assert answer.layouts
    for candidate in answer.layouts:
        assert guaranteed_of(candidate.layout, "shelf") >= 1
    pairs = next(c for c in answer.layouts if c.layout.scheme.id == "copies-2" and not c.layout.spares)
    assert pairs.arranged == "shelf" and pairs.arranging_costs > 10 * TB
    assert any("The arrangement costs" in s for s in pairs.reasons.cons)
    again = lay_out(stock, "copies-2", 6, 0, arranged="shelf")
    assert again is not None and [d.id for d in again.members] == [d.id for d in pairs.layout.members]


@given(
    drives(2, 12), st.integers(0, 3), st.integers(0, 40 * TB), st.none() | st.integers(2, 8),
    st.none() | st.floats(0.5, 60), st.none() | st.floats(0, 2000), st.integers(0, 3),
)  # fmt: skip
def test_every_need_is_obeyed(
    members: list[Drive], survive: int, need: int, widest: int | None, limit: float | None, budget: float | None, free: int
) -> None:  # fmt: skip
    free = min(free, len(members) - 1)
    question = Question(
        survive=survive, need=need, widest=widest, rebuild_limit=limit, budget=budget, bays_free=free, file_system="none",
        given=Assumptions(price=150.0),
    )  # fmt: skip
    answer = all_layouts(members, question)
    for c in answer.layouts:
        a = c.assessment
        assert a.survives.guaranteed >= survive and a.space.usable >= need
        assert widest is None or c.layout.width <= widest or not c.layout.scheme.survives
        assert limit is None or (a.rebuild_hours is not None and a.rebuild_hours <= limit)
        assert budget is None or (a.cost.total or 0) <= budget
        assert len(c.layout.members) + len(c.layout.spares) <= len(members) - free
    assert len(answer.left_out) == free
    if not answer.layouts:
        assert all(n.missing for n in answer.nearest)


def test_a_backup_weighs_in() -> None:
    stock = parse_shorthand("5x4TB")

    def suggested(link: int) -> Candidate:
        given = Assumptions(backup=Backup("vault", 24, link))
        return all_layouts(stock, Question(given=given, spares=0)).layouts[0]

    slow, quick = suggested(125_000_000), suggested(5_000_000_000)
    assert slow.survives.guaranteed == 2, "a week's restore is no way out"
    assert quick.survives.guaranteed == 1 and quick.space.usable > slow.space.usable
    assert any("a restore takes only" in p for p in quick.reasons.pros)
    answer = all_layouts(stock, Question(given=Assumptions(backup=Backup("vault", 24, 125_000_000))))
    weak = next(c for c in answer.layouts if c.layout.scheme.id == "parity-1")
    assert any("newer than 24 h is gone" in c for c in weak.reasons.cons)


def test_what_is_missing_is_named() -> None:
    near = all_layouts(parse_shorthand("5x6TB"), Question(need=20 * TB, survive=2)).nearest
    first = near[0]
    assert first.scheme == "parity-2"
    assert any("short" in m for m in first.missing)
    assert any("one more 6 TB drive would do, as 1 set of 6" in m for m in first.missing)
    assert "survives" in " ".join(all_layouts(parse_shorthand("2x6TB"), Question(survive=3)).nearest[0].missing)


def test_kinds_are_kept_apart_unless_mixed() -> None:
    stock = parse_shorthand("6x8TB,2x2TB ssd")
    apart = all_layouts(stock)
    assert {c.part for c in apart.layouts} == {"rotating", "flash"}
    assert all(len({d.rotates for d in c.layout.members}) == 1 for c in apart.layouts)
    mixed = all_layouts(stock, Question(mix_kinds=True))
    assert {c.part for c in mixed.layouts} == {""}
    for c in mixed.layouts:
        together = len({d.rotates for d in c.layout.members}) == 2
        assert together == ("mixed-kinds" in {x.code for x in c.assessment.cautions})
    assert any(len(c.layout.members) == 8 for c in mixed.layouts)


def test_spares_for_each_shelf_stand_on_each() -> None:
    answer = all_layouts(parse_shorthand("5x8TB@a,5x8TB@b"), Question(spares=1, spares_for="shelf"))
    assert answer.layouts
    assert all(sorted(s.shelf or "" for s in c.layout.spares) == ["a", "b"] for c in answer.layouts)


@pytest.mark.parametrize(
    ("question", "field"),
    [
        (Question(survive=-1), "survive"), (Question(spares=9), "spares"), (Question(workload="games"), "workload"),
        (Question(widest=0), "widest"), (Question(rebuild_limit=0), "rebuild_limit"), (Question(budget=-1), "budget"),
        (Question(rebuild_limit=float("nan")), "rebuild_limit"), (Question(budget=float("nan")), "budget"),
        (Question(bays_free=8), "bays_free"), (Question(spares_for="moon"), "spares_for"),
        (Question(given=Assumptions(afr=2)), "afr"),
    ],
)  # fmt: skip
def test_questions_that_make_no_sense_are_refused_at_their_field(question: Question, field: str) -> None:
    with pytest.raises(BadInput) as caught:
        all_layouts(parse_shorthand("8x4TB"), question)
    assert caught.value.field == field


# -- growth -------------------------------------------------------------------------------------------


def _soon(layout: Layout, order: tuple[int, ...], size: int) -> int:
    """Capacity added up over all steps of replacing in this order: the more, the sooner it comes."""
    current, total = list(layout.members), 0
    for member in order:
        current[member] = replace(current[member], size=size)
        grown = build_layout(current, layout.scheme.id, sets=len(layout.sets))
        total += space_account(grown, file_system="none").usable
    return total


@settings(max_examples=25)
@given(
    st.sampled_from([("stepped-1", 1), ("stepped-2", 1), ("parity-1", 1), ("copies-2", 2), ("copies-2", 3), ("span", 1)]),
    st.lists(st.integers(2, 9), min_size=6, max_size=6), st.integers(8, 12),
)  # fmt: skip
def test_no_order_of_replacing_brings_capacity_sooner(scheme: tuple[str, int], sizes: list[int], target: int) -> None:
    name, sets = scheme
    count = 6 if sets != 2 else 4
    layout = build_layout([Drive(str(i), s * GIB + 2**28) for i, s in enumerate(sizes[:count])], name, sets=sets)
    size = target * GIB + 2**28
    found = best_order(layout, size)
    assert sorted(found) == [i for i, d in enumerate(layout.members) if d.size < size]
    assert _soon(layout, found, size) == max((_soon(layout, o, size) for o in permutations(found)), default=0)


@given(drives(3, 8), st.sampled_from(["stepped-1", "stepped-2"]), st.integers(2 * GIB, 20 * TB))
def test_a_drive_more_never_lowers_a_stepped_pool(members: list[Drive], scheme: str, size: int) -> None:
    before = space_account(build_layout(members, scheme), file_system="none").usable
    grown = build_layout([*members, Drive("more", size)], scheme)
    assert space_account(grown, file_system="none").usable >= before


def test_late_gains_are_said_beforehand() -> None:
    found = assess(build_layout(parse_shorthand("4x4TB"), "stepped-1"), Assumptions(), file_system="none")
    by_way = {p.way: p for p in growth(found, larger=8 * TB, file_system="none")}
    assert [s.gain > 0 for s in by_way["larger-drives"].steps] == [False, True, True, True]
    assert "after number 2" in (by_way["larger-drives"].said_before or "")
    assert by_way["add-set"].closed
    drive = by_way["add-drive"].steps[0]
    assert drive.gain == 3725 * GIB and drive.when == "when the restripe ends" and drive.hours > 5
    pairs = assess(build_layout(parse_shorthand("4x4TB"), "copies-2"), Assumptions(), file_system="none")
    ways = {p.way: p for p in growth(pairs, file_system="none")}
    assert ways["add-drive"].closed and ways["add-set"].steps[0].when == "at once"
    whole = assess(build_layout(parse_shorthand("6x4TB"), "parity-2"), Assumptions(), file_system="none")
    late = {p.way: p for p in growth(whole, larger=8 * TB, file_system="none")}["larger-drives"]
    assert [s.gain > 0 for s in late.steps] == [False] * 5 + [True]
    assert "after number 6" in (late.said_before or "")


# -- buying -------------------------------------------------------------------------------------------

LIST = (
    Model("A4", 4 * TB, Kind.HDD, 100.0, "EUR"), Model("B8", 8 * TB, Kind.HDD, 170.0, "EUR"),
    Model("C16", 16 * TB, Kind.HDD, 330.0, "EUR"), Model("F2", 2 * TB, Kind.SSD, 90.0, "EUR"), Model("N", 8 * TB, Kind.HDD),
)  # fmt: skip


@settings(max_examples=25)
@given(st.integers(2, 60), st.integers(0, 2), st.integers(2, 10))
def test_nothing_cheaper_meets_the_needs(need: int, survive: int, bays: int) -> None:
    question = Question(need=need * TB, survive=survive, file_system="none", spares=0)
    found = shopping(LIST, bays, question)
    for p in found.purchases:
        assert p.count <= bays and p.assessment.space.usable >= need * TB
        assert p.assessment.survives.guaranteed >= survive and p.cost == p.count * (p.model.price or 0)
    prices = []
    for model in LIST[:4]:
        for count in range(1, bays + 1):
            answer = all_layouts([model.drive(str(i)) for i in range(count)], question)
            if answer.layouts:
                prices.append(count * (model.price or 0))
    assert (found.cheapest_now.cost if found.cheapest_now else None) == min(prices, default=None)
    assert ("N", "It has no price.") in found.ruled_out
    assert {p.model.name for p in found.purchases} | {n for n, _ in found.ruled_out} == {m.name for m in LIST}


def test_growth_steps_are_paid_for_and_reached() -> None:
    then = (24 * TB, 40 * TB)
    found = shopping(LIST, 12, Question(need=12 * TB, survive=1, file_system="none"), then=then)
    best = found.cheapest_in_all
    assert best is not None and [s.need for s in best.later] == list(then)
    assert all(s.usable >= s.need for s in best.later)
    assert best.cost_in_all == best.later[-1].cost
    assert best.count + sum(s.add for s in best.later) <= 12
    for p in found.purchases:
        assert (p.cost_in_all is None) == (len(p.later) < 2)
    assert best.cost_in_all == min(p.cost_in_all for p in found.purchases if p.cost_in_all is not None)
    with_some = shopping(LIST, 12, Question(need=12 * TB, survive=1, file_system="none"), have=parse_shorthand("3x4TB"))
    assert with_some.cheapest_now is not None and with_some.cheapest_now.cost < (found.cheapest_now or best).cost


@pytest.mark.parametrize(
    ("bays", "question", "then", "field"),
    [
        (0, Question(need=TB), (), "bays"), (999, Question(need=TB), (), "bays"), (4, Question(), (), "need"),
        (4, Question(need=9 * TB), (8 * TB,), "then"), (4, Question(need=TB), (2 * TB, 3 * TB, 4 * TB), "then"),
        (4, Question(need=TB, bays_free=4), (), "bays_free"),
    ],
)  # fmt: skip
def test_purchases_that_make_no_sense_are_refused(
    bays: int, question: Question, then: tuple[int, ...], field: str
) -> None:
    with pytest.raises(BadInput) as caught:
        shopping(LIST, bays, question, then=then)
    assert caught.value.field == field


def test_a_models_figures_stand_in_for_those_a_drive_lacks() -> None:
    model = Model("Keel", 4 * TB, Kind.HDD, 99.0, "EUR", ops=77, afr=0.5)
    plain, own = with_models([Drive("a", TB, model="keel"), Drive("b", TB, model="Keel", afr=0.1, price=5.0)], [model])
    assert (plain.ops, plain.afr, plain.price, plain.currency) == (77, 0.5, 99.0, "EUR")
    assert (own.ops, own.afr, own.price, own.currency) == (77, 0.1, 5.0, None)


# -- order --------------------------------------------------------------------------------------------


@pytest.mark.parametrize("stock", ["6x8TB@oak,6x8TB@elm", "4x4TB@a,4x4TB@b,4x4TB@c,4x4TB@d", "3x2TB@a,3x2TB@b"])
@pytest.mark.parametrize("workload", ["general", "database", "media"])
def test_of_equal_layouts_the_one_that_survives_a_shelf_goes_before(stock: str, workload: str) -> None:
    found = all_layouts(parse_shorthand(stock), Question(survive=1, workload=workload)).layouts
    divisions: dict[tuple[object, ...], list[int]] = {}
    for c in found:
        key = (c.layout.scheme.id, len(c.layout.sets), len(c.layout.spares), c.space.usable)
        divisions.setdefault(key, []).append(len(withstands(c.layout)))
    assert any(len(set(alike)) > 1 for alike in divisions.values())
    for alike in divisions.values():
        assert alike == sorted(alike, reverse=True)
    assert all(("shelf" in withstands(c.layout)) == (guaranteed_of(c.layout, "shelf") > 0) for c in found)


def test_drives_of_one_size_have_no_row_for_the_same_layout_under_another_name() -> None:
    for count in (2, 3, 4, 6):
        plain = all_layouts(parse_shorthand(f"{count}x4TB"), Question())
        assert not any(c.layout.scheme.family is Family.STEPPED for c in plain.layouts)
        assert "stepped-1" in {r.scheme for r in plain.ruled_out}
        later = all_layouts(parse_shorthand(f"{count}x4TB"), Question(larger_later=True))
        shapes = [(c.space.usable, c.survives, len(c.layout.sets), len(c.layout.spares), c.layout.width)
                  for c in later.layouts if c.survives.guaranteed]  # fmt: skip
        assert len(shapes) == len(set(shapes))
        assert "stepped-1" in {c.layout.scheme.id for c in later.layouts}
    mixed = all_layouts(parse_shorthand("3x4TB,2x8TB"), Question())
    assert {"stepped-1", "parity-1"} <= {c.layout.scheme.id for c in mixed.layouts}


def test_a_recorded_backup_counts_and_the_next_protection_is_priced() -> None:
    stock = parse_shorthand("8x8TB")
    link = {
        rate: Question(survive=1, given=Assumptions(backup=Backup("vault", 24.0, rate))) for rate in (10**8, 10**10)
    }
    bare, slow, fast = all_layouts(stock, Question(survive=1)), *(all_layouts(stock, q) for q in link.values())
    assert "recorded backup" not in (bare.reason or "")
    for one in (slow, fast):
        best, further = one.layouts[:2]
        assert further.survives.guaranteed == best.survives.guaranteed + 1
        said = one.reason or ""
        assert f"({further.layout.scheme.id}, {further.layout.describe()})" in said
        cost = best.space.usable - further.space.usable
        assert f"costs {format_size(cost)}" in said if cost > 0 else "costs no capacity" in said
        assert format_chance(best.assessment.odds.yearly_damage) in said
    # The better the backup, the less capacity protection is worth.
    assert (
        safe_enough(stock, Assumptions())
        > safe_enough(stock, link[10**8].given)
        > safe_enough(stock, link[10**10].given)
    )
    sure = [one.layouts[0].survives.guaranteed for one in (bare, slow, fast)]
    assert sure == sorted(sure, reverse=True)


# -- splitting ----------------------------------------------------------------------------------------


def test_uses_get_the_kind_that_suits_them() -> None:
    uses = [Use("images", "media", 30 * TB, 1), Use("log", "database", TB, 1)]
    found = split(parse_shorthand("8x8TB,2x2TB ssd"), uses)
    assert found.meets
    images, log = found.shares
    assert all(d.rotates for d in images.drives) and not any(d.rotates for d in log.drives)
    assert images.best is not None and images.best.space.usable >= 30 * TB
    assert found.one_pool is not None and any("small writes" in s for s in found.compared)


@settings(max_examples=30)
@given(st.integers(4, 12), st.integers(1, 20), st.integers(1, 20))
def test_every_drive_goes_to_one_use_and_needs_are_met_where_they_can_be(count: int, first: int, second: int) -> None:
    stock = parse_shorthand(f"{count}x4TB")
    uses = [Use("a", "archive", first * TB, 1), Use("b", "general", second * TB, 1)]
    found = split(stock, uses, Question(file_system="none"))
    assert sorted(d.id for s in found.shares for d in s.drives) == sorted(d.id for d in stock)
    possible = any(
        all_layouts(stock[:k], Question(need=first * TB, survive=1, spares=0, file_system="none")).layouts
        and all_layouts(stock[k:], Question(need=second * TB, survive=1, spares=0, file_system="none")).layouts
        for k in range(1, count)
    )
    assert found.meets == possible


def test_divisions_that_make_no_sense_are_refused() -> None:
    for stock, uses in (("4x4TB", 1), ("4x4TB", 5), ("1x4TB", 2)):
        with pytest.raises(BadInput):
            split(parse_shorthand(stock), [Use(str(i), "general") for i in range(uses)])
    with pytest.raises(BadInput):
        split(parse_shorthand("4x4TB"), [Use("a", "games"), Use("b", "general")])


def test_a_use_gets_the_layout_that_is_suggested_for_the_same_drives() -> None:
    """Five drives for a database: pairs and a spare, as in the comparison, not double parity."""
    stock = parse_shorthand("10x4TB")
    uses = [Use("log", "database", 0, 1, tuple(d.id for d in stock[:5])), Use("images", "media", 0, 1)]
    found = split(stock, uses)
    for share in found.shares:
        asked = all_layouts(share.drives, Question(survive=1, workload=share.use.workload))
        assert share.best is not None and share.best.key == asked.layouts[0].key
    assert found.shares[0].best is not None and found.shares[0].best.layout.scheme.id == "copies-2"
    assert [d.id for d in found.shares[0].drives] == [d.id for d in stock[:5]]
    assert [d.id for d in found.shares[1].drives] == [d.id for d in stock[5:]]


def test_drives_are_picked_for_uses() -> None:
    stock = parse_shorthand("8x4TB")
    ids = [d.id for d in stock]
    both = split(stock, [Use("a", "general", 0, 1, tuple(ids[2:5])), Use("b", "general", 0, 1, tuple(ids[5:8]))])
    assert [[d.id for d in s.drives] for s in both.shares] == [ids[2:5], ids[5:8]]
    three = split(
        stock, [Use("a", "general", 0, 1, tuple(ids[:2])), Use("b", "media", 0, 1), Use("c", "general", 0, 1)]
    )
    assert sorted(d.id for s in three.shares[1:] for d in s.drives) == sorted(ids[2:])
    wrong = [
        (("nowhere",), (), "uses.0.drives"), ((ids[0],), (ids[1], ids[0]), "uses.1.drives"), (tuple(ids), (), "uses.1.drives"),
    ]  # fmt: skip
    for first, second, field in wrong:
        with pytest.raises(BadInput) as refused:
            split(stock, [Use("a", "general", 0, 1, first), Use("b", "general", 0, 1, second)])
        assert refused.value.field == field


def test_it_is_said_where_one_pool_is_better() -> None:
    apart = split(parse_shorthand("4x4TB"), [Use("a", "archive", 5 * TB, 1), Use("b", "archive", 5 * TB, 1)])
    assert not apart.meets and apart.one_pool_better
    alike = split(parse_shorthand("6x4TB"), [Use("a", "archive", 0, 1), Use("b", "archive", 0, 1)])
    assert alike.one_pool is not None
    parts = [s.best for s in alike.shares if s.best]
    more = alike.one_pool.space.usable >= sum(b.space.usable for b in parts)
    writes = all(alike.one_pool.assessment.small_writes / 2 >= b.assessment.small_writes for b in parts)
    safe = alike.one_pool.survives.guaranteed >= max(b.survives.guaranteed for b in parts)
    assert alike.one_pool_better == (more and writes and safe)
    assert alike.one_pool_better == any(s.startswith("One pool for all is better") for s in alike.compared)

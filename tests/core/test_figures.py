"""Speed, rebuild hours, cost, cautions, doors and explanations, held against the rules worked out by hand."""

from __future__ import annotations

import datetime as dt
from dataclasses import replace

import pytest
from hypothesis import given

from pairshelf.core.changes.doors import doors, fixed
from pairshelf.core.changes.later import Opening
from pairshelf.core.domain.drives import Drive, Kind, parse_shorthand
from pairshelf.core.domain.file_systems import FILE_SYSTEMS
from pairshelf.core.domain.units import GIB
from pairshelf.core.errors import BadInput
from pairshelf.core.figures.assess import assess
from pairshelf.core.figures.assumptions import Assumptions, Backup, assume, basis
from pairshelf.core.figures.cautions import CAUTIONS
from pairshelf.core.figures.registry import explanations
from pairshelf.core.figures.report import layout_json
from pairshelf.core.layouts import DIVIDED, Layout, build_layout
from tests.core.strategies import layouts

#: Alike for all: 200 MB/s and 150 operations.
ALIKE = Assumptions(rate=200_000_000, ops=150, afr=0.02, uber=1e-15)


def _assess(text: str, scheme: str, given: Assumptions = ALIKE, **more: int):  # type: ignore[no-untyped-def]
    return assess(build_layout(assume(parse_shorthand(text), given), scheme, **more), given, file_system="none")


@pytest.mark.parametrize(
    ("drives", "scheme", "sets", "reads", "rmw", "whole", "sequential_read", "sequential_write"),
    [
        ("12x4TB", "copies-2", 6, 1800, 900, 900, 2.4e9, 1.2e9),
        ("12x4TB", "copies-3", 4, 1800, 600, 600, 2.4e9, 0.8e9),
        ("12x4TB", "parity-1", 2, 1800, 450, 300, 2.0e9, 2.0e9),
        ("12x4TB", "parity-2", 1, 1800, 300, 150, 2.0e9, 2.0e9),
        ("12x4TB", "parity-3", 2, 1800, 225, 300, 1.2e9, 1.2e9),
        ("12x4TB", "stripe", 1, 1800, 1800, 1800, 2.4e9, 2.4e9),
        ("12x4TB", "span", 1, 150, 150, 150, 0.2e9, 0.2e9),
        ("6x4TB,6x8TB", "stepped-2", 1, 1800, 300, 150, 2.0e9, 2.0e9),
        ("1x4TB", "single", 1, 150, 150, 150, 0.2e9, 0.2e9),
    ],
)
def test_speed_by_the_rules(
    drives: str, scheme: str, sets: int, reads: float, rmw: float, whole: float, sequential_read: float, sequential_write: float
) -> None:  # fmt: skip
    speed = _assess(drives, scheme, sets=sets).speed
    assert speed.as_dict() == {
        "random_read": reads, "random_write_rmw": rmw, "random_write_whole_stripe": whole,
        "sequential_read": sequential_read, "sequential_write": sequential_write,
    }  # fmt: skip


def test_rebuild_hours_by_the_rules() -> None:
    extents = (6 * 10**12 - 256 * 2**20) // GIB
    plain = _assess("8x6TB", "parity-2")
    assert plain.rebuild_hours == pytest.approx(extents * GIB / 200e6 / 3600)
    users = _assess("8x6TB", "parity-2", replace(ALIKE, user_share=0.3))
    assert users.rebuild_hours == pytest.approx((plain.rebuild_hours or 0) / 0.7)
    assert plain.repair_hours == pytest.approx((plain.rebuild_hours or 0) + 24)
    assert _assess("9x6TB", "parity-2", spares=1).repair_hours == pytest.approx(plain.rebuild_hours)
    small_spare = build_layout(assume([*parse_shorthand("8x6TB"), Drive("s", 4 * 10**12)], ALIKE), "parity-2", spares=1)
    assert assess(small_spare, ALIKE).repair_hours == pytest.approx(plain.repair_hours)
    # The slowest set counts: 8 TB in the second.
    assert _assess("4x4TB,4x8TB", "parity-1", sets=2).rebuild_hours == pytest.approx(
        (8 * 10**12 - 256 * 2**20) // GIB * GIB / 200e6 / 3600
    )
    assert _assess("4x6TB", "stripe").rebuild_hours is None


def test_links_are_shared_by_their_streams() -> None:
    linked = [replace(d, shelf="a", link=400_000_000) for d in assume(parse_shorthand("8x6TB"), ALIKE)]
    found = assess(build_layout(linked, "parity-2"), ALIKE)
    plain = _assess("8x6TB", "parity-2")
    # Seven sources and the new drive: eight streams on 400 MB/s leave 50 MB/s each.
    assert found.rebuild_hours == pytest.approx(4 * (plain.rebuild_hours or 0))
    assert found.speed.sequential_read == 400_000_000
    apart = [replace(d, shelf="ab"[i % 2], link=4_000_000_000) for i, d in enumerate(linked)]
    assert assess(build_layout(apart, "parity-2"), ALIKE).rebuild_hours == pytest.approx(plain.rebuild_hours)
    hosts = [replace(d, host=f"h{i % 4}") for i, d in enumerate(apart)]
    over = assess(build_layout(hosts, "parity-2"), replace(ALIKE, network=800_000_000))
    assert over.rebuild_hours == pytest.approx(2 * (plain.rebuild_hours or 0))


def test_cost_and_restore() -> None:
    given = replace(ALIKE, price=100.0, tariff=0.30, backup=Backup("vault", 24, 125_000_000))
    found = _assess("9x4TB", "parity-2", given, spares=1)
    assert found.cost.total == 900 and found.cost.per_usable_tb == pytest.approx(900 / (found.space.usable / 1e12))
    assert found.cost.watts == pytest.approx(63) and found.cost.yearly_power == pytest.approx(63 * 8.766 * 0.30)
    assert found.restore_hours == pytest.approx(found.space.usable / 125e6 / 3600)
    assert _assess("4x4TB", "parity-1").cost.total is None
    mixed = [replace(d, price=1.0, currency=c) for d, c in zip(parse_shorthand("3x4TB"), "ABA", strict=True)]
    assert assess(build_layout(mixed, "parity-1"), ALIKE).cost.total is None, "currencies are not added up"


@given(layouts(most=14))
def test_every_layout_can_be_told_in_full(layout: Layout) -> None:
    """Every figure that is shown is explained, with a number in it; the report has no holes."""
    given = Assumptions(price=10.0, backup=Backup("b", 1, 10**8))
    found = assess(layout, given)
    told = {e.figure: e for e in explanations(found, "ext4")}
    shown = {
        "usable",
        "guaranteed",
        "best_case",
        "curve",
        "yearly_loss",
        "yearly_damage",
        "mttdl_hours",
        "restore_hours",
    }
    assert shown | set(found.speed.as_dict()) <= set(told)
    assert ("rebuild_hours" in told) == (found.rebuild_hours is not None)
    assert all(any(c.isdigit() for c in e.numbers) and e.formula and e.source for e in told.values())
    assert f"{found.space.usable:,}" in told["usable"].numbers
    report = layout_json(found)
    assert set(report["survives"]) == {"guaranteed", "best_case", "curve"}
    assert 0 <= report["yearly_loss"] <= report["yearly_damage"] * (1 + 1e-9)
    assert {d.change for d in doors(layout)} == {
        d.change for d in doors(build_layout(parse_shorthand("4x4TB"), "parity-1"))
    }
    assert {c["code"] for c in report["cautions"]} <= set(CAUTIONS)


def _codes(drives: list[Drive], scheme: str, given: Assumptions = ALIKE, **more: int) -> set[str]:
    return {c.code for c in assess(build_layout(drives, scheme, **more), given).cautions}


def test_every_caution_has_its_occasion() -> None:
    plain = list(parse_shorthand("12x4TB"))
    usual = {"no-backup"}
    found = {
        "no-redundancy": _codes(plain, "stripe"),
        "single-parity-large": _codes(list(parse_shorthand("8x18TB")), "parity-1"),
        "wide-set": _codes(plain, "parity-2"),
        "uneven": _codes(list(parse_shorthand("4x4TB,2x8TB")), "parity-1"),
        "grows-by-more-than-one": _codes(plain, "copies-2", sets=6),
        "no-backup": _codes(plain[:6], "parity-2"),
        "no-error-recovery-limit": _codes([replace(d, model="Desk", error_recovery=None) for d in plain[:4]], "parity-1"),
        "one-shelf": _codes([replace(d, shelf="a") for d in plain], "parity-1", sets=2),
        "one-batch": _codes([replace(d, model="M", error_recovery=7, serial=f"AA{100 + i}") for i, d in enumerate(plain[:4])], "parity-1"),
        "mixed-kinds": _codes([*plain[:3], replace(plain[3], kind=Kind.SSD)], "parity-1"),
        "overloaded": _codes(plain[:6], "parity-2", replace(ALIKE, user_writes=149)),
        "spare-too-small": _codes([*plain[:4], Drive("s", 10**12)], "parity-1", spares=1),
    }  # fmt: skip
    assert set(found) == set(CAUTIONS)
    assert all(code in codes for code, codes in found.items())
    assert _codes(plain[:6], "parity-2") == usual
    assert _codes(plain[:6], "parity-2", replace(ALIKE, backup=Backup("b", 1, 10**8))) == set()
    days = [replace(d, model="M", error_recovery=7, serial=f"X{i * 1000}", in_service=dt.date(2026, 1, 1 + 7 * (i % 2)))
            for i, d in enumerate(plain[:4])]  # fmt: skip
    assert "one-batch" in _codes(days, "parity-1"), "neighbouring dates are a batch as well"


@pytest.mark.parametrize("scheme", list(DIVIDED))
def test_doors_say_what_the_table_of_changes_says(scheme: str) -> None:
    count = {"single": 1, "copies-2": 4, "copies-3": 6}.get(scheme, 6)
    layout = build_layout(parse_shorthand(f"{count}x4TB"), scheme)
    by_change = {d.change: d for d in doors(layout)}
    assert all(d.why.endswith(".") for d in by_change.values())
    closed = {c for c, d in by_change.items() if d.opening is Opening.CLOSED}
    assert ("add-drive" in closed) == (scheme in ("single", "stripe", "copies-2", "copies-3"))
    assert ("add-set" in closed) == (DIVIDED[scheme].survives == 0 or scheme.startswith("stepped"))
    assert ("replace-failed" in closed) == (DIVIDED[scheme].survives == 0)
    assert ("change-scheme" in closed) == (scheme in ("span", "stripe"))
    assert fixed(layout)


def test_every_file_system_says_whether_it_shrinks() -> None:
    layout = build_layout(parse_shorthand("4x4TB"), "parity-1")
    said = {fs: {d.change: d.opening for d in doors(layout, fs)}["shrink-volume"] for fs in FILE_SYSTEMS}
    assert said["xfs"] is Opening.CLOSED and said["btrfs"] is Opening.OPEN and said["ext4"] is Opening.AT_A_COST


def test_the_basis_says_where_each_figure_comes_from() -> None:
    drives = [replace(d, afr=0.03) if i else d for i, d in enumerate(parse_shorthand("4x4TB"))]
    by_name = {b.name: b for b in basis(drives, Assumptions(rate=1))}
    assert by_name["rate"].source.startswith("given in this question")
    assert "3 of 4" in by_name["afr"].source and by_name["afr"].value == pytest.approx((3 * 0.03 + 0.015) / 4)
    assert "default" in by_name["uber"].source


@pytest.mark.parametrize(
    ("given", "field"),
    [
        (Assumptions(afr=1.0), "afr"), (Assumptions(afr=-0.1), "afr"), (Assumptions(uber=1.0), "uber"),
        (Assumptions(rate=0), "rate"), (Assumptions(ops=-5), "ops"), (Assumptions(user_share=1.0), "user_share"),
        (Assumptions(replace_hours=-1), "replace_hours"), (Assumptions(price=-1), "price"),
        (Assumptions(afr=float("nan")), "afr"), (Assumptions(network=0), "network"),
    ],
)  # fmt: skip
def test_assumptions_that_make_no_sense_are_refused_at_their_field(given: Assumptions, field: str) -> None:
    with pytest.raises(BadInput) as caught:
        given.checked()
    assert caught.value.field == field


def test_wide_sets_rebuild_slower_in_use() -> None:
    """Whole-stripe writes are one operation on every drive of a set: fewer sets, more for each drive."""
    busy = replace(ALIKE, user_writes=60, whole_stripes=True)
    hours = [_assess("12x4TB", "parity-2", busy, sets=m).rebuild_hours or 0 for m in (1, 2, 3)]
    idle = _assess("12x4TB", "parity-2").rebuild_hours or 0
    assert hours == pytest.approx([idle / (1 - 60 / (m * 150)) for m in (1, 2, 3)])
    changed = _assess("12x4TB", "parity-2", replace(busy, whole_stripes=False), sets=2)
    assert changed.rebuild_hours == pytest.approx(idle / (1 - 60 / 300))
    assert _assess("12x4TB", "parity-2", replace(busy, user_writes=10_000)).rebuild_hours == pytest.approx(idle / 0.05)

"""What may be believed of drives that say they belong to a pool."""

from __future__ import annotations

import datetime as dt
from itertools import combinations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from pairshelf.core.domain.drives import Drive
from pairshelf.core.domain.found import FoundMember, FoundPool, Hanging, Standing
from pairshelf.core.domain.records import Head, ReadDrive, RecordedMember
from pairshelf.core.domain.units import TB
from pairshelf.core.figures.survival import after_failures
from pairshelf.core.layouts import build_layout
from pairshelf.core.policies.bringing_in import (
    in_words,
    left_over,
    needed,
    newest,
    short_of,
    standing_of,
    standings,
    why_not_made_again,
)

AT = dt.datetime(2026, 11, 20, tzinfo=dt.UTC)


def head(serial: str, generation: int, *members: RecordedMember) -> Head:
    return Head("a" * 32, "moor", generation, AT, "house", serial, members)


def read(serial: str, own: Head | None, marked: int = 0) -> ReadDrive:
    return ReadDrive(serial, 1, "loft bay 1", own, marked)


MEMBER = RecordedMember("A", 0, 4 * TB, "hdd", 9, 7)


@pytest.mark.parametrize(
    ("generation", "away", "complete", "standing"),
    [
        (9, False, True, Standing.CURRENT),
        (8, False, True, Standing.OLDER),
        (7, False, True, Standing.OLDER),
        (7, False, False, Standing.CURRENT),
        (6, False, False, Standing.OLDER),
        (9, True, True, Standing.BEHIND),
        (8, True, True, Standing.OLDER),
        (None, False, True, Standing.DAMAGED),
    ],
)
def test_how_a_member_is(generation: int | None, away: bool, complete: bool, standing: Standing) -> None:
    own = read("A", head("A", generation) if generation is not None else None)
    assert standing_of(MEMBER, own, away=away, complete=complete) is standing
    assert standing_of(MEMBER, None, away=away, complete=complete) is Standing.AWAY


def test_one_that_never_had_a_record_before_one_that_not_all_have_lacks_nothing() -> None:
    fresh = RecordedMember("A", 0, 4 * TB, "hdd", 9, 0)
    assert standing_of(fresh, read("A", None), away=False, complete=False) is Standing.CURRENT
    assert standing_of(fresh, read("A", None), away=False, complete=True) is Standing.DAMAGED


def test_a_record_that_stands_on_another_drive_than_it_names_proves_nothing() -> None:
    copied = head("A", 99, MEMBER)
    true = head("B", 9, MEMBER)
    assert newest([read("Z", copied), read("B", true)]) == true
    assert standing_of(MEMBER, read("A", head("B", 9)), away=False, complete=True) is Standing.DAMAGED
    assert [r.serial for r in left_over(true, [read("Z", copied), read("A", copied)])] == ["Z"]


def test_one_mark_on_any_drive_is_enough() -> None:
    other = RecordedMember("B", 1, 4 * TB, "hdd", 9, 7)
    top = head("B", 9, MEMBER, other)
    reads = [read("A", head("A", 7)), read("B", top)]
    assert standings(top, reads, ())["A"] is Standing.CURRENT
    assert standings(top, [reads[0], read("B", top, 9)], ())["A"] is Standing.OLDER
    assert standings(top, [reads[0], read("B", top, 8)], ())["A"] is Standing.CURRENT


LAYOUTS = [
    build_layout([Drive(str(i), 4 * TB) for i in range(6)], "parity-2"),
    build_layout([Drive(str(i), 4 * TB) for i in range(8)], "parity-1", sets=2),
    build_layout([Drive(str(i), 4 * TB) for i in range(6)], "copies-2", sets=3),
    build_layout([Drive(str(i), s * TB) for i, s in enumerate((2, 2, 4, 6))], "stepped-1"),
]


@given(st.sampled_from(LAYOUTS), st.data())
def test_what_is_needed_is_enough_and_nothing_less_is(layout: object, data: st.DataObject) -> None:
    ids = [m.id for m in layout.members]  # type: ignore[attr-defined]
    away = data.draw(st.sets(st.sampled_from(ids)))
    could = data.draw(st.lists(st.sampled_from(sorted(away)), unique=True)) if away else []
    asked = needed(layout, away, could)  # type: ignore[arg-type]
    assert set(asked) <= set(could)
    survives = after_failures(layout, away - set(asked)).survives  # type: ignore[arg-type]
    assert survives or set(asked) == set(could)
    if survives:
        for fewer in range(len(asked)):
            for some in combinations(could, fewer):
                assert not after_failures(layout, away - set(some)).survives  # type: ignore[arg-type]


def pool(*standing: Standing, state: str = "active", missed: int | None = None) -> FoundPool:
    layout = build_layout([Drive(str(i), 4 * TB) for i in range(len(standing))], "parity-1")
    members = tuple(
        FoundMember(f"M{i}", i, 4 * TB, s, "missing" if s is Standing.BEHIND else state, None if s is Standing.AWAY else i + 1,
                    missed=missed if s is Standing.BEHIND else None)
        for i, s in enumerate(standing)
    )  # fmt: skip
    return FoundPool("a" * 32, "moor", layout=layout, members=members)


def test_in_words() -> None:
    here, away, older = Standing.CURRENT, Standing.AWAY, Standing.OLDER
    assert in_words(pool(here, here, here)) == "3 of the 3 drives of pool moor are here; it can be brought in."
    assert in_words(pool(here, here, away)).endswith("it can be brought in, without M2 for now.")
    assert in_words(pool(here, away, away)).endswith("at least 1 more is needed: M1.")
    assert short_of(pool(here, older, older)) is None
    assert in_words(pool(here, older, older)).endswith("even with those that are away it could not be read.")
    assert short_of(pool(here, older, away)) == ("M2",)
    assert "cannot be read on the drives" in in_words(FoundPool("a" * 32, "moor", unreadable="torn"))


def test_those_that_were_away_while_nothing_was_written_are_whole() -> None:
    behind = Standing.BEHIND
    assert short_of(pool(behind, behind, behind, missed=0)) == ()
    assert short_of(pool(behind, behind, behind, missed=16)) is None
    assert short_of(pool(behind, behind, behind, missed=None)) is None


def test_why_something_is_not_made_again() -> None:
    mount = Hanging("mount", "v", "the mount", "elm", "/srv/v")
    share = Hanging("share", "v", "the share", "", "Bogs")
    disk = Hanging("disk", "v", "the disk", "elm", "iqn.t")
    ask = why_not_made_again
    assert ask(mount, {"elm"}, set(), set(), set()) is None
    assert "no host elm" in (ask(mount, {"ash"}, set(), set(), set()) or "")
    assert "mounted there" in (ask(mount, {"elm"}, {("elm", "/srv/v")}, set(), set()) or "")
    assert ask(mount, {"elm"}, {("ash", "/srv/v")}, set(), set()) is None
    assert "share of that name" in (ask(share, set(), set(), {"bogs"}, set()) or "")
    assert "name is taken" in (ask(disk, {"elm"}, set(), set(), {"iqn.t"}) or "")

"""Durations, what needs a person, and what a sheet says: the words and hours people decide by."""

from __future__ import annotations

import pytest
from hypothesis import given

from pairshelf.core.changes.pools import build_pool
from pairshelf.core.domain.drives import Drive, Kind, parse_shorthand
from pairshelf.core.domain.estate import Estate, EstateDrive, EstateHost
from pairshelf.core.domain.units import GIB
from pairshelf.core.errors import BadInput, NotPossible, PairShelfError
from pairshelf.core.figures import durations
from pairshelf.core.figures.speed import sequential_read, sequential_write
from pairshelf.core.layouts import Layout, build_layout
from pairshelf.core.policies.attention import Gravity, NotedDrive, PoolFacts, matters
from tests.core.strategies import layouts


def _equal(count: int, rate: int = 200_000_000, size: int = 6 * 10**12) -> list[Drive]:
    return [Drive(str(i), size, Kind.HDD, rate) for i in range(count)]


def test_a_rebuild_worked_by_hand() -> None:
    """5,587 extents of 1 GiB at 200 MB/s: 29,994.8 s; users at 0.8 make it five times as long."""
    layout = build_layout(_equal(6), "parity-2")
    takes = durations.rebuild(layout, "2")
    assert takes.idle == pytest.approx(5587 * GIB / 200_000_000)
    assert takes.gentle == pytest.approx(5 * takes.idle)
    assert takes.fast == pytest.approx(1.25 * takes.idle)
    slow = Drive("new", 6 * 10**12, Kind.HDD, 100_000_000)
    assert durations.rebuild(layout, "2", slow).idle == pytest.approx(2 * takes.idle)


def test_the_slowest_source_that_is_still_there_counts() -> None:
    drives = [*_equal(4), Drive("slow", 6 * 10**12, Kind.HDD, 50_000_000)]
    layout = build_layout(drives, "parity-2")
    assert durations.rebuild(layout, "0").idle == pytest.approx(5587 * GIB / 50_000_000)
    assert durations.rebuild(layout, "0", absent={"slow"}).idle == pytest.approx(5587 * GIB / 200_000_000)


@given(layouts())
def test_without_redundancy_there_is_nothing_to_bring_in_step(layout: Layout) -> None:
    guarded = layout.scheme.survives > 0
    assert (durations.first_sync(layout) is not None) == guarded
    assert (durations.slowest_rebuild(layout) is not None) == guarded
    assert durations.check(layout).idle > 0
    assert sequential_read(layout) >= sequential_write(layout) > 0
    if not guarded:
        with pytest.raises(NotPossible):
            durations.rebuild(layout, layout.members[0].id)


def _matters(*pools: PoolFacts, **more: object) -> list[object]:
    usual: dict[str, object] = {
        "new_drives": 0, "drives": (), "drafts": (), "worker_away": False, "no_drives": False, "free_drives": 0,
        "no_pools": False,
    }  # fmt: skip
    return matters(pools, **{**usual, **more})  # type: ignore[arg-type,return-value]


def _facts(
    state: str, *, empty: int = 0, rebuilding: bool = False, differing: int = 0, unsettled: int = 0
) -> PoolFacts:
    return PoolFacts(1, "cold", state, empty, rebuilding, differing, unsettled)


def test_nothing_needs_nobody() -> None:
    assert _matters(_facts("healthy")) == []


@pytest.mark.parametrize(
    ("facts", "gravity", "words"),
    [
        (_facts("lost", empty=3), Gravity.NOW, "is lost"),
        (_facts("unreachable", empty=2), Gravity.NOW, "Nothing is lost"),
        (_facts("unprotected", empty=1), Gravity.NOW, "Survives no further failure"),
        (_facts("degraded", empty=1), Gravity.SOON, "is degraded"),
        (_facts("degraded", rebuilding=True), Gravity.SOON, "It is being rebuilt."),
        (_facts("healthy", differing=2), Gravity.NOW, "2 files"),
        (_facts("healthy", unsettled=4), Gravity.SOON, "4 mismatches"),
    ],
)
def test_a_pool_in_need_says_what_and_where(facts: PoolFacts, gravity: Gravity, words: str) -> None:
    (matter,) = _matters(facts)
    assert matter.gravity is gravity  # type: ignore[attr-defined]
    assert words in matter.sentence  # type: ignore[attr-defined]
    assert matter.link == "/pools/1"  # type: ignore[attr-defined]


def test_the_gravest_comes_first() -> None:
    keys = _matters(locked=[(4, "safe")], unruled=[(2, "rec", "cam")])
    assert [m.link for m in keys] == ["/pools/4", "/pools/2"]  # type: ignore[attr-defined]
    assert "Compare layouts" in [m.act for m in _matters(no_pools=True, free_drives=3)]  # type: ignore[attr-defined]
    found = _matters(
        _facts("degraded", empty=1), new_drives=2, worker_away=True, drives=[NotedDrive(3, "Drive X", None, True)]
    )
    assert [m.gravity for m in found] == sorted(m.gravity for m in found)  # type: ignore[attr-defined]
    assert "No worker" in found[0].sentence  # type: ignore[attr-defined]


@pytest.mark.parametrize(
    ("drive", "act", "link", "words"),
    [
        (NotedDrive(3, "Drive X", None, True, "wear"), "Look at it", "/shelves?drive=3", "Drive X still works, but is failing by its readings: wear."),
        (NotedDrive(3, "Drive X", 7, True), "Replace it", "/pools/7?replace=3", "Replace it while it can be copied."),
        (NotedDrive(3, "Drive X", 7, True, by_itself="copy"), "Replace it", "/pools/7?replace=3", "as soon as a spare stands by that is large enough."),
        (NotedDrive(3, "Drive X", 7, True, by_itself="move"), "Replace it", "/pools/7?replace=3", "as soon as there is room."),
        (NotedDrive(3, "Drive X", 7, False, "errors", of_link=True), "Look at it", "/shelves?drive=3", "The link of Drive X gives trouble: errors."),
        (NotedDrive(3, "Drive X", 7, False, "sectors", to_scan=True), "Scan it", "/shelves?drive=3", "Drive X gives warning: sectors."),
        (NotedDrive(3, "Drive X", 7, False, "warm"), "Look at it", "/shelves?drive=3", "Drive X gives warning: warm."),
    ],
)  # fmt: skip
def test_what_is_to_be_done_about_a_drive(drive: NotedDrive, act: str, link: str, words: str) -> None:
    (matter,) = _matters(drives=[drive])
    assert (matter.act, matter.link, matter.gravity) == (act, link, Gravity.SOON)  # type: ignore[attr-defined]
    assert matter.sentence.endswith(words)  # type: ignore[attr-defined]


def _estate(*, service: str = "free", condition: str = "good", holds: str | None = None, count: int = 5) -> Estate:
    drives = [EstateDrive(i, f"S{i}", "A", i, 6 * 10**12, Kind.HDD, None, "free", "good") for i in range(1, count)]
    odd = EstateDrive(count, "ODD", "A", count, 6 * 10**12, Kind.HDD, None, service, condition, holds)
    return Estate(drives=(*drives, odd), machines=(EstateHost("h", "here"),), pool_names=frozenset({"taken"}))


def _request(**changes: object) -> build_pool.BuildPool:
    usual: dict[str, object] = {
        "name": "p", "scheme": "parity-1", "drives": (1, 2, 3, 4, 5), "sets": 1, "spares": 0, "volume": "v",
    }  # fmt: skip
    return build_pool.BuildPool(**{**usual, **changes})  # type: ignore[arg-type]


def test_a_sheet_names_what_is_erased_and_what_is_doubtful() -> None:
    sheet = build_pool.plan(_estate(condition="failing", holds="letters"), _request()).sheet
    assert [(e.place, e.serial, e.holds) for e in sheet.erases][-1] == ("A bay 5", "ODD", "letters")
    assert any("failing by its own readings" in c for c in sheet.cautions)
    assert sheet.confirm == "p"
    bare = build_pool.plan(_estate(), _request(scheme="stripe")).sheet
    assert any("No redundancy" in c for c in bare.cautions)
    assert sheet.fingerprint() != build_pool.plan(_estate(), _request()).sheet.fingerprint()


@pytest.mark.parametrize(
    ("estate", "changes", "field"),
    [
        (_estate(service="in-use"), {}, "drives"),
        (_estate(service="new"), {}, "drives"),
        (_estate(condition="failed"), {}, "drives"),
        (_estate(condition="missing"), {}, "drives"),
        (_estate(), {"drives": (1, 2, 3, 99)}, "drives"),
        (_estate(), {"drives": (1, 2, 2)}, "drives"),
        (_estate(), {"name": "Taken"}, "name"),
        (_estate(), {"volume": "a/b"}, "volume"),
        (_estate(), {"volume_size": "25 TB"}, "volume_size"),
        (_estate(), {"volume_size": "1 B"}, "size"),
        (_estate(), {"mount_point": "/srv/v"}, "host"),
        (_estate(), {"mount_point": "srv", "host": "h"}, "mount_point"),
        (_estate(), {"host": "nobody"}, "host"),
        (_estate(), {"file_system": "fat"}, "file_system"),
        (_estate(), {"reserved_share": 0.9}, "reserved_share"),
        (_estate(), {"sets": 2}, "sets"),
    ],
)
def test_what_cannot_be_built_is_refused_at_its_field(estate: Estate, changes: dict[str, object], field: str) -> None:
    with pytest.raises((BadInput, NotPossible)) as caught:
        build_pool.plan(estate, _request(**changes))
    assert isinstance(caught.value, PairShelfError)
    assert caught.value.field == field


def test_the_volume_starts_at_the_largest_that_fits() -> None:
    plan = build_pool.plan(_estate(), _request(file_system="none"))
    assert (
        plan.volume is not None
        and plan.volume.size == 4 * 5587 * GIB == build_layout(parse_shorthand("5x6TB"), "parity-1").data_extents * GIB
    )


def test_a_wiping_that_ended_on_the_way_is_not_forgotten() -> None:
    (matter,) = _matters(spoilt=[(7, "Drive X", "only partly wiped")])
    assert matter.gravity is Gravity.SOON and matter.link == "/disposal?drives=7"  # type: ignore[attr-defined]
    assert "Drive X is only partly wiped" in matter.sentence  # type: ignore[attr-defined]

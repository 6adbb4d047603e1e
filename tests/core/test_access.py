"""Mounting, shares, block targets, applications, and who would notice: the rules, and where each is refused."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from pairshelf.core.changes.access.sharing import who_may
from pairshelf.core.changes.kinds import KINDS, request_of
from pairshelf.core.domain.block_targets import log_in, why_no_path
from pairshelf.core.domain.depends import losses, pull, stands_on
from pairshelf.core.domain.drives import Drive, Kind
from pairshelf.core.domain.estate import (
    Estate,
    EstateDrive,
    EstateHost,
    EstateMount,
    EstatePlace,
    EstatePool,
    EstateShare,
    EstateTarget,
    EstateVolume,
)
from pairshelf.core.domain.folders import folder_for, folder_in, settings_text, with_folder
from pairshelf.core.domain.mounting import MountLine, in_order
from pairshelf.core.domain.names import check_iqn, near_misses
from pairshelf.core.domain.patterns import expand
from pairshelf.core.domain.units import GIB, TB
from pairshelf.core.errors import BadInput, NotPossible
from pairshelf.core.layouts import build_layout
from pairshelf.core.layouts.allocation import Piece, allocate, beyond, gaps, moved, next_move, spans, unplaced, without
from tests.core.estates import IQN, estate


@pytest.mark.parametrize(
    "wrong", [{"name": "a\0b"}, {"drives": (1, 2**31)}, {"sets": -(2**31)}, {"reserved_share": float("inf")}]
)
def test_no_request_is_made_of_what_no_text_or_number_is(wrong: dict[str, Any]) -> None:
    with pytest.raises(BadInput) as caught:
        request_of("build-pool", {"name": "c", "scheme": "copies-2", "drives": (1, 2)} | wrong)
    assert caught.value.field == next(iter(wrong))


def plan(kind: str, **request: Any) -> Any:
    return KINDS[kind].plan(estate(), request_of(kind, request))


def test_a_mount_line_names_the_file_system_by_its_uuid() -> None:
    line = plan("mount-volume", volume="p/b", host="elm", mount_point="/full", move_aside=True).line
    assert line.text() == "UUID=uuid-b /full xfs noatime,nofail 0 0"
    assert [e.name for e in line.aside] == ["old.dat"]
    lettered = plan("mount-volume", volume="p/n", host="win", mount_point="s:").line
    assert (lettered.at, "uuid-n" in lettered.text()) == ("S:", True)


def test_outer_folders_are_mounted_first() -> None:
    lines = [MountLine("h", "v", at, "xfs") for at in ("/srv/a/b", "/srv", "/srv/a", "/data")]
    assert [m.at for m in in_order(lines)] == ["/data", "/srv", "/srv/a", "/srv/a/b"]
    inner = plan("mount-volume", volume="p/b", host="elm", mount_point="/srv/a/b")
    assert any("mounted before it" in f.sentence for f in inner.sheet.findings)


def test_a_mistyped_initiator_is_found_and_the_right_one_named() -> None:
    one = estate()
    fir, elm = one.machines[1], one.machines[0]
    found = log_in(fir, IQN + "t", one.targets, elm)
    assert (found.let_in, found.code, found.instead) == (False, "near-miss", IQN + "fir")
    assert "place" in found.sentence
    right = replace(one.targets[0], initiators=((IQN + "fir", False),))
    assert log_in(fir, IQN + "t", [right], elm).let_in
    chap = replace(right, initiators=((IQN + "fir", True),))
    assert log_in(fir, IQN + "t", [chap], elm).code == "chap-missing"
    assert log_in(fir, IQN + "t", [chap], elm, lambda: False, chap_given=True).code == "chap-wrong"
    assert log_in(fir, IQN + "t", [chap], elm, lambda: True, chap_given=True).let_in
    assert log_in(fir, IQN + "tt", one.targets, elm).instead == IQN + "t"
    assert log_in(replace(fir, iqn=None), IQN + "t", one.targets, elm).code == "no-initiator-name"
    assert log_in(replace(fir, storage_address="10.1.0.2/24"), IQN + "t", [right], elm).code == "no-path"
    assert why_no_path(fir, elm) is None


def test_a_near_miss_is_pointed_out_when_it_is_declared_and_a_distinct_name_is_not() -> None:
    sheet = plan("declare-initiator", iqn=IQN + "el").sheet
    assert any("almost" in f.sentence and "elm" in f.sentence for f in sheet.findings)
    assert near_misses("iqn.2020-05.example.other:far-away", [IQN + "elm"]) == []
    assert check_iqn("naa.52004567ba64678d", field="x")


def test_a_slip_is_two_characters_however_long_the_part_that_names_share() -> None:
    known = [IQN + "elm", IQN + "birch", IQN + "elm"]
    for slip in ("el", "elmm", "eml", "alm", "elmxy"):
        assert near_misses(IQN + slip, known) == [IQN + "elm"], slip
    for other in ("w", "fir", "elmxyz", "ash", "oak"):
        assert near_misses(IQN + other, known) == [], other
    assert near_misses(IQN + "elm", known) == []


def test_a_host_that_gets_another_name_is_not_warned_of_the_one_it_has() -> None:
    told = plan("set-host", host="fir", iqn=IQN + "fir2").sheet.findings
    assert not any("which fir has" in f.sentence for f in told)
    told = plan("set-host", host="elm", iqn=IQN + "fir2").sheet.findings
    nearest = next(f.sentence for f in told if "almost" in f.sentence)
    assert nearest.startswith(f"{IQN}fir2 is almost {IQN}fir, which fir has.")


def test_whoever_leaves_a_group_is_told_to_lose_what_it_gives_and_others_are_not() -> None:
    assert plan("set-members", group="office", members=("ash", "bay", "reed")).sheet.cautions == ()
    other = replace(estate().shares[0], name="plans", rights=(("reed", "read"),))
    one = replace(estate(), shares=(*estate().shares, other))
    (lost,) = (
        KINDS["set-members"]
        .plan(one, request_of("set-members", {"group": "office", "members": ("ash",)}))
        .sheet.cautions
    )
    assert lost == "bay no longer has the rights of office on files."


def test_luns_are_distinct_by_default() -> None:
    free = replace(estate(), targets=(replace(estate().targets[0], luns=((0, "p/x"),)),))
    made = KINDS["make-target"].plan(
        free, request_of("make-target", {"iqn": IQN + "u", "host": "elm", "volume": "p/disk"})
    )
    assert made.target.luns == ((1, "p/disk"),)  # type: ignore[attr-defined]


def test_the_widest_right_counts() -> None:
    share = replace(estate().shares[0], rights=(("office", "read"), ("ash", "write")))
    assert who_may(estate(), share) == {"ash": "write", "bay": "read"}


def test_pull_this_and_who_notices() -> None:
    one = estate()
    drive = pull(one, "drive", "S0", one.drives[:1])
    assert drive.sentence == "All data stay in use; pool p is unprotected."
    assert all(s.serves for s in drive.stands)
    two = pull(one, "shelf", "Oak", one.drives[:2])
    assert two.people == ("ash", "bay", "reed")
    assert "3 people lose p/a" in two.sentence and "cam on elm" in two.sentence
    assert two.hits[0].after == "unreachable"
    assert "bay 1, 2" in two.below[0] and "host elm" in two.below[0]
    assert pull(one, "host", "fir", ()).sentence == "Nothing that is in use depends on it."
    assert "p/disk" in pull(one, "host", "elm", ()).sentence
    (line,) = stands_on(one, "reed").lines
    assert [line[0], line[2]] == ["share files (read)", "volume p/a"]
    with pytest.raises(BadInput):
        stands_on(one, "ghost")


def test_folder_schemes_keep_to_their_limit_and_settings_follow() -> None:
    import datetime as dt

    day = dt.date(2026, 11, 25)
    for scheme in ("by-date", "by-source", "by-number"):
        counts: dict[str, int] = {}
        for index in range(1000):
            folder = folder_for(scheme, index, 7, day)
            counts[folder] = counts.get(folder, 0) + 1
        assert max(counts.values()) == 7
    text = settings_text("cam", "cam", "/var/cam")
    assert folder_in(with_folder(text, "/srv/x")) == "/srv/x"
    assert folder_in("nothing here") is None


def test_patterns() -> None:
    assert expand("a-{08..10}", field="n") == ["a-08", "a-09", "a-10"]
    assert expand("{x,y}-{1..2}", field="n") == ["x-1", "x-2", "y-1", "y-2"]


TAKEN = st.lists(st.tuples(st.integers(0, 90), st.integers(1, 10)), max_size=8)


@given(
    taken=TAKEN, at=st.integers(0, 50), count=st.integers(1, 60), cut=st.tuples(st.integers(0, 60), st.integers(1, 30))
)
def test_what_is_given_lies_in_the_gaps_and_comes_back(
    taken: list[tuple[int, int]], at: int, count: int, cut: tuple[int, int]
) -> None:
    free = gaps(100, taken)
    used = {x for f, n in taken for x in range(f, f + n)}
    room = {x for f, n in free for x in range(f, f + n)}
    assert room == set(range(100)) - used
    try:
        pieces = allocate(free, at, count)
    except NotPossible:
        assert count > len(room)
        return
    placed = {p.at + i: p.first + i for p in pieces for i in range(p.count)}
    assert sorted(placed) == list(range(at, at + count))
    assert set(placed.values()) <= room and len(set(placed.values())) == count
    left = without(pieces, *cut)
    kept = {p.at + i: p.first + i for p in left for i in range(p.count)}
    assert kept == {a: f for a, f in placed.items() if not cut[0] <= a < cut[0] + cut[1]}
    assert sum(n for _, _, n in spans(left, at, count)) + sum(n for _, n in unplaced(left, at, count)) == count


@given(
    st.lists(st.tuples(st.integers(0, 9), st.integers(1, 9), st.integers(0, 2)), min_size=1, max_size=8),
    st.integers(1, 5),
)
def test_what_stands_apart_is_moved_together_and_nothing_twice(drawn: list[tuple[int, int, int]], most: int) -> None:
    """Pieces of three volumes with gaps between them; after every move each extent still has one place of its own."""
    pieces: dict[int, list[Piece]] = {0: [], 1: [], 2: []}
    at = 0
    for gap, count, volume in drawn:
        at += gap
        pieces[volume].append(Piece(sum(p.count for p in pieces[volume]), at, count))
        at += count
    whole = sum(count for _, count, _ in drawn)

    def taken() -> list[tuple[int, int]]:
        return [(p.first, p.count) for own in pieces.values() for p in own]

    to_move, done = beyond(taken()), 0
    while move := next_move(taken()):
        source, to, count = move[0], move[1], min(move[2], most)
        there = {a for first, n in taken() for a in range(first, first + n)}
        assert to + count <= whole <= source
        assert set(range(source, source + count)) <= there and not set(range(to, to + count)) & there
        volume = next(v for v, own in pieces.items() if any(p.first <= source < p.first + p.count for p in own))
        before = {p.at + i: p.first + i for p in pieces[volume] for i in range(p.count)}
        pieces[volume] = moved(pieces[volume], source, to, count)
        after = {p.at + i: p.first + i for p in pieces[volume] for i in range(p.count)}
        assert after == {a: to + f - source if source <= f < source + count else f for a, f in before.items()}
        done += count
    # No more was moved than had to be, and all of it lies without a gap.
    assert done == to_move and beyond(taken()) == 0
    assert gaps(whole, taken()) == []


@st.composite
def grown(draw: st.DrawFn) -> Estate:
    """Two pools over shelves of three hosts, volumes mounted, shared and served by any of them."""
    hosts = [EstateHost(n, draw(st.sampled_from(["Here", "There"]))) for n in ("elm", "fir", "oak")]
    drives, pools, volumes, mounts, shares, targets = [], [], [], [], [], []
    for number, (name, scheme, count) in enumerate((("p", "parity-1", 3), ("q", "copies-2", 2)), start=1):
        own = [
            EstateDrive(10 * number + i, f"{name}{i}", f"shelf {draw(st.integers(1, 3))}", i + 1, 6 * TB, Kind.HDD, None, "in-use",
                        "good", pool=name, host=draw(st.sampled_from(["elm", "fir", None])))
            for i in range(count)
        ]  # fmt: skip
        layout = build_layout([Drive(str(i), 6 * TB) for i in range(count)], scheme)
        states = [draw(st.sampled_from(["active", "active", "active", "failed", "missing"])) for _ in own]
        places = tuple(EstatePlace(i, states[i], layout.members[i], d) for i, d in enumerate(own))
        drives += own
        pools.append(EstatePool(number, name, "healthy", layout, places, (), True, scheme))
        for use in ("mounted", "served", "idle"):
            ref, host = f"{name}/{use}", draw(st.sampled_from(["elm", "fir", "oak"]))
            volumes.append(
                EstateVolume(
                    len(volumes) + 1, name, use, GIB, False, "xfs" if use == "mounted" else "none", None, 0, ref
                )
            )
            if use == "mounted":
                mounts.append(EstateMount(len(mounts) + 1, host, ref, f"/srv/{name}"))
                shares.append(
                    EstateShare(
                        f"s{name}", ref, "", None, None, True, ((draw(st.sampled_from(["ash", "office"])), "write"),)
                    )
                )
            elif use == "served":
                targets.append(EstateTarget(IQN + name, host, False, ((0, ref),), ()))
    return Estate(drives=tuple(drives), pools=tuple(pools), volumes=tuple(volumes), mounts=tuple(mounts), shares=tuple(shares),
                  targets=tuple(targets), machines=tuple(hosts), parties=(("ash", None), ("bay", None), ("office", ("ash", "bay"))))  # fmt: skip


@given(grown(), st.data())
def test_who_notices_agrees_with_a_walk_over_the_graph(one: Estate, data: st.DataObject) -> None:
    kind = data.draw(st.sampled_from(["drive", "shelf", "host", "site", "volume", "pool"]))
    site_of = {h.name: h.site for h in one.machines}
    names: dict[str, list[str]] = {
        "drive": [d.serial for d in one.drives], "shelf": [d.shelf or "" for d in one.drives], "host": [h.name for h in one.machines],
        "site": ["Here", "There"], "volume": [v.ref for v in one.volumes], "pool": [p.name for p in one.pools],
    }  # fmt: skip
    name = data.draw(st.sampled_from(names[kind]))
    stand_in = {
        "drive": lambda d: d.serial == name, "shelf": lambda d: d.shelf == name, "host": lambda d: d.host == name,
        "site": lambda d: d.host is not None and site_of[d.host] == name,
    }.get(kind, lambda d: False)  # fmt: skip
    gone = [d for d in one.drives if stand_in(d)]
    found = pull(one, kind, name, gone)

    dark_hosts = {name} if kind == "host" else {h for h, s in site_of.items() if s == name} if kind == "site" else set()
    dark = set()
    for pool in one.pools:
        bad = sum(p.state != "active" or p.drive in gone for p in pool.places)
        hit = any(p.drive in gone for p in pool.places)
        if (kind == "pool" and pool.name == name) or (hit and bad > 1):
            dark |= {v.ref for v in one.volumes if v.pool == pool.name}
    dark |= {name} if kind == "volume" else set()
    dark |= {m.volume for m in one.mounts if m.host in dark_hosts}
    dark |= {v for t in one.targets if t.host in dark_hosts for _, v in t.luns}
    assert {s.volume for s in found.stands if not s.serves} == dark
    people = {p for s in one.shares if s.volume in dark for who, _ in s.rights for p in one.groups.get(who, (who,))}
    assert set(found.people) == people
    assert bool(losses(found)) == bool(dark or (kind == "pool" and found.hits))
    for person in people:
        assert person in found.sentence if len(people) == 1 else f"{len(people)} people lose" in found.sentence
    # Whoever could serve it instead stays on, and nothing is offered where the drives go too.
    for stand in found.stands:
        assert not dark_hosts.intersection(stand.instead)
        assert not stand.instead or (stand.volume in dark and stand.by_host)

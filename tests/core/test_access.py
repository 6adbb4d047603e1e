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
from pairshelf.core.domain.depends import pull, stands_on
from pairshelf.core.domain.drives import Kind
from pairshelf.core.domain.estate import (
    Entry,
    Estate,
    EstateApplication,
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
from pairshelf.core.errors import BadInput, NotPossible, PairShelfError
from pairshelf.core.layouts import build_layout
from pairshelf.core.layouts.allocation import allocate, gaps, spans, unplaced, without
from pairshelf.core.layouts.registry import Drive

IQN = "iqn.2026-01.example.fernhollow:"


def estate() -> Estate:
    layout = build_layout([Drive(str(i), 6 * TB) for i in range(4)], "parity-1")
    drives = tuple(
        EstateDrive(i + 1, f"S{i}", "Oak", i + 1, 6 * TB, Kind.HDD, None, "in-use", "good", pool="p", host="elm")
        for i in range(4)
    )
    places = tuple(EstatePlace(i, "active", layout.members[i], drives[i]) for i in range(4))
    pool = EstatePool(1, "p", "healthy", layout, places, (), True, "parity-1", ((4000, layout.data_extents - 4000),))
    made = [("a", "ext4"), ("b", "xfs"), ("disk", "none"), ("n", "ntfs"), ("rec", "xfs")]
    volumes = tuple(
        EstateVolume(i + 1, "p", name, 800 * GIB, False, fs, None, GIB, f"uuid-{name}", placed=800)
        for i, (name, fs) in enumerate(made)
    )
    return Estate(
        drives=drives, pools=(pool,), pool_names=frozenset({"p"}), volumes=volumes,
        mounts=(EstateMount(1, "elm", "p/a", "/srv/a"), EstateMount(2, "elm", "p/rec", "/srv/rec")),
        machines=(
            EstateHost("elm", "Here", storage_address="10.0.0.1/24", iqn=IQN + "elm", link=125_000_000),
            EstateHost("fir", "Here", storage_address="10.0.0.2/24", iqn=IQN + "fir"),
            EstateHost("win", "Here", letters=True),
        ),
        shares=(EstateShare("files", "p/a", "", 100 * GIB, 14, True, (("office", "write"), ("reed", "read"))),),
        targets=(EstateTarget(IQN + "t", "elm", False, ((0, "p/disk"),), ((IQN + "firr", False),)),),
        initiators=((IQN + "firr", None), (IQN + "fir", "fir")),
        applications=(EstateApplication(1, "elm", "cam", "recorder", "cam", "/srv/rec/cam", "/etc/cam", True, "p/rec", moved_from="/var/cam"),),
        parties=(("ash", None), ("bay", None), ("reed", None), ("office", ("ash", "bay"))),
        folders=((("elm", "/full"), (Entry("old.dat", GIB),)), (("elm", "/srv/a"), ())),
    )  # fmt: skip


LONG, RTL = "x" * 300, "נפח"
REFUSED: list[tuple[str, dict[str, Any], str]] = [
    *[("make-volumes", {"pool": "p", "name": n}, "name") for n in ("", LONG, "a/b", RTL, "📁", "a", "A", "{1..", "{4..1}", "v-{1..500}")],
    ("make-volumes", {"pool": "q", "name": "v"}, "pool"),
    *[("make-volumes", {"pool": "p", "name": "v", "size": s}, "size") for s in ("0", "99 PB", "4T", "-1 GB", "5 apples", "1 MB")],
    ("make-volumes", {"pool": "p", "name": "v", "size": "1 TB", "count": 0}, "count"),
    ("make-volumes", {"pool": "p", "name": "v", "size": "1 TB", "protection": "copies-2"}, "protection"),
    ("make-volumes", {"pool": "p", "name": "v", "size": "1 TB", "file_system": "fat"}, "file_system"),
    *[
        ("make-volumes", {"pool": "p", "name": "v", "size": "1 TB", "host": "elm", "mount_point": m}, "mount_point")
        for m in ("srv", "/srv/../etc", "/", "/srv/a", "/etc", "/a b", "S:", "/srv")
    ],
    ("make-volumes", {"pool": "p", "name": "v", "size": "1 TB", "mount_point": "/srv/v"}, "host"),
    ("make-volumes", {"pool": "p", "name": "v-{1..2}", "size": "1 TB", "host": "elm", "mount_point": "/srv/v"}, "mount_point"),
    ("rename-volume", {"volume": "p/a", "name": "b"}, "name"),
    ("rename-volume", {"volume": "p/zzz", "name": "c"}, "volume"),
    ("resize-volume", {"volume": "p/b", "size": "100 GiB"}, "size"),
    ("resize-volume", {"volume": "p/a", "size": "100 GiB"}, "size"),
    ("resize-volume", {"volume": "p/a", "size": "90 PB"}, "size"),
    ("delete-volume", {"volume": "p/a"}, "volume"),
    ("reformat-volume", {"volume": "p/disk", "file_system": "xfs"}, "volume"),
    ("mount-volume", {"volume": "p/b", "host": "elm", "mount_point": "/full"}, "mount_point"),
    ("mount-volume", {"volume": "p/a", "host": "elm", "mount_point": "/srv/a/again"}, "mount_point"),
    ("mount-volume", {"volume": "p/a", "host": "fir", "mount_point": "/srv/a"}, "host"),
    ("mount-volume", {"volume": "p/b", "host": "win", "mount_point": "/srv/b"}, "mount_point"),
    ("mount-volume", {"volume": "p/b", "host": "win", "mount_point": "S:"}, "mount_point"),
    ("unmount-volume", {"host": "elm", "mount_point": "/srv/rec"}, "mount_point"),
    ("unmount-volume", {"host": "elm", "mount_point": "/nowhere"}, "mount_point"),
    ("make-share", {"volume": "p/a", "name": "files"}, "name"),
    ("make-share", {"volume": "p/b", "name": "s"}, "volume"),
    ("make-share", {"volume": "p/a", "name": "s", "quota": "900 GiB"}, "quota"),
    ("make-share", {"volume": "p/a", "name": "s", "quota": "0"}, "quota"),
    ("make-share", {"volume": "p/a", "name": "s", "rights": ("ghost:read",)}, "rights"),
    ("make-share", {"volume": "p/a", "name": "s", "rights": ("ash:own",)}, "rights"),
    ("make-share", {"volume": "p/a", "name": "s", "folder": "../up"}, "folder"),
    ("make-share", {"volume": "p/a", "name": "s", "bin_days": 9999}, "bin_days"),
    ("add-party", {"name": "Office"}, "name"),
    ("add-party", {"name": "g", "members": ("ghost",)}, "members"),
    *[
        ("declare-initiator", {"iqn": n}, "iqn")
        for n in ("", "iqn.2026-13.example.a:b", "iqn.26-01.example.a", IQN + "Elm", IQN + "a_b", "iqn.2001-04.com.example:x",
                  "eui.12", IQN + "x" * 230, IQN + "firr", "naa.123", "iqn.2026-01.nodots:x")
    ],
    ("make-target", {"iqn": IQN + "u", "host": "elm", "volume": "p/a"}, "volume"),
    ("make-target", {"iqn": IQN + "u", "host": "elm", "volume": "p/disk"}, "volume"),
    ("let-in", {"target": IQN + "t", "initiator": IQN + "nobody"}, "initiators"),
    ("let-in", {"target": IQN + "tt", "initiator": IQN + "fir"}, "target"),
    ("set-host", {"host": "fir", "gateway": "10.0.0.254"}, "gateway"),
    ("set-host", {"host": "fir", "storage_address": "10.0.0.2"}, "storage_address"),
    ("set-host", {"host": "fir", "storage_address": "10.0.0.1/24"}, "storage_address"),
    ("set-host", {"host": "fir", "storage_address": "10.0.0.0/24"}, "storage_address"),
    ("set-host", {"host": "fir", "address": "10.0.0.9", "storage_address": "10.0.0.2/24"}, "storage_address"),
    ("set-host", {"host": "fir", "iqn": IQN + "elm"}, "iqn"),
    ("move-application", {"application": "elm/cam", "volume": "p/b"}, "application"),
    ("move-application", {"application": "ghost", "volume": "p/b"}, "application"),
    ("set-folders", {"application": "cam", "folder_scheme": "by-moon"}, "folder_scheme"),
    ("set-folders", {"application": "cam", "folder_scheme": "by-date", "files_per_folder": 0}, "files_per_folder"),
    ("set-keep-rule", {"volume": "p/a", "above": 120}, "above"),
    ("set-keep-rule", {"volume": "p/a", "application": "cam"}, "application"),
    ("end-keep-rule", {"volume": "p/a"}, "volume"),
]  # fmt: skip


@pytest.mark.parametrize(("kind", "request_", "field"), REFUSED)
def test_what_will_not_do_is_refused_at_its_field(kind: str, request_: dict[str, Any], field: str) -> None:
    with pytest.raises(PairShelfError) as caught:
        KINDS[kind].plan(estate(), request_of(kind, request_))
    assert caught.value.field == field, caught.value.message
    assert caught.value.message.endswith((".", "?"))


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
    assert drive.sentence.startswith("Nobody notices yet: p is unprotected")
    assert all(s.serves for s in drive.stands)
    two = pull(one, "shelf", "Oak", one.drives[:2])
    assert two.people == ("ash", "bay", "reed")
    assert "cam on elm" in two.sentence
    assert two.hits[0].after == "unreachable"
    assert "bay 1, 2" in two.below[0] and "host elm" in two.below[0]
    assert pull(one, "host", "fir", ()).sentence.startswith("Nobody notices")
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

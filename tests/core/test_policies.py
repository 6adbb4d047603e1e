"""What Today says, what a plan may hold, what is ready to be built on: each sentence at the edge where it begins."""

from __future__ import annotations

import re
from dataclasses import replace
from typing import Any

import pytest

from pairshelf.core.changes.kinds import request_of
from pairshelf.core.domain.drives import Drive, Kind
from pairshelf.core.domain.estate import EstateDrive
from pairshelf.core.domain.units import MIB, TB
from pairshelf.core.errors import BadInput, NotPossible
from pairshelf.core.policies.attention import (
    OLD_BACKUP,
    WATCHER,
    Gravity,
    Matter,
    NotedDrive,
    PoolFacts,
    is_well,
    matters,
    page_of,
    verdict,
)
from pairshelf.core.policies.beside import MEETINGS, WAITING, WAITS, Then, Under, refused, why_waiting
from pairshelf.core.policies.filling import Filling
from pairshelf.core.policies.finding import Thing as Named
from pairshelf.core.policies.finding import acts_on, matches
from pairshelf.core.policies.readiness import readiness, require_ready
from pairshelf.core.policies.scanning import LONGEST_RECOVERY, USUAL_RECOVERY, judge_recovery, why_no_scan
from pairshelf.core.policies.schedule import DAYS, MOST_WEEKS, Recurrence, require_known, require_zone
from pairshelf.core.policies.together import MOST, require_apart
from pairshelf.core.watching.thresholds import Level

# -- what needs a person -------------------------------------------------------------------------------------------

QUIET: dict[str, Any] = {
    "new_drives": 0, "drives": (), "drafts": (), "worker_away": False, "no_drives": False, "free_drives": 0,
    "no_pools": False,
}  # fmt: skip


def today(*pools: PoolFacts, **more: Any) -> list[Matter]:
    return matters(pools, **{**QUIET, **more})


def of(state: str, empty: int = 0, *, rebuilding: bool = False, **more: Any) -> PoolFacts:
    return replace(PoolFacts(1, "cold", state, empty, rebuilding, 0, 0), **more)


ABOUT = "/trouble/about?key="
NOW, SOON, SOMETIME = Gravity


@pytest.mark.parametrize(
    ("given", "gravity", "said", "act", "link", "page", "sort"),
    [
        ({"worker_away": True}, NOW, r"^No worker is running: nothing is built", "", "", ABOUT + "worker", "worker"),
        ({"watcher_away": True}, NOW, r"^No watcher is running: nothing is recorded", "", "", ABOUT + "watcher", "watcher"),
        ({"room_left": 64 * MIB - 1}, NOW, r"has 63 MiB left: jobs are held", "", "", ABOUT + "disk", "disk"),
        ({"room_left": 0}, NOW, r"has 0 MiB left", "", "", ABOUT + "disk", "disk"),
        ({"unkept": [(4, "safe")]}, SOON, r"the passphrase of pool safe is kept", "See to it", "/pools/4",
         ABOUT + "passphrase%20of%20pool%204", "unkept"),
        ({"backups": [(4, "safe/letters", OLD_BACKUP + 0.5)]}, SOON, r"^The recorded backup of safe/letters is 31 days old\.$",
         "See to it", "/pools/4", ABOUT + "backup%20of%20safe%2Fletters", "backup"),
        ({"drafts": [(9, "Build pool x")]}, SOMETIME, r"^Build pool x waits for approval\.$", "Read the sheet", "/changes/9", "", ""),
        ({"locked": [(4, "safe")]}, SOON, r"^Pool safe is locked", "Unlock it", "/pools/4", ABOUT + "lock%20of%20pool%204", "locked"),
        ({"unruled": [(4, "rec/yard", "Lens")]}, SOMETIME, r"^Lens writes recordings to rec/yard, and nothing is ever deleted",
         "Set a keep rule", "/pools/4", "", ""),
        ({"new_drives": 1}, SOMETIME, r"^1 new drive has been found\. Accept it to use it\.$", "Accept", "/shelves?filter=new", "", ""),
        ({"new_drives": 2}, SOMETIME, r"^2 new drives have been found\. Accept them to use them\.$", "Accept", "/shelves?filter=new", "", ""),
        ({"no_drives": True, "no_pools": True, "free_drives": 3}, SOMETIME, r"^There are no drives yet", "Begin", "/shelves", "", ""),
        ({"no_pools": True, "free_drives": 1}, SOMETIME, r"^1 drive is free and there is no pool", "Compare layouts", "/compare", "", ""),
        ({"no_pools": True, "free_drives": 2}, SOMETIME, r"^2 drives are free", "Compare layouts", "/compare", "", ""),
        ({"spoilt": [(7, "Larch bay 2", "half wiped")]}, SOON, r"^Larch bay 2 is half wiped: wipe it again", "Let it go",
         "/disposal?drives=7", ABOUT + "wiping%20of%20drive%207", "spoilt"),
    ],
)  # fmt: skip
def test_each_thing_that_needs_a_person_is_said_once_with_where_to_see_to_it(
    given: dict[str, Any], gravity: Gravity, said: str, act: str, link: str, page: str, sort: str
) -> None:
    (matter,) = today(**given)
    assert re.search(said, matter.sentence), matter.sentence
    assert (matter.gravity, matter.act, matter.link, matter.page, matter.sort) == (gravity, act, link, page, sort)
    assert page == ("" if not sort else page_of(matter))
    assert is_well([matter]) == (gravity is SOMETIME)


@pytest.mark.parametrize(
    "given",
    [
        {"room_left": 64 * MIB}, {"room_left": None}, {"backups": [(4, "safe", float(OLD_BACKUP))]}, {"no_pools": True},
        {"free_drives": 5}, {"new_drives": 0},
    ],
)  # fmt: skip
def test_what_is_not_there_yet_is_not_said(given: dict[str, Any]) -> None:
    assert today(**given) == []


@pytest.mark.parametrize(
    ("pool", "gravity", "said", "act", "page"),
    [
        (of("lost", 3), NOW, r"is lost: more drives have failed", "See what happened", "/trouble/1"),
        (of("unreachable", 3, away=3, away_named="shelf Loft"), NOW, r"away are shelf Loft\. Nothing is lost", "See which", "/trouble/1"),
        (of("unreachable", 3), NOW, r"away are too many drives", "See which", "/trouble/1"),
        (of("degraded", 1, failed=("S1 (Loft bay 3)",), left=1), SOON, r"is degraded: S1 \(Loft bay 3\) failed\. Survives 1 more failure\. All data", "Replace the drive", "/trouble/1"),
        (of("degraded", 2), SOON, r"is degraded", "Replace the drives", "/trouble/1"),
        (of("unprotected", 1), NOW, r"is unprotected\. Survives no further failure\. All", "Replace the drive", "/trouble/1"),
        (of("degraded", 2, away=2, away_named="shelf Loft"), SOON, r"is degraded\. All data can be read\. Away, and waited for: shelf Loft\.", "See which", "/trouble/1"),
        (of("unprotected", 2, away=2, away_named="x"), NOW, r"Survives no further failure\. .* waited for: x\.", "See which", "/trouble/1"),
        # One that is away and one that has failed: something is to be done.
        (of("degraded", 2, away=1, away_named="x"), SOON, r"is degraded\.", "Replace the drives", "/trouble/1"),
        (of("degraded", rebuilding=True), SOON, r"is degraded\. .*It is being rebuilt\.", "Watch the rebuild", "/trouble/1"),
        (of("unprotected", rebuilding=True), NOW, r"Survives no further failure\. .*It is being rebuilt", "Watch the rebuild", "/trouble/1"),
        (of("healthy", differing_files=2), NOW, r"^2 files in cold differ", "See which", ABOUT + "files%20of%20pool%201"),
        (of("healthy", unsettled=4), SOON, r"^The last check of cold found 4 mismatches", "Read the report", ABOUT + "files%20of%20pool%201"),
        # Files that differ say more than a check that cannot settle it.
        (of("healthy", differing_files=2, unsettled=4), NOW, r"differ", "See which", ABOUT + "files%20of%20pool%201"),
    ],
)  # fmt: skip
def test_what_is_said_of_a_pool(pool: PoolFacts, gravity: Gravity, said: str, act: str, page: str) -> None:
    (matter,) = today(pool)
    assert re.search(said, matter.sentence), matter.sentence
    assert (matter.gravity, matter.act, matter.page, matter.link) == (gravity, act, page, "/pools/1")


def test_a_pool_whose_files_differ_while_it_is_degraded_says_both_apart() -> None:
    found = today(of("degraded", 1, differing_files=1))
    assert [(m.subject, m.page) for m in found] == [
        ("files of pool 1", ABOUT + "files%20of%20pool%201"), ("pool 1", "/trouble/1"),
    ]  # fmt: skip
    assert today(of("degraded")) == [], "nothing is empty and nothing is rebuilt: nobody can do anything"


@pytest.mark.parametrize(
    ("act", "level", "gravity", "said", "link"),
    [
        ("grow", Level.URGENT, SOON, "Make it larger", "/pools/4/grow"),
        ("extend", Level.TELL, SOMETIME, "Extend it", "/pools/4"),
        ("watch", Level.URGENT, SOMETIME, "Watch it", "/pools/4"),
    ],
)
def test_what_is_done_about_what_fills_up(act: str, level: Level, gravity: Gravity, said: str, link: str) -> None:
    (matter,) = today(fills=[Filling(4, 0.9, "Pool safe is 90 % full.", act, level)])
    assert (matter.gravity, matter.act, matter.link) == (gravity, said, link)
    assert (matter.key, matter.pool, matter.sort) == ("room of pool 4", 4, "room")


def test_a_drive_that_fails_is_another_thing_than_one_that_warned() -> None:
    keys = [today(drives=[NotedDrive(3, "X", 7, failing)])[0].key for failing in (True, False)]
    assert keys == ["drive 3 is failing", "drive 3 gives warning"]
    sorts = [
        (m.sort, m.page, m.drive, m.pool)
        for one in (
            NotedDrive(3, "X", None, True), NotedDrive(3, "X", 7, True), NotedDrive(3, "X", 7, False, of_link=True),
            NotedDrive(3, "X", 7, False, to_scan=True), NotedDrive(3, "X", None, False),
        )
        for m in today(drives=[one])
    ]  # fmt: skip
    failing, warning = ABOUT + "drive%203%20is%20failing", ABOUT + "drive%203%20gives%20warning"
    assert sorts == [
        ("failing", failing, 3, None), ("", "/trouble/7", None, None), ("link", warning, 3, 7), ("scan", warning, 3, 7),
        ("warns", warning, 3, None),
    ]  # fmt: skip


def test_the_gravest_first_and_otherwise_in_their_order() -> None:
    found = today(
        of("degraded", 1), new_drives=1, drafts=[(1, "A"), (2, "B")], locked=[(4, "safe")], watcher_away=True,
        worker_away=True, room_left=1,
    )  # fmt: skip
    assert [m.subject or m.link for m in found] == [
        "worker", WATCHER, "disk", "pool 1", "lock of pool 4", "/changes/1", "/changes/2", "/shelves?filter=new",
    ]  # fmt: skip


def test_a_matter_is_known_by_what_it_is_about_or_by_where_it_is_seen_to() -> None:
    assert Matter(NOW, "So.", "Do", "/x", subject="it").key == "it"
    assert Matter(NOW, "So.", "Do", "/x").key == "/x Do"
    assert Matter(NOW, "So.", "", "/x").key == "/x"
    assert Matter(NOW, "y" * 99, "", "").key == "y" * 40


@pytest.mark.parametrize(
    ("gravities", "pools", "said"),
    [
        ([NOW], 1, "One thing needs you now."),
        ([NOW, NOW], 1, "2 things need you now."),
        ([NOW, SOON], 1, "One thing needs you now, and 1 more before long."),
        ([SOON], 1, "One thing needs you before long."),
        ([SOON, SOON, SOMETIME], 0, "2 things need you before long."),
        ([], 0, "There is no pool yet."),
        ([SOMETIME], 0, "There is no pool yet."),
        ([], 1, "All is well."),
        ([SOMETIME], 1, "All is well; 1 thing can wait."),
        ([SOMETIME] * 2, 1, "All is well; 2 things can wait."),
    ],
)
def test_the_verdict(gravities: list[Gravity], pools: int, said: str) -> None:
    found = [Matter(g, "x", "", "") for g in gravities]
    assert verdict(found, pools) == said
    assert is_well(found) == all(g is SOMETIME for g in gravities)


# -- several changes as one plan -----------------------------------------------------------------------------------


def build(*drives: int, name: str = "a", **more: Any) -> tuple[str, Any]:
    asked = {"name": name, "scheme": "copies-2", "drives": drives, **more}
    return "build-pool", request_of("build-pool", asked)


def party(name: str) -> tuple[str, Any]:
    return "add-party", request_of("add-party", {"name": name})


def mounted(host: str, at: str, volume: str = "a/v") -> tuple[str, Any]:
    return "mount-volume", request_of("mount-volume", {"volume": volume, "host": host, "mount_point": at})


@pytest.mark.parametrize(
    ("asked", "said", "field"),
    [
        ([], f"between 1 and {MOST}", "sheets"),
        ([party(f"p{i}") for i in range(MOST + 1)], f"between 1 and {MOST}", "sheets"),
        ([build(1, 2), build(2, 3, name="b")], "Change 1 of this plan takes one of these", "sheets.1.drives"),
        ([party("x"), build(1, 2), build(5, 1, name="b")], "Change 2 of this plan takes", "sheets.2.drives"),
        ([build(1, 2), build(3, 4, name=" A ")], "Change 1 of this plan gives this name", "sheets.1.name"),
        ([party("desk"), party("Desk")], "Change 1 of this plan gives this name", "sheets.1.name"),
        ([mounted("elm", "/srv/x"), mounted(" elm", "/srv/x ", "a/w")], "Change 1 of this plan mounts there", "sheets.1.mount_point"),
    ],
)  # fmt: skip
def test_what_stands_in_the_way_of_another_change_is_refused_at_its_field(
    asked: list[tuple[str, Any]], said: str, field: str
) -> None:
    with pytest.raises(BadInput, match=said) as refusal:
        require_apart(asked)
    assert refusal.value.field == field


def test_changes_that_have_nothing_to_do_with_one_another_go_into_one_plan() -> None:
    require_apart([party("only")])
    require_apart([party(f"p{i}") for i in range(MOST)])
    # A person may be called as a pool is; the same place on two hosts is two places.
    require_apart([build(1, 2, name="desk"), party("desk"), build(3, 4, name="b")])
    require_apart([mounted("elm", "/srv/x"), mounted("fir", "/srv/x", "a/w"), mounted("elm", "/srv/y", "a/u")])
    require_apart([build(1, 2), build(3, 4, name="b")])


# -- what waits, what is refused, what is never in the way ------------------------------------------------------------


def test_every_wait_is_said_for_what_it_waits_for_and_nothing_else() -> None:
    for wait in WAITS:
        for other in wait.under_way:
            assert why_waiting(wait.job, ["fill", other]) is not None
    kinds = {k for w in WAITS for k in w.under_way} | {m.new for m in MEETINGS}
    for kind in kinds:
        for other in kinds:
            asked = any(w.job == kind and other in w.under_way for w in WAITS)
            assert (why_waiting(kind, [other]) is not None) == asked
    assert (
        why_waiting("restripe", ["rebuild"]) == "a rebuild goes first" and why_waiting("rebuild", ["restripe"]) is None
    )
    assert frozenset(w.job for w in WAITS) == WAITING >= {"scan", "copy", "drain"}


def test_a_refusal_is_the_first_and_what_joins_is_none() -> None:
    found = refused(Under("check"), [Under("fill", 1), Under("restripe"), Under("check")])
    assert found is not None and found.code == "restriping"
    assert refused(Under("self-repair", slot=1), [Under("self-repair", slot=1)]) is None
    assert refused(Under("rebuild", slot=1), [Under("rebuild", slot=1)]) is None
    assert all(m.code for m in MEETINGS if m.then is Then.REFUSED)


# -- scans and recovery ------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("state", "synced", "code"),
    [
        ("healthy", True, None), ("degraded", True, None), ("unprotected", True, None), ("lost", True, "not-serving"),
        ("unreachable", True, "not-serving"), ("healthy", False, "not-synced"), ("lost", False, "not-serving"),
    ],
)  # fmt: skip
def test_when_a_surface_can_be_scanned(state: str, synced: bool, code: str | None) -> None:
    found = why_no_scan(state, synced=synced)
    assert (found[0] if found else None) == code
    assert found is None or state in found[1] or code == "not-synced"


@pytest.mark.parametrize(
    ("limit", "bears", "well", "said", "better"),
    [
        (None, 1, False, "without a limit", USUAL_RECOVERY),
        (LONGEST_RECOVERY + 0.5, 1, False, "for up to 30.5 s", USUAL_RECOVERY),
        (LONGEST_RECOVERY, 2, True, "gives up on a bad sector after 30 s; the others have", None),
        (7.0, 1, True, "after 7 s", None),
        (7.0, 0, False, "no other drive has what stands there", None),
        (None, 0, True, "as long as it takes", None),
    ],
)
def test_how_long_a_drive_should_try(
    limit: float | None, bears: int, well: bool, said: str, better: float | None
) -> None:
    found = judge_recovery(limit, rotates=True, in_pool=True, bears=bears)
    assert found is not None and said in found.sentence and (found.well, found.better) == (well, better)
    assert judge_recovery(limit, rotates=False, in_pool=True, bears=bears) is None
    assert judge_recovery(limit, rotates=True, in_pool=False, bears=bears) is None


# -- before a pool is built ------------------------------------------------------------------------------------------


def drive(number: int, **more: Any) -> EstateDrive:
    known = Drive(str(number), 4 * TB, Kind.HDD, 200_000_000, "Larch", error_recovery=7.0)
    one = EstateDrive(number, f"S{number}", "Larch", number, 4 * TB, Kind.HDD, 200_000_000, "free", "good", known=known)
    return replace(one, **more)


def ready(*drives: EstateDrive, silent: dict[int, str] | None = None) -> list[str]:
    return [f.sentence for f in readiness(drives, silent or {})]


def test_drives_of_one_kind_that_answer_say_so_and_nothing_warns() -> None:
    found = readiness([drive(1), drive(2)], {})
    assert [f.sentence for f in found] == [
        "Both drives answer: their labels and their first and last extents were read.",
        "Both are 4 TB.", "No drive's own readings warn.", "All rotating drives give up on a bad sector in time.",
    ]  # fmt: skip
    assert not any(f.blocks for f in found)
    require_ready(found)
    assert ready(drive(1))[:2] == [
        "The drive answers: its label and its first and last extent were read.",
        "It is 4 TB.",
    ]


@pytest.mark.parametrize(
    ("odd", "said"),
    [
        ({"size": 6 * TB}, r"^Sizes differ: 2 of 4 TB, 1 of 6 TB\."),
        ({"kind": Kind.SSD}, r"^Kinds are mixed \(2 hdd, 1 ssd\); the slowest"),
        ({"condition": "failing"}, r"^Larch bay 3 \(S3\) is failing by its own readings"),
        ({"holds": "letters"}, r"^Larch bay 3 \(S3\): other data, given up by this\."),
        (
            {"known": Drive("3", 4 * TB, error_recovery=LONGEST_RECOVERY + 1)},
            r"^Larch bay 3 \(S3\): no limit of error recovery",
        ),
        ({"known": Drive("3", 4 * TB)}, r"^Larch bay 3 \(S3\): no limit of error recovery"),
    ],
)
def test_one_that_is_not_like_the_others_is_named(odd: dict[str, Any], said: str) -> None:
    found = readiness([drive(1), drive(2), drive(3, **odd)], {})
    assert [f for f in found if re.search(said, f.sentence)], [f.sentence for f in found]
    assert not any(f.blocks for f in found), "it warns, and does not block"


def test_a_limit_of_exactly_the_longest_is_in_time() -> None:
    at_the_edge = drive(1, known=Drive("1", 4 * TB, error_recovery=LONGEST_RECOVERY))
    assert "All rotating drives give up on a bad sector in time." in ready(at_the_edge)
    flash = drive(1, kind=Kind.SSD, known=Drive("1", 4 * TB, Kind.SSD))
    assert not any("sector" in s for s in ready(flash)), "it makes no difference there"


def test_of_many_the_first_three_are_named() -> None:
    (said,) = (s for s in ready(*(drive(i, condition="failing") for i in range(1, 6))) if "failing" in s)
    assert said.startswith("Larch bay 1 (S1), Larch bay 2 (S2), Larch bay 3 (S3) and 2 more are failing by their own")
    (said,) = (s for s in ready(*(drive(i, holds="x") for i in range(1, 4))) if "other data" in s)
    assert "more" not in said


def test_buses_sectors_and_links() -> None:
    assert any(s == "Buses are mixed: SAS, SATA." for s in ready(drive(1, bus="SATA"), drive(2, bus="SAS"), drive(3)))
    assert not any("Buses" in s for s in ready(drive(1, bus="SATA"), drive(2), drive(3, bus="SATA")))
    mixed = ready(drive(1, sector_size=4096), drive(2, sector_size=512), drive(3))
    assert any(s.startswith("Sector sizes differ: 512 and 4096 bytes.") for s in mixed)
    assert not any("Sector" in s for s in ready(drive(1, sector_size=512), drive(2)))
    one = drive(1).as_drive
    for link, slow in ((int(2 * one.mean_rate) + 1, False), (int(2 * one.mean_rate) - 1, True)):
        own = [drive(i, known=replace(one, id=str(i), link=link)) for i in (1, 2)]
        assert any(s.startswith("The link of Larch (") and "for 2 drives" in s for s in ready(*own)) == slow


def test_what_blocks_is_refused_with_all_of_it_and_nothing_is_called_well() -> None:
    blocked = readiness([drive(1, service="new"), drive(2), drive(3)], {3: "no reply"})
    assert [f.sentence for f in blocked if f.blocks] == [
        "Larch bay 1 (S1): It is new; accept it first.", "Larch bay 3 (S3) does not answer: no reply.",
    ]  # fmt: skip
    assert not any("All 3 drives answer" in f.sentence for f in blocked)
    with pytest.raises(NotPossible, match=r"accept it first.*does not answer") as refusal:
        require_ready(blocked)
    assert (refusal.value.code, refusal.value.field) == ("drive-silent", "drives")
    with pytest.raises(NotPossible) as refusal:
        require_ready(readiness([drive(1, service="in-use", pool="cold")], {}))
    assert refusal.value.code == "drive-not-free"


# -- find and do, and the calendar ------------------------------------------------------------------------------------


def test_two_letters_are_no_act_and_three_are() -> None:
    pool = Named("pool", "cold store", "/pools/1", empty=1)
    assert acts_on("ch", [pool]) == [] and [s for s, _ in acts_on("che", [pool])] == ["Check pool cold store"]
    assert [s for s, _ in acts_on("  CHECK   store  cold ", [pool])] == ["Check pool cold store"]
    assert acts_on("check store warm", [pool]) == []
    assert [t.name for t in matches("o", [pool, Named("pool", "Oak", "/"), Named("pool", "oak", "/")])] == [
        "Oak",
        "oak",
        "cold store",
    ]


@pytest.mark.parametrize(
    ("made", "field"),
    [
        ({"day": -1}, "day"), ({"day": 7}, "day"), ({"minute": -1}, "minute"), ({"minute": 1440}, "minute"),
        ({"zone": "Fernhollow"}, "zone"), ({"weeks": 0}, "weeks"), ({"weeks": MOST_WEEKS + 1}, "weeks"),
        ({"weeks": None}, "weeks"), ({"which": 1}, "weeks"), ({"weeks": None, "which": 5}, "which"),
        ({"weeks": None, "which": 0}, "which"), ({"weeks": None, "which": -2}, "which"),
    ],
)  # fmt: skip
def test_what_no_calendar_has(made: dict[str, Any], field: str) -> None:
    usual: dict[str, Any] = {"day": 0, "minute": 0, "zone": "UTC"}
    with pytest.raises(BadInput) as refusal:
        Recurrence(**{**usual, **made})
    assert refusal.value.field == field


def test_the_last_that_a_calendar_has_and_how_it_is_said() -> None:
    edge = Recurrence(6, 1439, "UTC", MOST_WEEKS)
    assert edge.words == f"every {MOST_WEEKS} weeks on Sunday at 23:59 (UTC)"
    assert Recurrence(0, 0, "UTC").words == "every week on Monday at 00:00 (UTC)"
    assert Recurrence(2, 65, "UTC", None, -1).words == "on the last Wednesday of every month at 01:05 (UTC)"
    for which, said in ((1, "first"), (4, "fourth")):
        assert f"on the {said} {DAYS[4]}" in Recurrence(4, 0, "UTC", None, which).words
    assert Recurrence(4, 0, "UTC", None, 2).rule == {"freq": "monthly", "byday": "2FR"}
    assert Recurrence(4, 0, "UTC", 3).rule == {"freq": "weekly", "interval": 3, "byday": "FR"}


def test_what_is_not_done_by_schedule() -> None:
    require_known("check", "gentle")
    require_zone("Europe/Paris")
    for what, pace, field in (("wipe", "gentle", "what"), ("scan", "brisk", "pace")):
        with pytest.raises(BadInput) as refusal:
            require_known(what, pace)
        assert refusal.value.field == field

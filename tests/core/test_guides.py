"""Every trouble has a page: nothing that presses is said without what still holds, what to do, and what not to do."""

from __future__ import annotations

from urllib.parse import parse_qs, urlsplit

from pairshelf.core.policies.attention import Gravity, Matter, NotedDrive, PoolFacts, matters
from pairshelf.core.policies.filling import Filling
from pairshelf.core.watching.guides import GUIDES
from pairshelf.core.watching.thresholds import Level


def everything() -> list[Matter]:
    """As much trouble as there can be at once."""
    pools = [
        PoolFacts(1, "hurt", "degraded", 1, False, 2, 0),
        PoolFacts(2, "odd", "healthy", 0, False, 0, 4),
        PoolFacts(3, "gone", "lost", 3, False, 0, 0),
    ]
    drives = [
        NotedDrive(1, "Drive A", 1, True, "why"), NotedDrive(2, "Drive B", None, True, "why"),
        NotedDrive(3, "Drive C", 1, False, "hot"), NotedDrive(4, "Drive D", 1, False, "cable", of_link=True),
        NotedDrive(5, "Drive E", None, False, "pending", to_scan=True),
    ]  # fmt: skip
    return matters(
        pools, new_drives=1, drives=drives, drafts=[(1, "A draft")], worker_away=True, watcher_away=True, no_drives=False, free_drives=0,
        no_pools=False, locked=[(4, "shut")], unkept=[(5, "bare")], room_left=1,
        unruled=[(6, "v", "recorder")], fills=[Filling(7, 0.95, "Pool p is full.", "grow", Level.URGENT)],
        spoilt=[(8, "Drive F", "only partly wiped")], backups=[(9, "p", 99.0)],
    )  # fmt: skip


def test_whatever_presses_has_a_page_of_its_own() -> None:
    found = everything()
    pages = [m.page for m in found if m.gravity < Gravity.SOMETIME]
    assert all(pages) and len([m for m in found if m.sort]) == 14
    for matter in found:
        if matter.sort:
            assert parse_qs(urlsplit(matter.page).query) == {"key": [matter.key]}
        elif matter.page:
            assert matter.page.startswith("/trouble/") and matter.pool is None
    # Two troubles are never on one page, but for those of one pool's drives.
    own = [m.page for m in found if m.sort]
    assert len(own) == len(set(own))


def test_a_drive_missing_and_files_that_differ_are_two_troubles() -> None:
    hurt = [m for m in everything() if "hurt" in m.sentence]
    assert {m.page.split("?")[0] for m in hurt} == {"/trouble/1", "/trouble/about"}


def test_every_sort_of_trouble_says_all_there_is_to_say() -> None:
    assert {m.sort for m in everything() if m.sort} == set(GUIDES)
    for sort, guide in GUIDES.items():
        matter = next(m for m in everything() if m.sort == sort)
        assert matter.act or guide.act, f"{sort}: what is to be done?"
        assert guide.still.endswith(".") and guide.why.endswith(".") and guide.blocked
        for blocked in guide.blocked:
            assert blocked.why.endswith(".") and not blocked.act.endswith(".")

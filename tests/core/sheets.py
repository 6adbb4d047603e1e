"""What every kind of change says on its sheet, as plain text: ``python -m tests.core.sheets`` writes it anew.

The texts stand in ``sheets.txt`` beside this, read by people: a sheet is what somebody approves.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable
from dataclasses import asdict, fields, is_dataclass, replace
from enum import Enum
from pathlib import Path
from typing import Any

import numpy as np

from pairshelf.core.changes.doors import doors, fixed
from pairshelf.core.changes.kinds import KINDS, request_of
from pairshelf.core.changes.sheet import ChangeSheet, Figure
from pairshelf.core.disposal.facts import Command, Identity
from pairshelf.core.domain.estate import (
    Entry,
    Estate,
    EstateDrain,
    EstateDrive,
    EstateHost,
    EstateMount,
    EstatePlace,
    EstatePool,
    EstateVolume,
    FormerPool,
)
from pairshelf.core.domain.found import FoundMember, FoundPool, FoundVolume, Hanging, Standing
from pairshelf.core.domain.partitions import Table, WantedPartition
from pairshelf.core.domain.units import EXTENT, GIB, TB
from pairshelf.core.figures.assess import assess
from pairshelf.core.figures.assumptions import Assumptions
from pairshelf.core.layouts import Layout, build_layout
from pairshelf.core.layouts.grown import with_sets
from pairshelf.core.layouts.protections import Protection
from pairshelf.core.layouts.restripe import Moving
from pairshelf.core.layouts.restriping import restriping
from pairshelf.core.layouts.spread import StripedVolume, spread_layout, spread_of
from pairshelf.core.policies.beside import Under
from pairshelf.core.search.growth import growth
from tests.core.estates import (
    IQN,
    Drive,
    Kind,
    divided,
    emptied,
    estate,
    free,
    more_drives,
    partitioned,
    spread,
    with_pool,
    with_volume,
)

KEPT = Path(__file__).with_name("sheets.txt")


def pool_of(one: Estate, scheme: str, count: int, sets: int = 1) -> Estate:
    """A second pool, of so many drives, with a volume at its start."""
    layout = build_layout([Drive(str(i), 6 * TB) for i in range(count)], scheme, sets=sets)
    drives = tuple(
        EstateDrive(40 + i, f"D{i}", "Yew", i + 1, 6 * TB, Kind.HDD, None, "in-use", "good", pool="d")
        for i in range(count)
    )
    places = tuple(EstatePlace(i, "active", layout.members[i], drives[i]) for i in range(count))
    pool = EstatePool(5, "d", "healthy", layout, places, (), True, scheme, ((1000, layout.data_extents - 1000),))
    return replace(one, drives=(*one.drives, *drives), pools=(*one.pools, pool), pool_names=one.pool_names | {"d"})


def on_its_way(one: Estate, *, turned: bool = False, wider: bool = True, old: int = 4) -> Estate:
    """A pool that is being restriped from single to double parity, a third of the way; or the other way round."""
    found = pool_of(one, "parity-1", 5)
    pool = found.pools[-1]
    drives = [p.designed for p in pool.places]
    narrow, wide = build_layout(drives[:old], "parity-1"), build_layout(drives, "parity-2")
    moving = Moving(narrow, wide) if wider else Moving(wide, narrow)
    layout = restriping(moving, moving.old.data_extents // 3, upwards=moving.walk().upwards, turned=turned)
    return replace(found, pools=(*found.pools[:-1], replace(pool, layout=layout, under_way=(Under("restripe"),))))


def laid(one: Estate, extents: int = 100) -> Estate:
    """The spread pool with two copies of so many extents, most of them on its first drives."""
    found = spread(one)
    pool = found.pools[-1]
    spots = np.array([[[i % 2, i // 2], [2 + i % 4, i // 4 + 100]] for i in range(extents)], np.int32)
    layout = spread_of(pool.layout).with_volume(StripedVolume(9, Protection("copies-2", 2), spots))
    return replace(found, pools=(*found.pools[:-1], replace(pool, layout=layout)))


def draining(one: Estate) -> Estate:
    """The same while its first two drives are drained."""
    found = laid(one)
    pool = found.pools[-1]
    places = tuple(replace(p, draining=p.slot < 2) for p in pool.places)
    return replace(found, pools=(*found.pools[:-1], replace(pool, places=places)))


def roomy_pair(one: Estate) -> Estate:
    """A pair whose drives are larger than their places were made with."""
    found = pool_of(one, "copies-2", 2)
    pool = found.pools[-1]
    places = tuple(replace(p, drive=replace(p.drive, size=8 * TB)) for p in pool.places if p.drive)
    return replace(found, pools=(*found.pools[:-1], replace(pool, places=places)))


def held_pair(one: Estate) -> Estate:
    """A pair of flash drives of which a tenth is held back."""
    found = pool_of(one, "copies-2", 2)
    pool = found.pools[-1]
    flash = [replace(p.drive, kind=Kind.SSD, held_share=0.1) for p in pool.places if p.drive]
    layout = build_layout([Drive(str(i), d.offers, Kind.SSD) for i, d in enumerate(flash)], "copies-2")
    places = tuple(replace(p, drive=d, designed=m) for p, d, m in zip(pool.places, flash, layout.members, strict=True))
    drives = tuple(d for d in found.drives if d.id < 40)
    gaps = ((1000, layout.data_extents - 1000),)
    pool = replace(pool, layout=layout, places=places, gaps=gaps)
    return replace(found, drives=(*drives, *flash), pools=(*found.pools[:-1], pool))


def last_pool(one: Estate, **facts: Any) -> Estate:
    """The last pool with other facts."""
    return replace(one, pools=(*one.pools[:-1], replace(one.pools[-1], **facts)))


def with_pool_besides(one: Estate, **facts: Any) -> Estate:
    """The first pool with other facts, the others as they are."""
    return replace(one, pools=(replace(one.pools[0], **facts), *one.pools[1:]))


def failing(one: Estate, *drives: int) -> Estate:
    """The last pool, of which some drives warn."""
    places = tuple(
        replace(p, drive=replace(p.drive, condition="failing")) if p.drive and p.drive.id in drives else p
        for p in one.pools[-1].places
    )
    return last_pool(one, places=places)


def added_set(one: Estate) -> Estate:
    """A pool whose second set was added later; nothing stands on it."""
    layout = with_sets(
        build_layout([Drive(str(i), 6 * TB) for i in range(4)], "parity-1"),
        [Drive(str(i), 6 * TB) for i in range(4, 8)],
    )
    found = pool_of(one, "parity-1", 8, 2)
    places = tuple(replace(p, designed=layout.members[i]) for i, p in enumerate(found.pools[-1].places))
    return last_pool(found, layout=layout, places=places, gaps=((1000, layout.data_extents - 1000),))


def on_its_way_to_more(one: Estate) -> Estate:
    """A pool of single parity that gets a fifth drive, with two volumes."""
    found = on_its_way(one)
    pool = found.pools[-1]
    drives = [p.designed for p in pool.places]
    moving = Moving(build_layout(drives[:4], "parity-1"), build_layout(drives, "parity-1"))
    layout = restriping(moving, moving.old.data_extents // 3, upwards=moving.walk().upwards, turned=False)
    volumes = tuple(
        EstateVolume(50 + i, "d", f"v{i}", 100 * GIB, False, "ext4", None, GIB, f"uuid-v{i}", placed=100)
        for i in range(2)
    )
    found = replace(found, volumes=(*found.volumes, *volumes))
    return last_pool(found, layout=layout, gaps=((200, layout.data_extents - 200),))


def slow_link(one: Estate, link: int, shelf: str = "Elm") -> Estate:
    """A shelf with a slow link, and free drives on that or on another."""
    drives = tuple(
        replace(d, known=Drive(str(d.id), d.size, rate=150_000_000, shelf=d.shelf, host=d.host, link=link))
        for d in one.drives
    )
    places = tuple(replace(p, drive=d) for p, d in zip(one.pools[0].places, drives, strict=False))
    others = (replace(free(i), shelf=shelf) for i in (11, 12, 13, 14))
    known = (replace(d, known=Drive(str(d.id), d.size, rate=100_000_000, shelf=d.shelf, host=d.host,
                                    link=link if shelf == "Oak" else None)) for d in others)  # fmt: skip
    return with_pool_besides(replace(one, drives=(*drives, *known)), places=places)


def scattered(one: Estate) -> Estate:
    """The members of the pool on shelves of their own; the fourth on none that is known."""
    shelves = ("A", "B", "C", None)
    drives = tuple(replace(d, shelf=s, host=f"h{i}") for i, (d, s) in enumerate(zip(one.drives, shelves, strict=True)))
    places = tuple(replace(p, drive=d) for p, d in zip(one.pools[0].places, drives, strict=True))
    return with_pool_besides(replace(one, drives=drives), places=places)


def linked(one: Estate, link: int) -> Estate:
    """A spread pool over two shelves with links, most of it on the first."""
    found = laid(one)
    pool = found.pools[-1]
    old = spread_of(pool.layout)
    drives = [
        Drive(str(i), 2 * TB, rate=100_000_000 * (1 + i % 2), shelf="Ash" if i < 3 else "Elm", link=link)
        for i in range(6)
    ]
    layout = spread_layout(drives, "drive", old.volumes)
    return last_pool(found, layout=layout, places=tuple(replace(p, designed=drives[p.slot]) for p in pool.places))


def all_sorts_to_wipe(one: Estate) -> Estate:
    """Five rotating drives, one of flash."""
    disk, flash = (
        Identity(frozenset({Command.WRITE_ZEROES}), sector=4096),
        Identity(frozenset({Command.BLOCK_ERASE}), spare=True, erase_seconds=60),
    )
    found = more_drives(one, *(free(i) for i in range(11, 16)), free(16, 2 * TB, kind=Kind.SSD))
    return replace(found, identities=(*((i, disk) for i in range(11, 16)), (16, flash)))


def emptied_place(one: Estate) -> Estate:
    """The pool with no drive in its third place."""
    places = tuple(replace(p, drive=None, state="failed") if p.slot == 2 else p for p in one.pools[0].places)
    return with_pool_besides(one, places=places)


def larger_set(one: Estate) -> Estate:
    """Three of the four members are larger already than their places were made with."""
    found = four(one)
    pool = found.pools[0]
    sizes = [6 * TB, 8 * TB, 8 * TB, 8 * TB]
    layout = build_layout([Drive(str(i), s) for i, s in enumerate(sizes)], "parity-1")
    places = tuple(replace(p, designed=d) for p, d in zip(pool.places, layout.members, strict=True))
    return replace(found, pools=(replace(pool, layout=layout, places=places),))


def as_it_is(one: Estate) -> Estate:
    """Nothing else."""
    return one


def four(one: Estate) -> Estate:
    """Free drives: three alike, a larger one that warns, and a smaller one that still holds something."""
    return more_drives(one, free(11), free(12), free(13), free(14, 8 * TB, condition="failing"),
                       free(15, 4 * TB, holds="old data of pool barn, readable"))  # fmt: skip


def asked_back(one: Estate) -> Estate:
    """The recorder's old folder is still there."""
    return replace(one, folders=(*one.folders, (("elm", "/var/cam.aside"), (Entry("a.rec", GIB),))))


def own_recorder(one: Estate) -> Estate:
    """The recorder keeps its data on its host's own disk."""
    app = replace(one.applications[0], volume=None, folder="/var/cam", moved_from=None)
    mounts = (one.mounts[0], EstateMount(3, "elm", "p/b", "/srv/b"))
    held = (("elm", "/var/cam"), (Entry("a.rec", 3 * GIB), Entry("b.rec", 2 * GIB)))
    return replace(one, applications=(app,), mounts=mounts, folders=(*one.folders, held))


def with_files(name: str, amount: int, **more: Any) -> Callable[[Estate], Estate]:
    """Files on a volume, as far from its start as they are large."""
    return lambda one: with_volume(one, name, **({"files": 3, "files_bytes": amount, "files_end": amount} | more))


def bare(one: Estate) -> Estate:
    """Nothing is mounted, shared or served."""
    return replace(one, mounts=(), shares=(), targets=(), applications=())


def taken_apart(one: Estate) -> Estate:
    """A pool that was, one of whose drives is away."""
    return replace(one, former=(FormerPool(3, "barn", 4, 2, True, 1, False, False, ("B2",), (), 16000, 1500),))


UID = "d" * 32


def found_whole(one: Estate) -> Estate:
    """Three drives that say they are a pool that is not here, with nothing amiss."""
    layout = build_layout([Drive(str(i), 6 * TB) for i in range(3)], "parity-1")
    members = tuple(
        FoundMember(f"M{i}", i, 6 * TB, Standing.CURRENT, "active", 60 + i, f"loft bay {i + 5}") for i in range(3)
    )
    volumes = (FoundVolume("peat", 4 * TB, "xfs", 12), FoundVolume("moss", 2 * TB, "none", 0))
    at = dt.datetime(2026, 11, 20, 9, 30, tzinfo=dt.UTC)
    pool = FoundPool(UID, "moor", (), None, layout, "RAID 5, 1 set of 3", 5, at, False, False, members, volumes)
    return replace(one, found=(pool,))


def found_with_all_sorts(one: Estate) -> Estate:
    """Six drives of an encrypted pool: one is away, one has an older record, one lacks some; a stranger besides. Of what
    hung on its volumes some can be made again."""
    (pool,) = found_whole(one).found
    layout = build_layout([Drive(str(i), 6 * TB) for i in range(6)], "parity-3")
    stand = [Standing.CURRENT, Standing.OLDER, Standing.AWAY, Standing.BEHIND, Standing.CURRENT, Standing.CURRENT]
    members = tuple(
        FoundMember(
            f"M{i}", i, 6 * TB, s, "missing" if s is Standing.BEHIND else "active",
            None if s is Standing.AWAY else 60 + i, "" if s is Standing.AWAY else f"loft bay {i + 5}",
            missed=48 if s is Standing.BEHIND else None,
        )
        for i, s in enumerate(stand)
    )  # fmt: skip
    hanging = (
        Hanging("mount", "peat", "the mount of peat at /srv/peat on elm", "elm", "/srv/peat"),
        Hanging("share", "peat", "the share bogs of peat", "", "bogs", ("ash:write", "nobody-here:read")),
        Hanging("disk", "moss", "disk 2 of target iqn.2026-01.example.mill:t", "yew", "iqn.2026-01.example.mill:t"),
    )
    more = replace(pool, layout=layout, scheme="RAID with triple parity, 1 set of 6",
                   members=members, hanging=hanging, encrypted=True, synced=False,
                   left_over=(("M9", "loft bay 12"),))  # fmt: skip
    return replace(one, found=(more,))


def found_given(one: Estate) -> Estate:
    """The three drives of a pool: one had been emptied, one was being filled, and a share hangs on what is mounted nowhere."""
    (pool,) = found_whole(one).found
    states = ("active", "emptied", "rebuilding")
    members = tuple(replace(m, state=s, free=True) for m, s in zip(pool.members, states, strict=True))
    hanging = (
        Hanging("mount", "moss", "the mount of moss at /srv/moss on elm", "elm", "/srv/moss"),
        Hanging("share", "peat", "the share bogs of peat", "", "bogs", ("ash:write",)),
    )
    return replace(one, found=(replace(pool, members=members, hanging=hanging, taken=5000),))


def found_too_little(one: Estate) -> Estate:
    """Two of three are away."""
    (pool,) = found_whole(one).found
    away = tuple(replace(m, standing=Standing.AWAY, drive_id=None, place="") if m.slot else m for m in pool.members)
    return replace(one, found=(replace(pool, members=away),))


def to_wipe(one: Estate) -> Estate:
    """Two rotating drives, one of which is failing, and one of flash, with what they report."""
    disk = Identity(frozenset({Command.SANITIZE_OVERWRITE}), protected=2, reassigned=3, sector=4096)
    flash = Identity(frozenset({Command.BLOCK_ERASE}), spare=True, erase_seconds=60)
    there = more_drives(
        one, free(11, holds="old data of pool barn, readable", known=Drive("11", 6 * TB, link=300_000_000)), free(12, condition="failing"),
        replace(free(16, 2 * TB), kind=Kind.SSD),
    )  # fmt: skip
    return replace(there, identities=((11, disk), (12, disk), (16, flash)))


#: A spare of the first pool.
STANDING_BY = free(12, service="in-use", pool="p")
ANOTHER = free(13, service="in-use", pool="p")

#: What is asked, of an estate changed so. Beside each plain case those in which something else is said.
CASES: dict[str, tuple[str, dict[str, Any], Callable[[Estate], Estate]]] = {
    "a pool with a spare, a first volume and its mount": ("build-pool", {
        "name": "cold", "scheme": "parity-1", "drives": (11, 12, 13, 14), "spares": 1, "volume": "scans", "volume_size": "3 TB",
        "host": "elm", "mount_point": "/srv/a/scans", "encrypted": True, "spares_for": "shelf", "purpose": "scans"}, four),
    "a pool of drives that differ, too small a spare": ("build-pool", {
        "name": "cold", "scheme": "copies-2", "drives": (11, 14, 15), "spares": 1, "volume": "v", "file_system": "xfs",
        "thin": True, "volume_size": "9 TB"}, four),
    "a pool without redundancy": ("build-pool", {"name": "cold", "scheme": "stripe", "drives": (11, 12)}, four),
    "a pool of double parity, its spare just large enough": ("build-pool", {
        "name": "cold", "scheme": "parity-2", "drives": (11, 12, 13, 16, 17), "spares": 1}, lambda one: more_drives(four(one), free(16), free(17))),
    "a spread pool with a thin volume": ("build-pool", {
        "name": "cold", "scheme": "spread", "drives": (11, 12, 13), "domain": "drive", "volume": "v", "volume_size": "1 TiB",
        "protection": "copies-2", "thin": True}, four),
    "a spread pool": ("build-pool", {
        "name": "cold", "scheme": "spread", "drives": (11, 12, 13, 15), "domain": "drive", "volume": "v", "volume_size": "1 TiB",
        "protection": "parity-1:3", "file_system": "btrfs"}, four),
    "a failed drive replaced by a larger one": ("replace-drive", {"pool_id": 1, "slot": 0, "drive_id": 14},
                                                lambda one: with_pool(four(one), lost=1)),
    "a drive that works exchanged": ("replace-drive", {"pool_id": 1, "slot": 0, "drive_id": 11}, four),
    "the last of a set exchanged for a larger one": ("replace-drive", {"pool_id": 1, "slot": 0, "drive_id": 14}, larger_set),
    "the copying of the second left off": ("leave-copy", {"pool_id": 1, "slot": 1}, lambda one: with_pool(one, copies=((1, free(12)),))),
    "the copying left off": ("leave-copy", {"pool_id": 1, "slot": 0}, lambda one: with_pool(one, copies=((0, free(12)),))),
    "a drive added": ("add-drives", {"pool": "p", "drives": (15,)}, lambda one: more_drives(
        one, free(15, holds="old data of pool barn, readable", condition="failing"))),
    "three added, of another kind": ("add-drives", {"pool": "p", "drives": (16, 17, 18)}, lambda one: more_drives(
        one, *(replace(free(i), kind=Kind.SSD) for i in (16, 17, 18)))),
    "two added to the second set": ("add-drives", {"pool": "d", "drives": (11, 12), "into": 2},
                                    lambda one: four(pool_of(one, "parity-1", 8, 2))),
    "a drive added to the only set": ("add-drives", {"pool": "p", "drives": (11,), "into": 1}, four),
    "drives added to a spread pool that is in use": ("add-drives", {"pool": "s", "drives": (11, 12)}, lambda one: four(laid(one))),
    "drives added to a spread pool": ("add-drives", {"pool": "s", "drives": (11, 12)}, lambda one: four(spread(one))),
    "a set added": ("add-sets", {"pool": "p", "drives": (11, 12, 13, 14)}, four),
    "two spares for all pools": ("add-spares", {"pool": "p", "drives": (11, 12), "spares_for": "all"}, lambda one: more_drives(
        one, replace(free(11), holds="old letters"), free(12, 8 * TB))),
    "a spare that can take few places": ("add-spares", {"pool": "d", "drives": (16,)}, lambda one: more_drives(
        pool_of(one, "span", 3), free(16))),
    "a drive that works replaced, and left to stand by": ("replace-drive", {"pool_id": 1, "slot": 1, "drive_id": 11, "stands_by": True},
        lambda one: more_drives(one, free(11))),
    "a drive that works replaced by its pool's spare": ("replace-drive", {"pool_id": 1, "slot": 1, "drive_id": 12}, lambda one: with_pool(
        more_drives(one, STANDING_BY), spares=(STANDING_BY,))),
    "a drive of a stripe that still reads exchanged": ("replace-drive", {"pool_id": 5, "slot": 1, "drive_id": 11}, lambda one: more_drives(
        pool_of(one, "stripe", 2), free(11))),
    "a single drive made a pair": ("convert-pool", {"pool": "d", "scheme": "copies-2", "drives": (11,)},
                                   lambda one: four(pool_of(one, "single", 1))),
    "two copies to one": ("convert-pool", {"pool": "d", "scheme": "single"}, lambda one: pool_of(one, "copies-2", 4, 2)),
    "less parity, a failing drive freed": ("convert-pool", {"pool": "d", "scheme": "parity-1"}, lambda one: failing(pool_of(one, "parity-2", 10, 2), 41, 47)),
    "less parity, the chosen drives freed": ("convert-pool", {"pool": "d", "scheme": "parity-1", "free": (46, 40)}, lambda one: pool_of(one, "parity-2", 10, 2)),
    "more steps on the drives there are": ("convert-pool", {"pool": "d", "scheme": "stepped-2"}, lambda one: pool_of(one, "stepped-1", 4)),
    "two copies to parity": ("convert-pool", {"pool": "d", "scheme": "parity-1", "drives": (11,)}, lambda one: four(pool_of(one, "copies-2", 2))),
    "a larger drive into a stepped pool": ("replace-drive", {"pool_id": 5, "slot": 0, "drive_id": 16}, lambda one: more_drives(
        pool_of(one, "stepped-1", 4), free(16, 8 * TB))),
    "the smaller of two drives of a span exchanged": ("replace-drive", {"pool_id": 5, "slot": 1, "drive_id": 16}, lambda one: more_drives(
        pool_of(one, "span", 2), free(16, 8 * TB))),
    "a larger drive that brings nothing yet": ("replace-drive", {"pool_id": 1, "slot": 2, "drive_id": 16}, lambda one: more_drives(one, free(16, 8 * TB))),
    "too few larger drives into a stepped pool": ("replace-larger", {"pool": "d", "drives": (16,)}, lambda one: more_drives(
        pool_of(one, "stepped-2", 5), free(16, 8 * TB))),
    "larger drives into two sets": ("replace-larger", {"pool": "d", "drives": (16, 17, 18)}, lambda one: more_drives(
        pool_of(one, "copies-2", 4, 2), *(free(i, 8 * TB) for i in (16, 17, 18)))),
    "more parity": ("convert-pool", {"pool": "p", "scheme": "parity-2", "drives": (11,)}, four),
    "less parity": ("convert-pool", {"pool": "d", "scheme": "parity-1"}, lambda one: pool_of(one, "parity-2", 5)),
    "two copies to three": ("convert-pool", {"pool": "d", "scheme": "copies-3", "drives": (11, 12)}, lambda one: four(pool_of(one, "copies-2", 4, 2))),
    "larger drives one by one": ("replace-larger", {"pool": "d", "drives": (16, 17)}, lambda one: more_drives(
        pool_of(one, "copies-2", 2), free(16, 8 * TB), free(17, 8 * TB))),
    "a larger drive into a span": ("replace-larger", {"pool": "d", "drives": (16,)}, lambda one: more_drives(
        pool_of(one, "span", 2), free(16, 8 * TB))),
    "too few larger drives": ("replace-larger", {"pool": "p", "drives": (16,)}, lambda one: more_drives(one, free(16, 8 * TB))),
    "a path left": ("leave-path", {"pool": "p"}, lambda one: with_pool(one, path=((0, 11, True), (1, 12, False)))),
    "what larger drives have, used": ("use-room", {"pool": "d"}, roomy_pair),
    "a set that was added later taken out": ("take-out", {"pool": "d", "drives": (44, 45, 46, 47)}, added_set),
    "the first drive of a span taken out": ("take-out", {"pool": "d", "drives": (40,)}, lambda one: last_pool(pool_of(one, "span", 3), gaps=((0, 5587),))),
    "a spare taken out": ("take-out", {"pool": "p", "drives": (12,)}, lambda one: with_pool(
        more_drives(one, STANDING_BY), spares=(STANDING_BY,))),
    "the last drive of a span taken out": ("take-out", {"pool": "d", "drives": (42,)}, lambda one: pool_of(one, "span", 3)),
    "what is in a pool moved together": ("move-together", {"pool": "p"}, lambda one: with_pool(
        one, gaps=((1000, 3000), (8000, one.pools[0].capacity - 8000)))),
    "what was deleted reclaimed, bins emptied": ("reclaim", {"pool": "p", "bins": True}, lambda one: replace(one, volumes=tuple(
        replace(v, thin=True, placed=900, files_bytes=700 * EXTENT, in_bins=50 * EXTENT, files_in_bins=3)
        if v.ref == "p/b" else v for v in one.volumes))),
    "a drive of sets drained, its spare with it": ("drain", {"drives": (1, 12), "onto": (11, 13)}, lambda one: with_pool(
        more_drives(one, free(11), free(13), STANDING_BY), spares=(STANDING_BY,))),
    "a drive of a span drained": ("drain", {"drives": (41,), "onto": (11,)}, lambda one: more_drives(pool_of(one, "span", 3), free(11))),
    "a shelf of a spread pool drained": ("drain", {"shelves": ("Ash",), "drives": (21, 22)}, lambda one: replace(
        laid(one), drives=tuple(replace(d, shelf="Elm") if d.id in (23, 24, 25) else d for d in laid(one).drives))),
    "drives of sets and of a spread pool drained together": ("drain", {"drives": (1, 22), "onto": (11,)}, lambda one: replace(
        laid(more_drives(one, free(11))), drives=tuple(replace(d, shelf="Elm") if d.id in (23, 24, 25) else d
                                                       for d in laid(more_drives(one, free(11))).drives))),
    "a host drained but for what it starts from and what is in no bay": ("drain", {"hosts": ("elm",), "onto": (11, 12, 13, 14)}, lambda one: more_drives(
        one, *(free(i) for i in (11, 12, 13, 14)), replace(free(60), host="elm", shelf="Oak", bay=9, starts_host=True),
        replace(free(61), host="elm", shelf=None, bay=None), replace(free(62), host="fir", shelf="Oak", bay=10))),
    "two shelves drained, one of them empty": ("drain", {"shelves": ("Oak", "Here/Elm"), "onto": (11, 12, 13, 14)}, lambda one: more_drives(
        one, *(free(i, shelf="Larch") for i in (11, 12, 13, 14)), free(15, known=Drive("15", 6 * TB, site="Here", shelf="Elm")))),
    "a shelf drained as its link bears": ("drain", {"shelves": ("Oak",), "onto": (11, 12, 13, 14)}, lambda one: slow_link(one, 200_000_000)),
    "a shelf drained within itself as its link bears": ("drain", {"drives": (1, 2, 3), "onto": (11, 12, 13)}, lambda one: slow_link(one, 320_000_000, "Oak")),
    "drives of two pools drained, one onto a larger one of another kind": ("drain", {"drives": (1, 40), "onto": (11, 14)}, lambda one: more_drives(
        pool_of(one, "copies-2", 2), free(11), free(14, 8 * TB, kind=Kind.SSD, condition="failing"))),
    "members drained to where too many would stand": ("drain", {"drives": (1, 2), "onto": (11, 12)}, lambda one: more_drives(
        scattered(one), free(11, shelf="C", host="h2"), free(12, shelf="C", host="h2"))),
    "a member drained to where as many stand as it can do without": ("drain", {"drives": (1,), "onto": (11,)}, lambda one: more_drives(
        scattered(one), free(11, shelf="E", host=None))),
    "one of two spares drained": ("drain", {"drives": (12,)}, lambda one: with_pool(more_drives(one, STANDING_BY, ANOTHER), spares=(STANDING_BY, ANOTHER))),
    "a divided drive drained": ("drain", {"drives": (12,), "onto": (13,)}, lambda one: more_drives(divided(one), free(13, 3 * TB))),
    "drives of a spread pool drained over a slow link": ("drain", {"drives": (20, 21, 23)}, lambda one: linked(one, 20_000_000)),
    "drives of a spread pool drained over a fast link": ("drain", {"drives": (20, 21, 23)}, lambda one: linked(one, 10**10)),
    "draining left off": ("leave-drain", {"drain": 4}, lambda one: replace(
        with_pool(draining(one), copies=((0, free(12)),)), drains=(EstateDrain(4, "shelf Ash", (1, 20, 21), True),))),
    "a fuller spread pool evened out while a drive is drained": ("even-out", {"pool": "s"}, lambda one: last_pool(
        laid(one, 1500), places=tuple(replace(p, draining=p.slot == 5) for p in laid(one).pools[-1].places))),
    "a spread pool evened out": ("even-out", {"pool": "s"}, laid),
    "all volumes extended": ("extend-volumes", {"pool": "p"}, as_it_is),
    "two volumes that end inside extents extended, a thin one beside them": ("extend-volumes", {"pool": "p", "volumes": ("a", "b")}, lambda one: with_volume(
        with_volume(with_volume(one, "a", size=799 * GIB + 1), "b", size=399 * GIB + 1), "rec", thin=True, placed=10)),
    "volumes extended when the front has arrived": ("extend-volumes", {"pool": "d", "after_restripe": True}, on_its_way_to_more),
    "one volume extended by all": ("extend-volumes", {"pool": "p", "volumes": ("b",)}, as_it_is),
    "a share of flash held back": ("hold-back", {"drives": (16, 17), "share": 0.1}, lambda one: more_drives(
        one, *(replace(free(i), kind=Kind.SSD) for i in (16, 17)))),
    "a share of one flash drive held back": ("hold-back", {"drives": (16,), "share": 0.1}, lambda one: more_drives(
        one, replace(free(16), kind=Kind.SSD))),
    "a share of flash given back of one of two": ("hold-back", {"drives": (40,), "share": 0.05}, held_pair),
    "all of free flash given back": ("hold-back", {"drives": (16, 17), "share": 0.0}, lambda one: more_drives(
        one, *(replace(free(i), kind=Kind.SSD, held_share=0.1) for i in (16, 17)))),
    "a share of flash given back": ("hold-back", {"drives": (40, 41), "share": 0.0}, held_pair),
    "drives sold, one of them wiped": ("hand-out", {"drives": (11, 12), "how": "sold", "to": "the reading room"}, lambda one: more_drives(
        one, free(11, wiped_at=dt.datetime(2026, 11, 20, tzinfo=dt.UTC)), free(12, holds="old data of pool barn, readable"))),
    "a drive destroyed": ("hand-out", {"drives": (12,), "how": "destroyed", "to": "the foundry, melted"}, to_wipe),
    "a pool taken apart with all that hangs on it": ("take-apart", {"pool": "p"}, as_it_is),
    "a degraded pool taken apart for good": ("take-apart", {"pool": "p", "keep_days": 0, "all_the_same": True}, lambda one: with_pool(
        one, away=1, state="degraded", encrypted=True, under_way=(Under("check"),))),
    "an encrypted pool taken apart that may come back": ("take-apart", {"pool": "p", "keep_days": 1}, lambda one: with_pool(one, encrypted=True)),
    "a pool put together again": ("put-together", {"former": 3}, taken_apart),
    "a former pool let go": ("let-go", {"former": 3}, taken_apart),
    "a pool brought in": ("bring-in", {"pool": UID}, found_whole),
    "a pool brought in of which something is given, a drive emptied, nothing mounted": ("bring-in", {"pool": UID}, found_given),
    "a pool brought in with all sorts amiss, under another name": ("bring-in", {"pool": UID, "name": "fen"}, found_with_all_sorts),
    "a lot of mixed drives wiped": ("wipe", {"drives": (11, 12, 16), "destination": "sold to the reading room"}, to_wipe),
    "one drive overwritten, a sample read back": ("wipe", {
        "drives": (12,), "category": "clear", "methods": ("overwrite",), "verify": "sample", "sample": 500}, to_wipe),
    "five of a kind and one of another wiped, one of them less": ("wipe", {
        "drives": (11, 12, 13, 14, 15, 16), "categories": ("12=clear",), "methods": ("overwrite", "16=block-erase"), "category": "clear"},
        all_sorts_to_wipe),
    "a drive wiped by its pool's key that is gone": ("wipe", {"drives": (11,)}, lambda one: replace(
        more_drives(one, free(11, sealed_by="moor", holds="ciphertext of pool moor")),
        identities=((11, Identity(frozenset())),))),
    "a drive wiped whose pool's key is not gone": ("wipe", {"drives": (11,), "category": "clear"}, lambda one: replace(
        more_drives(one, free(11, sealed_by="P")), identities=((11, Identity(frozenset({Command.WRITE_ZEROES}))),))),
    "a flash drive of half its rate, a small remnant": ("wipe", {
        "drives": (11,), "category": "clear", "verify": "sample", "sample": 5000, "remnant": "1 GiB"}, lambda one: replace(
        more_drives(one, free(11, known=Drive("11", 6 * TB, rate=90_000_000))), identities=((11, Identity(frozenset({Command.WRITE_ZEROES}))),))),
    "a restripe turned round": ("turn-restripe", {"pool": "d"}, on_its_way),
    "a restripe that goes on again": ("turn-restripe", {"pool": "d"}, lambda one: on_its_way(one, turned=True)),
    "a restripe that frees a drive turned round": ("turn-restripe", {"pool": "d"}, lambda one: on_its_way(one, wider=False)),
    "a restripe that frees a drive goes on again": ("turn-restripe", {"pool": "d"}, lambda one: on_its_way(one, turned=True, wider=False)),
    "a restripe to less room turned round": ("turn-restripe", {"pool": "d"}, lambda one: on_its_way(one, old=5)),
    "an empty place filled": ("replace-drive", {"pool_id": 1, "slot": 2, "drive_id": 11}, lambda one: emptied_place(more_drives(one, free(11)))),
    "the copying onto an empty place left off": ("leave-copy", {"pool_id": 1, "slot": 2}, lambda one: last_pool(emptied_place(one), copies=((2, free(12)),))),
    "a missing drive replaced": ("replace-drive", {"pool_id": 1, "slot": 0, "drive_id": 11},
                                 lambda one: with_pool(four(one), away=1)),
    "partitions": ("write-partitions", {"drive_id": 11}, partitioned),
    "partitions called as volumes elsewhere are, on a drive with a long serial": ("write-partitions", {"drive_id": 11}, lambda one: replace(
        more_drives(one, replace(free(11), serial="S" * 60)),
        pending_partitions=((11, ("mbr", 512, (WantedPartition("1 GiB", file_system="xfs"), WantedPartition("1 GiB", kind="logical")))),),
        volumes=(*one.volumes, EstateVolume(60, "p", "part-1", GIB, False, "xfs", None, 0, "u")))),
    "more partitions beside those in use": ("write-partitions", {"drive_id": 12}, lambda one: divided(
        one, (WantedPartition("50 GiB", label="new", file_system="xfs"), WantedPartition("", "lettered", file_system="ntfs")))),
    "a divided drive given back": ("write-partitions", {"drive_id": 12}, emptied),
    "a partition extended": ("resize-volume", {"volume": "F12/part-2", "size": "300 GiB"}, divided),
    "a partition extended by all behind it": ("resize-volume", {"volume": "F12/part-2", "size": "all"}, divided),
    "a partition made smaller": ("resize-volume", {"volume": "F12/part-4", "size": "700 GB"}, divided),
    "a partition deleted": ("delete-volume", {"volume": "F12/part-2"}, divided),
    "a thick volume, mounted": ("make-volumes", {"pool": "p", "name": "v", "size": "1 TiB", "host": "elm", "mount_point": "/full/v",
                                                 "purpose": "scans"}, as_it_is),
    "several volumes": ("make-volumes", {"pool": "p", "name": "v-{a,b}", "count": 2, "size": "10 GiB", "file_system": "xfs"}, as_it_is),
    "thin volumes that promise too much": ("make-volumes", {"pool": "p", "name": "v", "count": 3, "size": "6 TiB", "thin": True}, as_it_is),
    "thin volumes that promise just what is left": ("make-volumes", {"pool": "p", "name": "v", "size": f"{12761 - 800} GiB", "thin": True},
        lambda one: with_volume(with_volume(spread(one), "two", thin=True, placed=10, size=20 * TB), "b", thin=True)),
    "a thick volume where thin ones promise too much": ("make-volumes", {"pool": "p", "name": "v", "size": "1 GiB"}, lambda one: with_volume(
        one, "b", thin=True, size=20 * TB)),
    "all that is left, bare": ("make-volumes", {"pool": "p", "name": "v", "file_system": "none"}, as_it_is),
    "a volume of a spread pool": ("make-volumes", {"pool": "s", "name": "v", "size": "101 GiB", "protection": "parity-1:3"}, spread),
    "another name": ("rename-volume", {"volume": "p/a", "name": "z"}, as_it_is),
    "another name of what nobody mounts": ("rename-volume", {"volume": "b", "name": "z"}, as_it_is),
    "a volume extended": ("resize-volume", {"volume": "p/a", "size": "900.5 GiB"}, with_files("a", 5 * GIB)),
    "a volume extended by all": ("resize-volume", {"volume": "p/a", "size": "all"}, as_it_is),
    "a volume that ends inside an extent extended by all": ("resize-volume", {"volume": "p/a", "size": "all"},
                                                            lambda one: with_volume(one, "a", size=799 * GIB + GIB // 2)),
    "a volume extended within its last extent": ("resize-volume", {"volume": "p/a", "size": "799.75 GiB"},
                                                 lambda one: with_volume(one, "a", size=799 * GIB + GIB // 2)),
    "a thin volume extended": ("resize-volume", {"volume": "p/a", "size": "900 GiB"},
                               lambda one: with_volume(one, "a", thin=True, placed=700)),
    "a volume of stripes of three extended by all": ("resize-volume", {"volume": "s/two", "size": "all"}, lambda one: with_volume(
        spread(one), "two", protection="parity-1:3", placed=150)),
    "a volume without a file system extended": ("resize-volume", {"volume": "p/disk", "size": "900 GiB"}, as_it_is),
    "a volume without a file system shrunk": ("resize-volume", {"volume": "p/disk", "size": "500 GiB"}, bare),
    "a thin volume of a spread pool shrunk": ("resize-volume", {"volume": "s/two", "size": "50 GiB"}, lambda one: with_volume(
        spread(bare(one)), "two", thin=True, placed=150, written=75)),
    "a thin volume shrunk that has little of the pool": ("resize-volume", {"volume": "p/a", "size": "500 GiB"},
                                                         lambda one: with_volume(bare(one), "a", thin=True, placed=50)),
    "a volume of a spread pool extended": ("resize-volume", {"volume": "s/two", "size": "150 GiB"}, spread),
    "a volume shrunk": ("resize-volume", {"volume": "p/a", "size": "500 GiB"},
                        lambda one: with_files("a", 5 * GIB)(bare(one))),
    "a thin volume shrunk": ("resize-volume", {"volume": "p/a", "size": "500 GiB"},
                             lambda one: with_volume(bare(one), "a", thin=True, placed=700)),
    "a volume that shrinks while mounted": ("resize-volume", {"volume": "p/a", "size": "500 GiB"},
                                            lambda one: with_volume(one, "a", file_system="btrfs")),
    "another file system": ("reformat-volume", {"volume": "p/n", "file_system": "xfs"}, with_files("n", 7 * GIB)),
    "files checked": ("check-files", {"volume": "p/a"}, with_files("a", 36 * GIB)),
    "a share of a folder that holds more than its quota": (
        "make-share", {"volume": "p/a", "name": "plans", "folder": "plans", "rights": ("ash:write",), "quota": "5 GiB"},
        lambda one: replace(one, taken=((("p/a", "plans"), 6 * GIB), (("p/a", ""), 90 * GIB)))),
    "a volume deleted of which there is a backup": ("delete-volume", {"volume": "p/a"}, lambda one: replace(
        with_volume(one, "a", files=3, files_bytes=GIB), mounts=(), shares=())),
    "a pool with its backup": ("build-pool", {
        "name": "cold", "scheme": "copies-2", "drives": (11, 12), "backup_where": "a barn", "backup_age_hours": 48.0,
        "backup_link": "1 Gbit/s"}, four),
    "files checked where there are none": ("check-files", {"volume": "p/a"}, as_it_is),
    "a volume moved to another pool": ("move-volume", {"volume": "p/a", "pool": "s", "protection": "copies-2"}, spread),
    "a volume moved by its files, the source kept": (
        "move-volume", {"volume": "s/two", "pool": "p", "name": "three", "file_system": "xfs", "provision": "thin", "keep": True}, spread),
    "a thin volume of a spread pool moved": ("move-volume", {"volume": "s/two", "pool": "p"}, lambda one: with_volume(
        spread(one), "two", thin=True, placed=40, written=20, files_bytes=10 * GIB)),
    "a thin volume of sets moved, from an encrypted pool": ("move-volume", {"volume": "p/a", "pool": "s", "protection": "parity-1:3"}, lambda one: with_pool_besides(
        with_volume(spread(one), "a", thin=True, placed=40, written=40, reserved_share=0.1), encrypted=True)),
    "a volume moved from one encrypted pool to another": ("move-volume", {"volume": "p/n", "pool": "s", "protection": "copies-2"}, lambda one: replace(
        spread(one), pools=tuple(replace(p, encrypted=True) for p in spread(one).pools))),
    "a volume moved that is thick there and keeps its reserve": ("move-volume", {
        "volume": "p/a", "pool": "s", "protection": "copies-2", "provision": "thick"}, lambda one: with_volume(
        spread(one), "a", thin=True, placed=40, reserved_share=0.1, files_bytes=5 * GIB + 1)),
    "a volume moved that has another file system there": ("move-volume", {
        "volume": "p/a", "pool": "s", "protection": "copies-2", "file_system": "btrfs"}, lambda one: with_volume(
        spread(one), "a", reserved_share=0.1, files_bytes=5 * GIB + 1)),
    "moving left off of which nothing was taken": ("leave-move", {"volume": "p/a"}, lambda one: with_pool(one, under_way=(Under("move-volume", 1),))),
    "moving left off": ("leave-move", {"volume": "p/a"}, lambda one: replace(
        with_pool(one, under_way=(Under("move-volume", 2), Under("move-volume", 1))), copies=((1, 300, False),))),
    "a volume without a file system deleted": ("delete-volume", {"volume": "p/disk"}, bare),
    "a volume deleted": ("delete-volume", {"volume": "p/b"}, with_files("b", 7 * GIB)),
    "mounted where something lies": ("mount-volume", {"volume": "p/b", "host": "elm", "mount_point": "/full", "move_aside": True,
                                                      "read_only": True, "access_times": True, "required": True}, as_it_is),
    "mounted in a new folder inside another": ("mount-volume", {"volume": "p/b", "host": "elm", "mount_point": "/srv/a/new"}, as_it_is),
    "mounted in a folder behind a letter, beside its letter": (
        "mount-volume", {"volume": "p/n", "host": "win", "mount_point": "c:\\data\\scans\\"},
        lambda one: replace(one, mounts=(*one.mounts, EstateMount(9, "win", "p/n", "S:")))),
    "mounted by a letter": ("mount-volume", {"volume": "p/n", "host": "win", "mount_point": "s:"}, as_it_is),
    "unmounted": ("unmount-volume", {"host": "elm", "mount_point": "/srv/a"}, as_it_is),
    "a person": ("add-party", {"name": "rowan"}, as_it_is),
    "a group": ("add-party", {"name": "tower", "members": ("Ash", "reed")}, as_it_is),
    "a group's members": ("set-members", {"group": "Office", "members": ("reed", "reed")}, as_it_is),
    "nobody in a group": ("set-members", {"group": "office"}, as_it_is),
    "a share beside another": ("make-share", {"volume": "p/a", "name": "s", "folder": "in", "rights": ("ash:read", "reed:write"), "encrypted": False}, as_it_is),
    "a share with everything": ("make-share", {"volume": "p/rec", "name": "s", "rights": ("office:read",), "quota": "10 GiB", "bin_days": 9}, as_it_is),
    "a share nobody may open": ("make-share", {"volume": "p/a", "name": "s", "folder": "out"}, as_it_is),
    "a share changed": ("change-share", {"share": "files", "rights": ("ash:read",), "quota": "", "bin_days": 0}, as_it_is),
    "a quota below what is there": ("change-share", {"share": "files", "rights": ("office:write", "reed:read"), "quota": "4 GiB", "bin_days": 14},
                                    lambda one: replace(one, shares=(replace(one.shares[0], taken=5 * GIB),))),
    "a share changed while somebody is connected": ("change-share", {"share": "files", "rights": ("reed:read",), "quota": "100 GiB", "bin_days": 14}, lambda one: replace(
        one, shares=(replace(one.shares[0], taken=100 * GIB, visitors=("ash", "reed")),))),
    "a share of another folder beside others": ("make-share", {"volume": "p/a", "name": "s", "folder": "in/deep", "rights": ("ash:read",), "quota": "5 GiB"}, lambda one: replace(
        one, shares=tuple(replace(one.shares[0], name=f"s-{i}", folder=f) for i, f in enumerate(("in", "in/deep", "in/deep/er", "in/dee", "out"))),
        taken=((("p/a", "out"), 6 * GIB), (("p/a", "in/deep"), 0)))),
    "a share ended": ("end-share", {"share": "files"}, as_it_is),
    "a host on the network": ("set-host", {"host": "fir", "storage_address": "10.0.0.3/24", "iqn": IQN + "fir2", "address": "10.9.0.1", "link": "10 Gbit/s"}, as_it_is),
    "a host with less": ("set-host", {"host": "fir", "storage_address": "10.0.0.2/24", "letters": True}, as_it_is),
    "an initiator almost like a host's": ("declare-initiator", {"iqn": IQN + "fi"}, as_it_is),
    "an initiator for a host that has another name": ("declare-initiator", {"iqn": IQN + "fir-2", "host": "fir"}, as_it_is),
    "an initiator for a host": ("declare-initiator", {"iqn": IQN + "w", "host": "win"}, as_it_is),
    "a target on a host with no storage network": ("make-target", {"iqn": IQN + "u", "host": "win", "volume": "p/disk"}, bare),
    "a target for two hosts with a volume of its own": (
        "make-target", {"iqn": IQN + "u", "host": "elm", "volume": "p/new", "size": "200 GiB", "for_hosts": ("fir", "elm"), "shared": True},
        lambda one: replace(one, machines=tuple(replace(h, iqn=IQN + h.name) if h.name in ("elm", "fir") else h for h in one.machines))),
    "a target": ("make-target", {"iqn": IQN + "u", "host": "fir", "volume": "p/disk", "initiators": (IQN + "fir",)}, bare),
    "another disk": ("add-disk", {"target": IQN + "t", "volume": "p/raw"}, lambda one: replace(
        one, volumes=(*one.volumes, replace(one.volumes[2], id=8, name="raw")))),
    "another number for a disk": ("change-lun", {"target": IQN + "t", "volume": "p/disk", "lun": 5}, as_it_is),
    "one disk taken away": ("take-disk", {"target": IQN + "t", "volume": "disk"}, lambda one: replace(
        one, targets=(replace(one.targets[0], luns=((0, "p/disk"), (3, "p/n"))),))),
    "let in": ("let-in", {"target": IQN + "t", "initiator": IQN + "fir"}, as_it_is),
    "let in in the place of another": ("let-in", {"target": IQN + "t", "initiator": IQN + "fir", "instead_of": IQN + "firr"}, lambda one: replace(
        one, initiators=(*one.initiators, (IQN + "x", None)),
        targets=(replace(one.targets[0], initiators=((IQN + "x", True), (IQN + "firr", False))),))),
    "shut out": ("shut-out", {"target": IQN + "t", "initiator": IQN + "firr"}, as_it_is),
    "a target ended": ("end-target", {"target": IQN + "t"}, as_it_is),
    "an application moved by mounting": ("move-application", {"application": "cam", "volume": "p/rec"}, own_recorder),
    "an application moved by naming the folder": ("move-application", {"application": "cam", "volume": "p/b", "way": "point"}, own_recorder),
    "an application of files moved": ("move-application", {"application": "cam", "volume": "p/rec"}, lambda one: replace(
        own_recorder(one), applications=(replace(own_recorder(one).applications[0], kind="office"),))),
    "a recorder moved to where a keep rule is": ("move-application", {"application": "cam", "volume": "p/rec"}, lambda one: with_volume(
        own_recorder(one), "rec", keep_above=0.8)),
    "an application brought back": ("undo-move", {"application": "cam"}, asked_back),
    "folders": ("set-folders", {"application": "cam", "folder_scheme": "by-date", "files_per_folder": 500, "owner": "eye"}, as_it_is),
    "a keep rule that deletes at once": ("set-keep-rule", {"volume": "p/rec", "above": 90, "application": "cam"}, with_files("rec", 760 * GIB)),
    "another keep rule": ("set-keep-rule", {"volume": "p/rec", "above": 99}, with_files("rec", GIB, keep_above=0.5)),
    "no keep rule": ("end-keep-rule", {"volume": "p/rec"}, lambda one: with_volume(one, "rec", keep_above=0.5)),
}  # fmt: skip

#: Layouts whose later changes are told: sizes in TB, scheme, sets, and the size of the drives that would come.
GROWING: dict[str, tuple[tuple[int, ...], str, int, int]] = {
    "one set of single parity": ((6, 6, 6, 6), "parity-1", 1, 12),
    "one pair": ((4, 4), "copies-2", 1, 8),
    "two sets of double parity": ((4, 4, 4, 4, 8, 8, 8, 8), "parity-2", 2, 12),
    "some as large already": ((4, 8, 8, 8), "parity-1", 1, 8),
    "two sets of which one is smaller": ((4, 4, 4, 8, 8, 8), "parity-1", 2, 8),
    "all as large already": ((8, 8, 8), "parity-1", 1, 8),
    "sets of mixed sizes": ((4, 6, 8, 6, 6, 8), "parity-1", 2, 10),
    "pairs": ((4, 4, 6, 6), "copies-2", 2, 8),
    "stepped": ((4, 6, 8, 8), "stepped-1", 1, 10),
    "a span": ((4, 6), "span", 1, 8),
    "a stripe": ((4, 4), "stripe", 1, 8),
    "a single drive": ((4,), "single", 1, 8),
}


def _figure(one: Figure) -> str:
    return one.text if one.text is not None else f"{one.bytes:,} bytes"


def _lines(head: str, some: Any) -> list[str]:
    return [f"{head}:", *(f"  {one}" for one in some)] if some else []


def text_of(sheet: ChangeSheet) -> str:
    """All of a sheet."""
    return "\n".join([
        f"{sheet.kind}: {sheet.title}", sheet.why, f"approved by {sheet.role}" + (f", typing {sheet.confirm}" if sheet.confirm else ""),
        *_lines("before and after", (f"{f.label}: {_figure(f.before)} -> {_figure(f.after)}" for f in sheet.figures)),
        *_lines("erased", [f"{e.drive_id} {e.place} {e.serial} {e.size:,} bytes, holds {e.holds}" for e in sheet.erases]),
        *_lines("given up", sheet.gives_up),
        *_lines("takes", [f"{t.job}: {t.hours:.4f} h, fast {t.fast_hours:.4f}, gentle {t.gentle_hours:.4f}" for t in sheet.takes]),
        *_lines("take care", sheet.cautions), *_lines("meanwhile", sheet.meanwhile), *_lines("fixed", sheet.fixed),
        *_lines("found", [f"{f.sentence}{' (blocks)' if f.blocks else ''}" for f in sheet.findings]),
        *_lines("steps", sheet.steps), *_lines("to copy", [f"{t.label}: {t.text}" for t in sheet.texts]),
        *_lines("of the whole house", [f"{name}: {of_all:+,}" for name, of_all in asdict(sheet.effect).items() if of_all]),
    ])  # fmt: skip


def _said(one: Any) -> str:
    """A fact of a plan in a few words: what has a name by that, other records by what differs from what is usual."""
    match one:
        case EstateDrive():
            return one.serial
        case EstatePool() | EstateHost():
            return one.name
        case EstateVolume():
            return one.ref
        case EstatePlace():
            return f"place {one.slot}"
        case Layout():
            return f"{one.scheme.id}, {one.describe()}, {one.stock} extents"
        case Table():
            return f"{one.scheme} {_said(one.parts)}, left {one.unallocated}"
        case Path() | Enum() | np.ndarray():
            return str(one)
        case tuple() | list() | set() | frozenset():
            return f"[{', '.join(_said(x) for x in one)}]"
        case dict():
            return f"[{', '.join(f'{_said(k)}: {_said(v)}' for k, v in one.items())}]"
        case float():
            return f"{one:.6g}"
    if not is_dataclass(one):
        return one.__name__ if callable(one) else str(one)
    facts = [(f, getattr(one, f.name)) for f in fields(one) if not isinstance(getattr(one, f.name), ChangeSheet)]
    return f"({', '.join(f'{f.name} {_said(v)}' for f, v in facts if v != f.default and v not in (None, '', ()))})"


def sheet_text(name: str) -> str:
    """A case's sheet, drawn up now, and what is carried out once it is approved."""
    kind, request, change = CASES[name]
    plan = KINDS[kind].plan(change(estate()), request_of(kind, request))
    facts = [f"{f.name}: {_said(getattr(plan, f.name))}" for f in fields(plan) if f.name not in ("sheet", "request")]
    return "\n".join([text_of(plan.sheet), *_lines("carried out", facts)])


def later_text(name: str) -> str:
    """What a layout leaves open, and each way to grow."""
    sizes, scheme, sets, larger = GROWING[name]
    layout = build_layout(
        [Drive(str(i), s * TB, Kind.HDD, 200_000_000) for i, s in enumerate(sizes)], scheme, sets=sets
    )
    lines = [f"{d.change}: {d.opening.value}. {d.why}" for d in doors(layout)]
    lines += ["fixed:", *(f"  {one}" for one in fixed(layout))]
    for path in growth(assess(layout, Assumptions()), larger=larger * TB, steps=2):
        lines.append(f"{path.way}, {path.name}: {path.closed or path.said_before or 'open'}")
        lines += [
            f"  {s.act}: {s.usable:,} bytes ({s.gain:+,}) after {s.hours:.4f} h, {s.when}; survives {s.guaranteed}"
            for s in path.steps
        ]
    return "\n".join(lines)


def recorded() -> dict[str, str]:
    """The texts that were read, by the name of the case."""
    parts = KEPT.read_text().split("\n=== ")[1:]
    return {head.strip(): body.strip("\n") for head, _, body in (part.partition("\n") for part in parts)}


def write() -> None:
    """All texts anew; what changed is to be read before it is kept."""
    told = [(name, sheet_text(name)) for name in CASES] + [(f"later: {name}", later_text(name)) for name in GROWING]
    KEPT.write_text("What the sheets say.\n" + "".join(f"\n=== {name}\n{text}\n" for name, text in told))


if __name__ == "__main__":
    write()

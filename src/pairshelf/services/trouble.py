"""A pool's trouble with its shelf as it stands, every other trouble by what it is known by, and the lamps of drives."""

from __future__ import annotations

import datetime as dt
from dataclasses import dataclass
from typing import Any

from sqlmodel import Session, col, select

from pairshelf.core.errors import NotFound
from pairshelf.core.policies.attention import Matter
from pairshelf.core.watching.guides import GUIDES, Guide
from pairshelf.core.watching.trouble import Concerned, Trouble, trouble_of
from pairshelf.engine.log import log
from pairshelf.engine.pools import devices
from pairshelf.services.attending import attend
from pairshelf.store.database import tell
from pairshelf.store.repositories.drives_and_pools import load_drives, load_pools
from pairshelf.store.tables import DriveRow, JobRow, LogRow, PoolPlace, PoolRow, ids

#: Acts of the logbook that say what happened to a pool or a drive.
_HAPPENED = (
    "pool-state", "drive-failed", "drive-missing", "drive-failing", "drive-good", "drive-older", "spare-took-over",
    "copy-took-over",
)  # fmt: skip
#: So many lines of it are shown.
_LINES = 6


@dataclass(frozen=True, slots=True)
class Told:
    """Trouble as it is shown."""

    trouble: Trouble | None
    name: str
    state: str
    happened: list[tuple[dt.datetime, str]]
    #: Shelves on which its members stand or stood.
    shelves: list[int]
    jobs: list[int]


def pool_trouble(session: Session, pool_id: int) -> Told:
    """What a pool's trouble is; its trouble is None where all is well again. NotFound where there is no pool."""
    row = session.get(PoolRow, pool_id)
    if row is None:
        raise NotFound("pool")
    (pool,) = load_pools(session, [pool_id])
    told = trouble_of(pool)
    about = [pool.name, *(p.drive.serial for p in pool.places if p.drive is not None)]
    stands = session.exec(
        select(DriveRow.shelf_id, DriveRow.left_shelf_id)
        .join(PoolPlace, col(PoolPlace.drive_id) == DriveRow.id).where(PoolPlace.pool_id == pool_id, col(PoolPlace.slot).is_not(None))
    ).all()  # fmt: skip
    jobs = session.exec(
        select(JobRow.id).where(
            JobRow.pool_id == pool_id, col(JobRow.state).not_in(("done", "failed")),
            col(JobRow.kind).in_(("rebuild", "self-repair", "copy")),
        )
    ).all()  # fmt: skip
    shelves = {s for pair in stands for s in pair if s is not None}
    return Told(
        told,
        row.name,
        row.state,
        _lines(session, about, col(LogRow.act).in_(_HAPPENED)),
        sorted(shelves),
        [j or 0 for j in jobs],
    )


def light(session: Session, drive_id: int, who: str, *, on: bool) -> None:
    """Light the lamp of a drive, or put it out."""
    row = session.get(DriveRow, drive_id)
    if row is None:
        raise NotFound("drive")
    devices().light(row.serial, on=on)
    log(session, who, "lamp", row.serial, f"The lamp of drive {row.serial} is {'lit' if on else 'out'}.")
    tell(session, "drive")


# -- any other trouble ---------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class About:
    """All that is to be said of one trouble. ``matter`` None: it is over."""

    matter: Matter | None
    guide: Guide | None
    #: The one right act, and where it is done; nowhere, if it is done by hand.
    act: str
    link: str
    also: list[tuple[str, str]]
    happened: list[tuple[dt.datetime, str]]
    #: The drive it is about, and the shelf that stands on.
    drive: Concerned | None
    shelf: int | None
    #: The job that sees to it, if one does.
    jobs: list[int]


def trouble_about(session: Session, key: str) -> About:
    """The trouble known by a key, as it stands now. What is over is over: a page that was opened a while ago says so."""
    matter = next((m for m in attend(session).matters if m.key == key and m.sort), None)
    if matter is None:
        return About(None, None, "", "", [], [], None, None, [])
    guide = GUIDES[matter.sort]
    base = f"/pools/{matter.pool}" if matter.pool is not None else ""
    link = f"{guide.to}?drives={matter.drive}" if guide.to else matter.link
    also = [(words, base + to) for words, to in guide.also]
    about, drive, shelf, jobs = [], None, None, list[int]()
    if matter.pool is not None:
        about.append(session.get_one(PoolRow, matter.pool).name)
        jobs = list(session.exec(
            select(ids(JobRow)).where(JobRow.pool_id == matter.pool, col(JobRow.state).not_in(("done", "failed")))
        ))  # fmt: skip
    if matter.drive is not None:
        (seen,) = load_drives(session, [matter.drive])
        about.append(seen.serial)
        row = session.get_one(DriveRow, matter.drive)
        shelf, word = row.shelf_id, row.condition
        if word == "good":
            word = "not wiped" if matter.sort == "spoilt" else "warns"
        drive = Concerned(0, matter.drive, seen.serial, seen.place, word)
    return About(matter, guide, guide.act or matter.act, link, also, _lines(session, about), drive, shelf, jobs)


def _lines(session: Session, about: list[str], *of: Any) -> list[tuple[dt.datetime, str]]:
    """What the logbook says last about these names."""
    query = select(LogRow.at, LogRow.sentence).where(col(LogRow.about).in_(about), *of)
    return list(session.exec(query.order_by(col(LogRow.id).desc()).limit(_LINES)).all())

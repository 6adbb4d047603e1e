"""A pool's trouble with its shelf as it stands, and the lamps of drives."""

from __future__ import annotations

import datetime as dt
from dataclasses import dataclass

from sqlmodel import Session, col, select

from pairshelf.core.errors import NotFound
from pairshelf.core.watching.trouble import Trouble, trouble_of
from pairshelf.engine.log import log
from pairshelf.engine.pools import devices
from pairshelf.store.database import tell
from pairshelf.store.repositories.drives_and_pools import load_pools
from pairshelf.store.tables import DriveRow, JobRow, LogRow, PoolPlace, PoolRow

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
    lines = session.exec(
        select(LogRow.at, LogRow.sentence)
        .where(col(LogRow.act).in_(_HAPPENED), col(LogRow.about).in_(about)).order_by(col(LogRow.id).desc()).limit(_LINES)
    ).all()  # fmt: skip
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
    return Told(told, row.name, row.state, [(at, said) for at, said in lines], sorted(shelves), [j or 0 for j in jobs])


def light(session: Session, drive_id: int, who: str, *, on: bool) -> None:
    """Light the lamp of a drive, or put it out."""
    row = session.get(DriveRow, drive_id)
    if row is None:
        raise NotFound("drive")
    devices().light(row.serial, on=on)
    log(session, who, "lamp", row.serial, f"The lamp of drive {row.serial} is {'lit' if on else 'out'}.")
    tell(session, "drive")

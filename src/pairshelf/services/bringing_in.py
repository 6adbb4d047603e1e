"""Pools that drives here say they belong to, for whoever asks; and drives read again for what they say."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from sqlalchemy import bindparam
from sqlmodel import Session, col, select

from pairshelf.core.domain.device import Devices
from pairshelf.core.domain.found import FoundPool
from pairshelf.core.policies.bringing_in import in_words, short_of
from pairshelf.engine.found_pools import found_pools, look_again
from pairshelf.engine.log import log
from pairshelf.store.database import pick
from pairshelf.store.tables import DriveRow, PoolPlace, PoolRecord, PoolRow


@dataclass(frozen=True, slots=True)
class Spoken:
    """A pool that drives speak of, what is to be said of it, and whether it can be brought in."""

    found: FoundPool
    said: str
    may: bool
    #: Its name is another pool's here.
    name_taken: bool


@dataclass(frozen=True, slots=True)
class LastTold:
    """What a pool's drives were last told to keep of it."""

    #: Drives that have it, of how many that belong to the pool.
    on: int
    of: int
    record: PoolRecord


def spoken_of(session: Session, world: Devices) -> list[Spoken]:
    """All of them, those that can be brought in first."""
    names = {n.lower() for n in session.exec(select(PoolRow.name))}
    found = [
        Spoken(f, in_words(f), f.layout is not None and short_of(f) == (), f.name.lower() in names)
        for f in found_pools(session, world)
    ]
    return sorted(found, key=lambda s: (not s.may, s.found.name, s.found.uid))


def look(session: Session, world: Devices, who: str) -> Sequence[Spoken]:
    """Every drive that belongs to nothing is read for what it says it belongs to."""
    count = look_again(session, world)
    log(session, who, "drives-read", "", f"All drives that belong to no pool were read: they speak of {count} pools.")
    return spoken_of(session, world)


_SERIALS = (
    pick(DriveRow.serial).join(PoolPlace, col(PoolPlace.drive_id) == DriveRow.id)
    .where(PoolPlace.pool_id == bindparam("pool"), col(PoolPlace.beside).is_(None))
)  # fmt: skip


def record_of(session: Session, pool_id: int) -> LastTold | None:
    """What the drives of a pool keep of it; None before anything was written on them."""
    record = session.get(PoolRecord, pool_id, populate_existing=True)
    if record is None:
        return None
    serials = [s for (s,) in session.connection().execute(_SERIALS, {"pool": pool_id})]
    return LastTold(sum(record.reached.get(s) == record.generation for s in serials), len(serials), record)

"""The ways to make a pool larger, from what is in the books now."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from sqlmodel import Session, col, or_, select

from pairshelf.core.changes.kind import Context
from pairshelf.core.domain.device import Devices
from pairshelf.core.domain.estate import EstateDrive, EstatePool
from pairshelf.core.errors import BadInput, NotFound
from pairshelf.core.search.ways import Way, conversions, ways
from pairshelf.engine.planner import estate_of
from pairshelf.store.tables import DriveRow, Service

#: Drives that are looked at; with more, the person picks.
MOST = 500


@dataclass(frozen=True, slots=True)
class Growth:
    """A pool, the drives that could come to it, and what would come of it."""

    pool: EstatePool
    drives: tuple[EstateDrive, ...]
    ways: tuple[Way, ...]
    conversions: tuple[Way, ...]


def growth_of(session: Session, pool_id: int, picked: Sequence[int], world: Devices) -> Growth:
    """The ways for a pool, with these drives or with those each way would take. NotFound for no such pool, BadInput
    for a drive that cannot be picked."""
    # Those that have failed or are away are among them: why they cannot be had is part of the answer.
    query = select(DriveRow.id).where(
        col(DriveRow.service).in_((Service.FREE, Service.NEW)), col(DriveRow.starts_host).is_(False),
        or_(col(DriveRow.shelf_id).is_not(None), col(DriveRow.left_shelf_id).is_not(None)),
    )  # fmt: skip
    ids = [i for i in session.exec(query.order_by(col(DriveRow.size), col(DriveRow.id)).limit(MOST)) if i is not None]
    wanted = tuple(dict.fromkeys((*picked, *ids)))
    estate = estate_of(session, Context(pool_ids=(pool_id,), drives=wanted), world)
    pool = estate.pool(pool_id)
    if pool is None:
        raise NotFound("pool")
    for drive_id in picked:
        if estate.drive(drive_id) is None:
            raise BadInput(f"There is no drive {drive_id}.", field="drives")
    if len(set(picked)) < len(picked):
        raise BadInput("A drive is picked twice.", field="drives")
    return Growth(pool, estate.drives, ways(estate, pool, picked), conversions(estate, pool, picked))

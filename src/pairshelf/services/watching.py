"""What is to be watched of the estate: now, what is filling up."""

from __future__ import annotations

from sqlalchemy import func, or_
from sqlmodel import Session, col, select

from pairshelf.core.domain.units import EXTENT
from pairshelf.core.policies.filling import TELL, Filling, filling
from pairshelf.store.repositories.books import load_volumes
from pairshelf.store.repositories.drives_and_pools import load_pools
from pairshelf.store.tables import PoolRow, SampleFile, VolumePiece, VolumeRow


def what_fills(session: Session) -> list[Filling]:
    """What is filling up. Only pools in which anything is nearly full are looked at one by one."""
    taken = (
        select(SampleFile.volume_id, func.sum(SampleFile.extents).label("extents"))
        .group_by(col(SampleFile.volume_id)).subquery()
    )  # fmt: skip
    given = (
        select(VolumePiece.pool_id, func.sum(VolumePiece.count).label("extents"))
        .group_by(col(VolumePiece.pool_id)).subquery()
    )  # fmt: skip
    query = (
        select(VolumeRow.pool_id).distinct()
        .join(PoolRow, col(PoolRow.id) == VolumeRow.pool_id)
        .outerjoin(taken, taken.c.volume_id == VolumeRow.id)
        .outerjoin(given, given.c.pool_id == VolumeRow.pool_id)
        .where(or_(
            taken.c.extents * EXTENT >= TELL * (VolumeRow.size - VolumeRow.overhead),
            # Of a spread pool the capacity counts extents of the drives, not of data.
            col(VolumeRow.thin) & or_(col(PoolRow.scheme) == "spread", given.c.extents >= TELL * PoolRow.capacity),
        ))
    )  # fmt: skip
    ids = sorted(session.exec(query))
    return filling(load_pools(session, ids), load_volumes(session, ids, only=True)) if ids else []

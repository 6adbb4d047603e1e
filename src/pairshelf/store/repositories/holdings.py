"""What pools and their volumes hold, of many at once: sums the database works out, for ``core.watching.holding``."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection
from dataclasses import dataclass

from sqlalchemy import func, true
from sqlmodel import Session, col, select

from pairshelf.core.domain.partitions import table_of_parts
from pairshelf.core.domain.units import EXTENT
from pairshelf.core.layouts.protections import parse_protection
from pairshelf.core.watching.holding import Holding, VolumeHolds, holding, stays
from pairshelf.core.watching.thresholds import Level, Thresholds, Watched
from pairshelf.store.database import among, pick
from pairshelf.store.repositories.books import stands_to
from pairshelf.store.repositories.kept import PerPool
from pairshelf.store.tables import (
    Crossing,
    DriveRow,
    KeepRule,
    PartitionPlan,
    PoolRow,
    SampleFile,
    Threshold,
    VolumePiece,
    VolumeRow,
    VolumeStripes,
)

#: Of more pools than so many, all are read.
_MANY = 200


@dataclass(frozen=True, slots=True)
class PoolHolds:
    """A pool's account with its volumes'."""

    id: int
    name: str
    account: Holding
    volumes: tuple[VolumeHolds, ...]
    #: What each volume's history is kept by.
    recorded_as: dict[int, int]

    @property
    def fullest(self) -> VolumeHolds | None:
        """The volume that files have filled most, among those that are not meant to be full."""
        filling = [v for v in self.volumes if v.told_of]
        return max(filling, key=lambda v: v.share, default=None)


def load_holdings(session: Session, pool_ids: Collection[int] | None = None) -> list[PoolHolds]:
    """The accounts of these pools, or of all, by name. A fixed number of statements; of pools of which nothing has
    changed, one for all."""
    return list(_kept.get(session, pool_ids).values())


def _work_out(session: Session, pool_ids: list[int]) -> dict[int, PoolHolds]:
    of_pools = (lambda column: true()) if len(pool_ids) > _MANY else (lambda column: among(column, pool_ids))
    # Plain rows: there are as many as volumes.
    ask = session.connection().execute
    given_to = select(VolumePiece.volume_id, func.sum(VolumePiece.count)).where(of_pools(VolumePiece.pool_id))
    pieces = dict(ask(given_to.group_by(col(VolumePiece.volume_id))).all())
    placed = select(VolumeStripes.volume_id, func.octet_length(VolumeStripes.placed) / 8)
    stripes = dict(ask(placed.where(of_pools(VolumeStripes.pool_id))).all())
    kept = col(SampleFile.deleted_at).is_(None)
    in_bins = func.coalesce(func.sum(SampleFile.extents).filter(~kept), 0)
    filed = select(SampleFile.volume_id, func.sum(SampleFile.extents), in_bins).group_by(col(SampleFile.volume_id))
    if len(pool_ids) <= _MANY:
        filed = filed.join(VolumeRow, col(VolumeRow.id) == SampleFile.volume_id).where(of_pools(VolumeRow.pool_id))
    files = {volume: (int(taken), int(binned)) for volume, taken, binned in ask(filed).all()}
    stands = stands_to(session, of_pools(VolumeRow.pool_id))
    ruled = set(session.exec(select(KeepRule.volume_id)))
    tables = select(PartitionPlan.pool_id, DriveRow.size, PartitionPlan.sector, PartitionPlan.scheme).join(
        DriveRow, col(DriveRow.id) == PartitionPlan.drive_id
    )
    divided = {
        pool: table_of_parts(size, sector, scheme, ()).bytes_in_all
        for pool, size, sector, scheme in session.exec(tables.where(of_pools(PartitionPlan.pool_id)))
        if pool is not None
    }
    own: dict[int, list[VolumeHolds]] = defaultdict(list)
    numbers: dict[int, dict[int, int]] = defaultdict(dict)
    query = pick(VolumeRow.id, VolumeRow.pool_id, VolumeRow.name, VolumeRow.size, VolumeRow.thin, VolumeRow.overhead,
                 VolumeRow.reserved_share, VolumeRow.protection, VolumeRow.recorded_as, VolumeRow.moving_from)  # fmt: skip
    rows = ask(query.where(of_pools(VolumeRow.pool_id)).order_by(VolumeRow.name)).all()
    for number, pool_id, name, size, thin, overhead, reserved, protected, recorded_as, moving_from in rows:
        given = int(pieces.get(number, 0)) * EXTENT
        taken, times, protection = given, 1.0, None
        if protected:
            protection = parse_protection(protected)
            times, taken = protection.width / protection.data, int(stripes.get(number, 0)) * EXTENT
        if pool_id in divided:
            given = taken = size
        files_extents, binned = files.get(number, (0, 0))
        back = taken - stays(files_extents - binned, stands.get(number, (0, 0))[1], protection) * EXTENT if thin else 0
        own[pool_id].append(VolumeHolds(
            number, name, size, thin, overhead, reserved or 0.0, given, files_extents * EXTENT, binned * EXTENT, taken,
            max(0, back), times, number in ruled, moving_from is not None,
        ))  # fmt: skip
        numbers[pool_id][number] = recorded_as or number
    pools = pick(PoolRow.id, PoolRow.name, PoolRow.capacity).where(of_pools(PoolRow.id))
    return {
        p.id: PoolHolds(
            p.id, p.name, holding(divided.get(p.id, p.capacity * EXTENT), own[p.id]), tuple(own[p.id]), numbers[p.id]
        )
        for p in ask(pools).all()
    }


_kept = PerPool(_work_out)


def load_watched(session: Session) -> Watched:
    """All thresholds that are not the usual ones, and all crossings."""
    limits = session.exec(select(Threshold)).all()
    above = session.exec(select(Crossing)).all()
    return Watched(
        {t.pool_id: Thresholds(t.tell, t.urgent) for t in limits if t.pool_id is not None},
        {t.volume_id: Thresholds(t.tell, t.urgent) for t in limits if t.volume_id is not None},
        {c.pool_id: Level(c.level) for c in above if c.pool_id is not None},
        {c.volume_id: Level(c.level) for c in above if c.volume_id is not None},
    )


@dataclass(frozen=True, slots=True)
class House:
    """The figures of the whole house: bytes of all pools, of spread ones with their redundancy; and drives."""

    capacity: int
    given: int
    in_use: int
    free: int


def house_now(session: Session) -> House:
    """What there is in all."""
    held = load_holdings(session)
    in_use, free = session.exec(
        select(
            func.count().filter(col(DriveRow.service) == "in-use"),
            func.count().filter(col(DriveRow.service) == "free", col(DriveRow.condition) == "good"),
        ).select_from(DriveRow)
    ).one()
    return House(sum(p.account.capacity for p in held), sum(p.account.given for p in held), in_use, free)

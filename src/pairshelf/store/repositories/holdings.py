"""What pools and their volumes hold, of many at once: sums the database works out, for ``core.watching.holding``."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection
from dataclasses import dataclass
from functools import cache
from typing import Any, NamedTuple

from sqlalchemy import func
from sqlmodel import Session, col, select

from pairshelf.core.domain.partitions import table_of_parts
from pairshelf.core.domain.units import EXTENT
from pairshelf.core.layouts.protections import parse_protection
from pairshelf.core.watching.holding import Holding, VolumeHolds, holding, stays
from pairshelf.core.watching.thresholds import Level, Thresholds, Watched
from pairshelf.store.database import in_these, in_these_or_all, many, pick, these
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

_RULED, _LIMITS, _ABOVE = select(KeepRule.volume_id), select(Threshold), select(Crossing)


@dataclass(frozen=True, slots=True)
class PoolHolds:
    """A pool's account with its volumes'."""

    id: int
    name: str
    account: Holding
    volumes: tuple[VolumeHolds, ...]
    #: What each volume's history is kept by.
    recorded_as: dict[int, int]
    tint: int
    state: str
    scheme: str
    domain: str | None
    restripes: bool
    #: Of a spread pool, what its least protected volume survives.
    survives: int | None

    @property
    def fullest(self) -> VolumeHolds | None:
        """The volume that files have filled most, among those that are not meant to be full."""
        filling = [v for v in self.volumes if v.told_of]
        return max(filling, key=lambda v: v.share, default=None)


def load_holdings(session: Session, pool_ids: Collection[int] | None = None) -> list[PoolHolds]:
    """The accounts of these pools, or of all, by name. A fixed number of statements; of pools of which nothing has
    changed, one for all."""
    return list(_kept.get(session, pool_ids).values())


class _Asked(NamedTuple):
    pieces: Any
    stripes: Any
    files: Any
    tables: Any
    volumes: Any
    pools: Any


@cache
def _asked(every: bool) -> _Asked:
    """What is asked of some pools, or of every one. Plain columns: there are as many rows as volumes."""
    kept = col(SampleFile.deleted_at).is_(None)
    in_bins = func.coalesce(func.sum(SampleFile.extents).filter(~kept), 0)
    files = select(SampleFile.volume_id, func.sum(SampleFile.extents), in_bins).group_by(col(SampleFile.volume_id))
    if not every:
        files = files.join(VolumeRow, col(VolumeRow.id) == SampleFile.volume_id).where(in_these(VolumeRow.pool_id))
    return _Asked(
        select(VolumePiece.volume_id, func.sum(VolumePiece.count))
        .where(in_these_or_all(VolumePiece.pool_id, every)).group_by(col(VolumePiece.volume_id)),
        select(VolumeStripes.volume_id, func.octet_length(VolumeStripes.placed) / 8)
        .where(in_these_or_all(VolumeStripes.pool_id, every)),
        files,
        select(PartitionPlan.pool_id, DriveRow.size, PartitionPlan.sector, PartitionPlan.scheme)
        .join(DriveRow, col(DriveRow.id) == PartitionPlan.drive_id)
        .where(col(PartitionPlan.pool_id).is_not(None), in_these_or_all(PartitionPlan.pool_id, every)),
        pick(VolumeRow.id, VolumeRow.pool_id, VolumeRow.name, VolumeRow.size, VolumeRow.thin, VolumeRow.overhead,
             VolumeRow.reserved_share, VolumeRow.protection, VolumeRow.recorded_as, VolumeRow.moving_from)
        .where(in_these_or_all(VolumeRow.pool_id, every)).order_by(VolumeRow.name),
        pick(PoolRow.id, PoolRow.name, PoolRow.capacity, PoolRow.tint, PoolRow.state, PoolRow.scheme, PoolRow.domain,
             col(PoolRow.walk).is_not(None).label("restripes"))
        .where(in_these_or_all(PoolRow.id, every)),
    )  # fmt: skip


def _work_out(session: Session, pool_ids: list[int]) -> dict[int, PoolHolds]:
    every, connection = many(pool_ids), session.connection()
    asked = _asked(every)

    def ask(statement: Any) -> Any:
        return connection.execute(statement, these(pool_ids)).all()

    pieces, stripes = dict(ask(asked.pieces)), dict(ask(asked.stripes))
    files = {volume: (int(taken), int(binned)) for volume, taken, binned in ask(asked.files)}
    stands = stands_to(session, pool_ids, every=every)
    ruled = set(session.exec(_RULED))
    divided = {
        pool: table_of_parts(size, sector, scheme, ()).bytes_in_all for pool, size, sector, scheme in ask(asked.tables)
    }
    own: dict[int, list[VolumeHolds]] = defaultdict(list)
    numbers: dict[int, dict[int, int]] = defaultdict(dict)
    survives: dict[int, int] = {}
    for number, pool_id, name, size, thin, overhead, reserved, protected, recorded_as, moving_from in ask(
        asked.volumes
    ):
        given = int(pieces.get(number, 0)) * EXTENT
        taken, times, protection = given, 1.0, None
        if protected:
            protection = parse_protection(protected)
            survives[pool_id] = min(protection.survives, survives.get(pool_id, protection.survives))
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
    found = {}
    for number, name, capacity, tint, state, scheme, domain, restripes in ask(asked.pools):
        volumes = tuple(own[number])
        account = holding(divided.get(number, capacity * EXTENT), volumes, of_drives=domain is not None)
        found[number] = PoolHolds(
            number,
            name,
            account,
            volumes,
            numbers[number],
            tint,
            state,
            scheme,
            domain,
            restripes,
            survives.get(number),
        )
    return found


_kept = PerPool(_work_out)


def load_watched(session: Session) -> Watched:
    """All thresholds that are not the usual ones, and all crossings."""
    limits = session.exec(_LIMITS).all()
    above = session.exec(_ABOVE).all()
    return Watched(
        {t.pool_id: Thresholds(t.tell, t.urgent) for t in limits if t.pool_id is not None},
        {t.volume_id: Thresholds(t.tell, t.urgent) for t in limits if t.volume_id is not None},
        {c.pool_id: Level(c.level) for c in above if c.pool_id is not None},
        {c.volume_id: Level(c.level) for c in above if c.volume_id is not None},
    )


@dataclass(frozen=True, slots=True)
class House:
    """The figures of all pools and drives. Usable capacity and that of the drives of spread pools are never added."""

    #: Bytes: usable, of pools with one layout; and of that, allocated to volumes.
    capacity: int
    given: int
    in_use: int
    free: int
    #: Bytes of the drives of spread pools, redundancy included; and of that, allocated to volumes.
    drives_capacity: int
    drives_given: int


def drives_free() -> Any:
    """How many drives could be used at once: every screen and sheet that says how many are free counts by this."""
    return func.count().filter(
        col(DriveRow.service) == "free", col(DriveRow.condition) == "good", col(DriveRow.starts_host).is_(False)
    )


@cache
def _drives_in_all() -> Any:
    return select(func.count().filter(col(DriveRow.service) == "in-use"), drives_free()).select_from(DriveRow)


def house_now(session: Session) -> House:
    """What there is in all."""
    held = load_holdings(session)
    in_use, free = session.exec(_drives_in_all()).one()
    usable = [p.account for p in held if not p.account.of_drives]
    of_drives = [p.account for p in held if p.account.of_drives]
    return House(
        sum(a.capacity for a in usable), sum(a.given for a in usable), in_use, free,
        sum(a.capacity for a in of_drives), sum(a.given for a in of_drives),
    )  # fmt: skip

"""A pool leaves the books with all that hangs on it; what it was is kept for as long as it may come back."""

from __future__ import annotations

import base64
import datetime as dt
from contextlib import suppress
from functools import partial
from typing import Any

from sqlalchemy import delete, update
from sqlmodel import Session, SQLModel, col, select

from pairshelf.core.changes.pools.take_apart import TakeApartPlan
from pairshelf.core.domain.device import DeviceError, Devices
from pairshelf.core.errors import PairShelfError
from pairshelf.engine import keys
from pairshelf.engine.apply.outcome import Outcome
from pairshelf.engine.errands import on_journal, send
from pairshelf.engine.jobs.starting import open_jobs
from pairshelf.engine.log import log
from pairshelf.engine.mount_table import take_out_mount
from pairshelf.engine.pools import open_io, open_pool
from pairshelf.engine.relayout import forget_key_copies, give_free
from pairshelf.store.database import afterwards, among
from pairshelf.store.tables import (
    Application,
    BackupRow,
    DriveRow,
    FormerPoolRow,
    GrowthPathRow,
    Host,
    JobRow,
    KeepRule,
    Mount,
    PoolPlace,
    PoolRow,
    SampleFile,
    Share,
    SheetRow,
    Target,
    TargetLun,
    VolumePiece,
    VolumeRow,
    VolumeStripes,
    now,
)

#: What is kept of a pool that may come back, in the order in which it is made again.
KEPT: tuple[type[SQLModel], ...] = (VolumeRow, VolumePiece, VolumeStripes, SampleFile, PoolPlace, KeepRule, BackupRow)


def apply(session: Session, sheet: SheetRow, planned: TakeApartPlan, who: str, world: Devices) -> Outcome:
    """All that hangs on it ends in its order; then it is gone."""
    pool = open_pool(session, planned.pool.id)
    row, pool_id = pool.row, pool.row.number
    # A write that a crash interrupted is finished first: what is left readable is whole.
    with suppress(PairShelfError, DeviceError, OSError):
        open_io(session, pool, world)
    volumes = [v.id for v in planned.volumes]
    for job in open_jobs(session, pool_id):
        log(
            session,
            who,
            f"{job.kind}-ended",
            row.name,
            f"{job.kind} ended unfinished: the pool is taken apart.",
            job=job.id,
        )
    for mount, host in session.exec(
        select(Mount, Host.name).join(Host, col(Host.id) == Mount.host_id).where(among(Mount.volume_id, volumes))
    ).all():
        take_out_mount(session, host, mount.at, sheet.id)
    for share in session.exec(select(Share).where(among(Share.volume_id, volumes))):
        session.delete(share)
    served = session.exec(select(TargetLun.target_id).where(among(TargetLun.volume_id, volumes))).all()
    _run(session, delete(TargetLun).where(among(TargetLun.volume_id, volumes)))
    for target in session.exec(select(Target).where(col(Target.id).in_(set(served)))):
        if session.exec(select(TargetLun.volume_id).where(TargetLun.target_id == target.id)).first() is None:
            session.delete(target)
    _run(
        session, update(Application).where(among(Application.volume_id, volumes)).values(volume_id=None, running=False)
    )
    kept = _kept(session, row, planned)
    drives = _drives(session, pool_id)
    session.add(FormerPoolRow(
        name=row.name, scheme=row.scheme, taken_apart_by=who, until=now() + dt.timedelta(days=planned.keep_days),
        rows=kept, drives={d.serial: place.slot for place, d in drives},
    ))  # fmt: skip
    for place, _ in drives:
        give_free(session, row, place.drive_id, with_record=True)
        session.get_one(DriveRow, place.drive_id).bears = {"pool": row.uid, "name": row.name}
    if row.key is not None and not planned.keep_days:
        forget_key_copies(session, row.name, row.uid, [d for _, d in drives], row.key.get("at_large", ()))
    send(session, "forget-journal", on_journal(row.uid), sheet.id, uid=row.uid, pool=row.name)
    _forget(session, pool_id, volumes)
    afterwards(session, partial(keys.forget_key, pool_id))
    log(session, who, "pool-taken-apart", planned.pool.name,
        f"Pool {planned.pool.name} was taken apart; {len(drives)} drives are free, old data readable.",
        drives=[d.serial for _, d in drives])  # fmt: skip
    return Outcome()


def _run(session: Session, statement: Any) -> None:
    session.flush()
    session.connection().execute(statement)
    session.expire_all()


def _drives(session: Session, pool_id: int) -> list[tuple[PoolPlace, DriveRow]]:
    query = select(PoolPlace, DriveRow).join(DriveRow, col(DriveRow.id) == PoolPlace.drive_id)
    return list(session.exec(query.where(PoolPlace.pool_id == pool_id).order_by(col(PoolPlace.slot))))


def _kept(session: Session, row: PoolRow, planned: TakeApartPlan) -> dict[str, Any]:
    """What is kept: the files' names for the laboratory; and, as long as it may come back, all its rows."""
    files = session.exec(
        select(VolumeRow.name, VolumeRow.id, SampleFile.name, SampleFile.extents)
        .join(SampleFile, col(SampleFile.volume_id) == VolumeRow.id).where(VolumeRow.pool_id == row.id)
    )  # fmt: skip
    kept: dict[str, Any] = {"files": [list(f) for f in files], "encrypted": row.key is not None, "volumes": len(planned.volumes),
                            "survives": planned.pool.layout.scheme.survives, "extents": planned.pool.capacity,
                            "taken": planned.pool.capacity - planned.pool.free}  # fmt: skip
    if not planned.keep_days:
        return kept
    volumes = [v.id for v in planned.volumes]
    kept["pool"] = row.model_dump(mode="json")
    for table in KEPT:
        owner = table.volume_id if table in (SampleFile, KeepRule) else table.pool_id  # type: ignore[attr-defined]
        wanted = volumes if table in (SampleFile, KeepRule) else [row.number]
        kept[str(table.__tablename__)] = [plain(one) for one in session.exec(select(table).where(among(owner, wanted)))]
    return kept


def plain(row: SQLModel) -> dict[str, Any]:
    """A row as JSON can keep it."""
    found = {k: v for k, v in row.__dict__.items() if not k.startswith("_")}
    return {
        k: {"base64": base64.b64encode(v).decode()} if isinstance(v, bytes)
        else {"moment": v.isoformat()} if isinstance(v, dt.datetime) else v
        for k, v in found.items()
    }  # fmt: skip


def _forget(session: Session, pool_id: int, volumes: list[int]) -> None:
    for table in (SampleFile, KeepRule):
        _run(session, delete(table).where(among(table.volume_id, volumes)))
    _run(session, update(SheetRow).where(col(SheetRow.pool_id) == pool_id).values(pool_id=None))
    for owned in (VolumePiece, VolumeStripes, BackupRow, JobRow, GrowthPathRow, PoolPlace, VolumeRow):
        _run(session, delete(owned).where(col(owned.pool_id) == pool_id))
    _run(session, delete(PoolRow).where(col(PoolRow.id) == pool_id))

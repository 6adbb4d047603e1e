"""Backups as recorded facts of pools and volumes: where the copy is, how old it gets, the link to restore over."""

from __future__ import annotations

import datetime as dt
from typing import Any

from flask_openapi3 import APIBlueprint
from pydantic import BaseModel, Field
from sqlmodel import Session, col, select

from pairshelf.api.guard import needs, signed_in
from pairshelf.api.paths import PoolPath
from pairshelf.core.domain.acts import Act
from pairshelf.core.errors import NotFound
from pairshelf.core.figures.assumptions import Assumptions, Backup
from pairshelf.core.figures.cost import restore_hours
from pairshelf.engine.log import log
from pairshelf.services.backup_records import age_now, record_backup, record_of_backup, subject_of
from pairshelf.store.database import Lock, lock_until_commit, transaction
from pairshelf.store.tables import BackupRow, PoolRow, VolumeRow

api = APIBlueprint("backups", __name__, url_prefix="/api")


class BackupOut(BaseModel):
    #: None: of the whole pool.
    volume_id: int | None
    about: str
    place: str
    age_hours: float
    link: int
    #: To bring all of it back, full, over the link.
    restore_hours: float
    recorded_by: str
    recorded_at: dt.datetime


class BackupsOut(BaseModel):
    backups: list[BackupOut]
    #: Volumes without a backup of their own, where the pool has none either.
    without: list[str]


class BackupBody(BaseModel):
    volume_id: int | None = None
    place: str = Field(max_length=200)
    age_hours: float
    #: A typed rate, such as 1 Gbit/s.
    link: str


class ForgetBody(BaseModel):
    volume_id: int | None = None


@api.get("/pools/<int:pool_id>/backups", responses={200: BackupsOut})
@needs(Act.LOOK)
def backups(path: PoolPath) -> Any:
    """What is recorded of this pool's backups, and which volumes have none."""
    with transaction() as session:
        return _backups(session, path.pool_id)


def _backups(session: Session, pool_id: int) -> BackupsOut:
    pool = session.get(PoolRow, pool_id)
    if pool is None:
        raise NotFound("pool")
    volumes = session.exec(
        select(VolumeRow)
        .where(VolumeRow.pool_id == pool_id, col(VolumeRow.moving_from).is_(None))
        .order_by(VolumeRow.name)
    ).all()
    rows = session.exec(select(BackupRow).where(BackupRow.pool_id == pool_id).order_by(col(BackupRow.volume_id))).all()
    by_id = {v.id: v for v in volumes}
    found = []
    for row in rows:
        volume = by_id.get(row.volume_id)
        amount = sum(v.size - v.overhead for v in ([volume] if volume else volumes))
        hours = restore_hours(amount, Assumptions(backup=Backup(row.place, age_now(row), row.link)))
        found.append(BackupOut(
            volume_id=row.volume_id, about=volume.name if volume else pool.name, place=row.place,
            age_hours=round(age_now(row), 1), link=row.link, restore_hours=hours or 0.0, recorded_by=row.recorded_by,
            recorded_at=row.recorded_at,
        ))  # fmt: skip
    whole = any(r.volume_id is None for r in rows)
    covered = {r.volume_id for r in rows}
    return BackupsOut(backups=found, without=[] if whole else [v.name for v in volumes if v.id not in covered])


@api.post("/pools/<int:pool_id>/backups", responses={200: BackupsOut})
@needs(Act.PREPARE)
def record(path: PoolPath, body: BackupBody) -> Any:
    """Record the backup of a pool or volume; what was recorded of it before is replaced."""
    with transaction() as session:
        record_backup(session, signed_in().name, path.pool_id, body.volume_id, body.place, body.age_hours, body.link)
        return _backups(session, path.pool_id)


@api.post("/pools/<int:pool_id>/backups/forget", responses={200: BackupsOut})
@needs(Act.PREPARE)
def forget(path: PoolPath, body: ForgetBody) -> Any:
    """Take the record of a backup away; the backup itself is none of ours."""
    with transaction() as session:
        lock_until_commit(session, Lock.POOL, path.pool_id)
        about = subject_of(session, path.pool_id, body.volume_id)
        row = record_of_backup(session, path.pool_id, body.volume_id)
        if row is None:
            raise NotFound("recorded backup of", about)
        session.delete(row)
        session.flush()
        log(session, signed_in().name, "backup-forgotten", about, f"{about} has no recorded backup any more.")
        return _backups(session, path.pool_id)

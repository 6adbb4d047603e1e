"""Backups, recorded where the pools are: what they are of, where they are, how old they get."""

from __future__ import annotations

from sqlmodel import Session, col, select

from pairshelf.core.domain.units import parse_rate
from pairshelf.core.errors import BadInput, NotFound
from pairshelf.core.figures.assumptions import OLDEST_BACKUP
from pairshelf.engine.log import log
from pairshelf.store.database import Lock, lock_until_commit
from pairshelf.store.tables import BackupRow, PoolRow, VolumeRow, now


def record_backup(
    session: Session, who: str, pool_id: int, volume_id: int | None, place: str, age_hours: float, link_text: str
) -> None:
    """Record it, and say so in the logbook. ``age_hours``: how old it gets; ``link_text``: a typed rate."""
    place = " ".join(place.split())
    if not place:
        raise BadInput("Say where the backup is.", field="place")
    if not 0 <= age_hours <= OLDEST_BACKUP:
        raise BadInput("How old the backup gets: hours, zero or more.", field="age_hours")
    link = parse_rate(link_text, field="link")
    lock_until_commit(session, Lock.POOL, pool_id)
    about = subject_of(session, pool_id, volume_id)
    row = record_of_backup(session, pool_id, volume_id)
    if row is None:
        row = BackupRow(
            pool_id=pool_id, volume_id=volume_id, place=place, age_hours=age_hours, link=link, recorded_by=who
        )
    row.place, row.age_hours, row.link, row.recorded_by = place, age_hours, link, who
    row.recorded_at = now()
    session.add(row)
    session.flush()
    log(session, who, "backup-recorded", about, f"Backup of {about}: {place}, at most {age_hours:g} h old.")


def subject_of(session: Session, pool_id: int, volume_id: int | None) -> str:
    pool = session.get(PoolRow, pool_id)
    if pool is None:
        raise NotFound("pool")
    if volume_id is None:
        return pool.name
    volume = session.get(VolumeRow, volume_id)
    if volume is None or volume.pool_id != pool_id:
        raise NotFound("volume in this pool", field="volume_id")
    return volume.name


def record_of_backup(session: Session, pool_id: int, volume_id: int | None) -> BackupRow | None:
    query = select(BackupRow).where(BackupRow.pool_id == pool_id)
    same = col(BackupRow.volume_id).is_(None) if volume_id is None else BackupRow.volume_id == volume_id
    return session.exec(query.where(same)).first()


def age_now(row: BackupRow) -> float:
    """Hours: as old as it was when it was recorded, and as many more as have gone by."""
    return row.age_hours + (now() - row.recorded_at).total_seconds() / 3600

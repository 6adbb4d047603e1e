"""Checks and surface scans begun: by screens, the console and schedules alike."""

from __future__ import annotations

from sqlmodel import Session, select

from pairshelf.core.errors import NotFound
from pairshelf.engine.jobs.check import start_check
from pairshelf.engine.jobs.scan import start_lone_scan, start_pool_scan
from pairshelf.engine.log import log
from pairshelf.engine.pools import OpenPool, open_pool
from pairshelf.store.tables import DriveRow, JobRow, PoolPlace


def begin_check(session: Session, pool: OpenPool, who: str, pace: str = "fast") -> JobRow:
    """Read everything of a pool, compare it, read every file back."""
    job = start_check(session, pool, who)
    job.pace = pace
    log(session, who, "check-started", pool.row.name, f"Check of {pool.row.name} started.", job=job.id)
    return job


def begin_scan(session: Session, pool: OpenPool, who: str, pace: str = "gentle") -> JobRow:
    """Read every drive of a pool through; what cannot be read is written anew from the others."""
    job = start_pool_scan(session, pool, who, pace)
    log(
        session,
        who,
        "scan-started",
        pool.row.name,
        f"Surface scan of the drives of {pool.row.name} started.",
        job=job.id,
    )
    return job


def begin_drive_scan(session: Session, drive_id: int, who: str) -> JobRow:
    """Read a drive through: with its pool, where it is a member of one, by itself elsewhere."""
    drive = session.get(DriveRow, drive_id)
    if drive is None:
        raise NotFound("drive")
    place = session.exec(select(PoolPlace).where(PoolPlace.drive_id == drive_id)).first()
    if place is not None and place.slot is not None:
        return begin_scan(session, open_pool(session, place.pool_id), who)
    job = start_lone_scan(session, drive, who)
    log(session, who, "scan-started", drive.serial, f"Surface scan of drive {drive.serial} started.", job=job.id)
    return job

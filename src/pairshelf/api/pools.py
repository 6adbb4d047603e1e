"""Pools with their volumes: how they stand, what they may lose, checks, files, and replacements."""

from __future__ import annotations

import datetime as dt
from typing import Any

from flask_openapi3 import APIBlueprint
from pydantic import BaseModel, Field
from sqlalchemy import case, func
from sqlmodel import Session, col, select

from pairshelf.api.figures_out import After, Cut
from pairshelf.api.guard import needs, signed_in
from pairshelf.api.jobs import JobOut, JobsOut, jobs_out
from pairshelf.core.acts import Act
from pairshelf.core.changes.replace_drive import why_too_small
from pairshelf.core.errors import BadInput
from pairshelf.core.estate import EstateDrive, EstatePool
from pairshelf.core.figures.survival import after_failures, in_words, survival
from pairshelf.core.layouts.registry import scheme_of, trade_name
from pairshelf.core.placement import Placement
from pairshelf.core.report import cut_json
from pairshelf.core.search import describe
from pairshelf.core.units import EXTENT
from pairshelf.engine import jobs as engine
from pairshelf.engine.log import log
from pairshelf.engine.pools import open_pool
from pairshelf.store.database import transaction
from pairshelf.store.estate import load_drives, load_pools
from pairshelf.store.tables import DriveRow, Host, JobRow, PoolPlace, PoolRow, SampleFile, Service, VolumeRow

api = APIBlueprint("pools", __name__, url_prefix="/api")


class PoolLine(BaseModel):
    id: int
    name: str
    scheme: str
    trade_name: str
    sets: int
    state: str
    capacity: int
    free: int
    drives: int
    away: int
    spares: int
    volumes: list[str]
    tint: int


class PoolsOut(BaseModel):
    pools: list[PoolLine]
    more: bool


class PageQuery(BaseModel):
    after: str = ""
    limit: int = Field(default=50, ge=1, le=200)


class PlaceOut(BaseModel):
    slot: int
    set: int
    state: str
    drive_id: int | None
    place: str | None
    serial: str | None
    size: int | None
    condition: str | None


class SpareOut(BaseModel):
    drive_id: int
    place: str
    serial: str
    size: int
    condition: str


class VolumeOut(BaseModel):
    id: int
    name: str
    size: int
    file_system: str
    overhead: int
    for_files: int
    host: str | None
    mount_point: str | None
    uuid: str
    files: int
    files_bytes: int
    files_differing: int
    files_read_at: dt.datetime | None


class PoolOut(BaseModel):
    id: int
    name: str
    scheme: str
    trade_name: str
    description: str
    state: str
    tint: int
    created_at: dt.datetime
    capacity: int
    free: int
    guaranteed: int
    best_case: int
    #: What may still fail, as things stand.
    now: After
    #: Share of the redundancy that is in step.
    synced: float
    places: list[PlaceOut]
    spares: list[SpareOut]
    cut: Cut
    volumes: list[VolumeOut]
    jobs: list[JobOut]
    last_check: JobOut | None


class PoolPath(BaseModel):
    pool_id: int


class VolumePath(BaseModel):
    volume_id: int


class FillBody(BaseModel):
    #: Share of the volume's room for files that shall be taken.
    share: float = Field(default=0.3, gt=0, le=1)


class ReplacementsQuery(BaseModel):
    slot: int


class ReplacementOut(BaseModel):
    drive_id: int
    place: str
    serial: str
    maker_model: str
    size: int
    holds: str | None
    #: Why it cannot take the place, or null.
    reason: str | None


class ReplacementsOut(BaseModel):
    candidates: list[ReplacementOut]
    needs: int


def _free(capacity: int, used: int) -> int:
    return (capacity - used) * EXTENT


@api.get("/pools", responses={200: PoolsOut})
@needs(Act.LOOK)
def pools(query: PageQuery) -> Any:
    """Pools by name, a page at a time."""
    with transaction() as session:
        rows = session.exec(
            select(PoolRow).where(PoolRow.name > query.after).order_by(PoolRow.name).limit(query.limit + 1)
        ).all()
        page = rows[: query.limit]
        ids = [p.id for p in page]
        away = func.sum(case((col(PoolPlace.state) != "active", 1), else_=0))
        counts = {
            pool: (members, gone, all_)
            for pool, members, gone, all_ in session.exec(
                select(PoolPlace.pool_id, func.count(col(PoolPlace.slot)), away, func.count())
                .where(col(PoolPlace.pool_id).in_(ids)).group_by(col(PoolPlace.pool_id))
            )
        }  # fmt: skip
        volumes: dict[int, list[VolumeRow]] = {}
        for volume in session.exec(select(VolumeRow).where(col(VolumeRow.pool_id).in_(ids)).order_by(VolumeRow.name)):
            volumes.setdefault(volume.pool_id, []).append(volume)
    lines = []
    for pool in page:
        members, gone, everything = counts[pool.id or 0]
        own = volumes.get(pool.id or 0, [])
        lines.append(PoolLine(
            id=pool.id or 0, name=pool.name, scheme=pool.scheme, trade_name=trade_name(scheme_of(pool.scheme), pool.sets),
            sets=pool.sets, state=pool.state, capacity=pool.capacity * EXTENT,
            free=_free(pool.capacity, sum(v.extents for v in own)), drives=members, away=gone,
            spares=everything - members, volumes=[v.name for v in own], tint=pool.tint,
        ))  # fmt: skip
    return PoolsOut(pools=lines, more=len(rows) > query.limit)


@api.get("/pools/<int:pool_id>", responses={200: PoolOut})
@needs(Act.LOOK)
def pool(path: PoolPath) -> Any:
    """One pool with everything a person needs to see of it."""
    with transaction() as session:
        row = session.get(PoolRow, path.pool_id)
        if row is None:
            raise BadInput("There is no such pool.", code="not-found")
        (built,) = load_pools(session, [path.pool_id])
        volumes = _volumes(session, path.pool_id)
        open_jobs = jobs_out(
            session,
            select(JobRow)
            .where(JobRow.pool_id == row.id, col(JobRow.state).not_in(("done", "failed")))
            .order_by(col(JobRow.id)),
        )
        checks = jobs_out(
            session,
            select(JobRow).where(JobRow.pool_id == row.id, JobRow.kind == "check", JobRow.state == "done")
            .order_by(col(JobRow.id).desc()).limit(1),
        )  # fmt: skip
    return _pool_out(row, built, volumes, open_jobs, checks)


def _pool_out(
    row: PoolRow, built: EstatePool, volumes: list[VolumeOut], open_jobs: list[JobOut], checks: list[JobOut]
) -> PoolOut:
    layout = built.layout
    promised = survival(layout)
    after = after_failures(layout, [p.designed.id for p in built.places if p.state != "active"])
    used = sum(-(-v.size // EXTENT) for v in volumes)
    return PoolOut(
        id=built.id, name=built.name, scheme=row.scheme, trade_name=trade_name(layout.scheme, row.sets),
        description=describe(layout), state=row.state, tint=row.tint, created_at=row.created_at,
        capacity=row.capacity * EXTENT, free=_free(row.capacity, used),
        guaranteed=promised.guaranteed, best_case=promised.best_case,
        now=After(survives=after.survives, more_guaranteed=after.more_guaranteed, more_best_case=after.more_best_case,
                  sentence=in_words(layout, after)),
        synced=row.synced_to / max(1, Placement(layout).stripes()) if layout.scheme.survives else 1.0,
        places=[_place_out(built, p.slot, p.state, p.drive) for p in built.places],
        spares=[SpareOut(drive_id=d.id, place=d.place, serial=d.serial, size=d.size, condition=d.condition) for d in built.spares],
        cut=Cut(**{**cut_json(layout), "spares": [_cut_spare(d) for d in built.spares]}), volumes=volumes, jobs=open_jobs, last_check=checks[0] if checks else None,
    )  # fmt: skip


def _cut_spare(drive: EstateDrive) -> dict[str, Any]:
    """A spare as the cut draws it; its id is apart from those of slots."""
    seen = drive.as_drive
    return {"id": f"spare-{drive.id}", "size": drive.size, "extents": seen.extents, "kind": drive.kind.value}


def _place_out(built: EstatePool, slot: int, state: str, drive: EstateDrive | None) -> PlaceOut:
    return PlaceOut(
        slot=slot, set=built.layout.set_of(slot), state=state, drive_id=drive.id if drive else None,
        place=drive.place if drive else None, serial=drive.serial if drive else None, size=drive.size if drive else None,
        condition=drive.condition if drive else None,
    )  # fmt: skip


def _volumes(session: Session, pool_id: int) -> list[VolumeOut]:
    differing = func.count().filter(col(SampleFile.intact).is_(False))
    query = (
        select(VolumeRow, Host.name, func.count(col(SampleFile.id)), func.coalesce(func.sum(SampleFile.extents), 0),
               differing, func.max(SampleFile.read_at))
        .outerjoin(Host, col(Host.id) == VolumeRow.host_id)
        .outerjoin(SampleFile, col(SampleFile.volume_id) == VolumeRow.id)
        .where(VolumeRow.pool_id == pool_id).group_by(VolumeRow, Host.name).order_by(VolumeRow.name)
    )  # fmt: skip
    return [
        VolumeOut(
            id=v.id or 0, name=v.name, size=v.size, file_system=v.file_system, overhead=v.overhead,
            for_files=v.size - v.overhead, host=host, mount_point=v.mount_point, uuid=v.uuid, files=files,
            files_bytes=int(extents) * EXTENT, files_differing=wrong, files_read_at=read_at,
        )
        for v, host, files, extents, wrong, read_at in session.exec(query)
    ]  # fmt: skip


@api.get("/pools/<int:pool_id>/replacements", responses={200: ReplacementsOut})
@needs(Act.LOOK)
def replacements(path: PoolPath, query: ReplacementsQuery) -> Any:
    """Drives that could take a place: those that can first, and for the others why not."""
    with transaction() as session:
        found = load_pools(session, [path.pool_id])
        place = next((p for p in found[0].places if p.slot == query.slot), None) if found else None
        if place is None:
            raise BadInput("There is no such place.", code="not-found")
        rows = session.exec(
            select(DriveRow).where(col(DriveRow.service).in_((Service.FREE, Service.NEW)), DriveRow.condition != "failed",
                                   col(DriveRow.starts_host).is_(False)).order_by(col(DriveRow.size)).limit(2000)
        ).all()  # fmt: skip
        names = {r.id: " ".join(p for p in (r.maker, r.model) if p) for r in rows}
        drives = load_drives(session, [r.id or 0 for r in rows])
    candidates = [
        ReplacementOut(
            drive_id=d.id, place=d.place, serial=d.serial, maker_model=names[d.id], size=d.size, holds=d.holds,
            reason=d.why_not_offered() or why_too_small(place, d),
        )
        for d in drives
    ]  # fmt: skip
    candidates.sort(key=lambda c: (c.reason is not None, c.size))
    return ReplacementsOut(candidates=candidates[:100], needs=place.designed.size)


@api.post("/pools/<int:pool_id>/check", responses={200: JobsOut})
@needs(Act.RUN_JOBS)
def check(path: PoolPath) -> Any:
    """Start a check: read everything, compare it, read every file back."""
    who = signed_in().name
    with transaction() as session:
        opened = open_pool(session, path.pool_id)
        job = engine.start_check(session, opened, who)
        log(session, who, "check-started", opened.row.name, f"Check of {opened.row.name} started.", job=job.id)
        return _job(session, job)


@api.post("/volumes/<int:volume_id>/fill", responses={200: JobsOut})
@needs(Act.WORK_STAND_INS)
def fill(path: VolumePath, body: FillBody) -> Any:
    """Have the simulated host write sample files to a volume; it keeps their checksums."""
    return _host_job(
        path.volume_id,
        "writes sample files to",
        lambda s, p, v, who: engine.start_fill(s, p, v, body.share, who),
    )


@api.post("/volumes/<int:volume_id>/read-files", responses={200: JobsOut})
@needs(Act.WORK_STAND_INS)
def read_files(path: VolumePath) -> Any:
    """Have the simulated host read all its files of a volume back and compare their checksums."""
    return _host_job(path.volume_id, "reads its files back from", engine.start_reading)


def _host_job(volume_id: int, what: str, start: Any) -> JobsOut:
    who = signed_in().name
    with transaction() as session:
        volume = session.get(VolumeRow, volume_id)
        if volume is None:
            raise BadInput("There is no such volume.", code="not-found")
        opened = open_pool(session, volume.pool_id)
        job = start(session, opened, volume, who)
        log(
            session,
            who,
            f"{job.kind}-started",
            volume.name,
            f"The simulated host {what} {volume.name}.",
            job=job.id,
        )
        return _job(session, job)


def _job(session: Session, job: JobRow) -> JobsOut:
    session.flush()
    return JobsOut(jobs=jobs_out(session, select(JobRow).where(JobRow.id == job.id)))

"""Pools with their volumes: how they stand, what they may lose, checks, files, and replacements."""

from __future__ import annotations

import datetime as dt
from dataclasses import replace
from typing import Any

from flask_openapi3 import APIBlueprint
from pydantic import BaseModel, Field
from sqlalchemy import and_, bindparam, case, func
from sqlmodel import Session, col, or_, select

from pairshelf.api.figures_out import After, Cut
from pairshelf.api.glances_out import GlanceOut, OutlookOut, glance_out, outlook_out
from pairshelf.api.guard import needs, signed_in
from pairshelf.api.jobs import JobOut, JobsOut, jobs_out
from pairshelf.api.paths import PoolPath
from pairshelf.api.queries import Query
from pairshelf.api.sessions import own_session
from pairshelf.core.changes.drives.replace_drive import (
    careful_order,
    is_spare,
    may_stand_by,
    size_needed,
    why_not,
    why_not_replaceable,
)
from pairshelf.core.changes.pools.build_pool import promised as promises_of
from pairshelf.core.changes.pools.larger_drives import PathStep, one_by_one
from pairshelf.core.changes.pools.move_together import stands_apart
from pairshelf.core.changes.volumes.volume_plan import why_closed, why_in_use
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.estate import Estate, EstateDrive, EstateMount, EstatePlace, EstatePool, EstateVolume
from pairshelf.core.domain.mounting import MountLine
from pairshelf.core.domain.units import EXTENT
from pairshelf.core.domain.volume_spec import facts_of
from pairshelf.core.errors import Locked, NotFound, NotPossible
from pairshelf.core.figures.report import cut_json
from pairshelf.core.figures.survival import after_failures, now_in_words, survival
from pairshelf.core.layouts.registry import scheme_of, trade_name
from pairshelf.core.layouts.restriping import Restriping
from pairshelf.core.policies.beside import Under, refused
from pairshelf.core.policies.checking import why_no_check
from pairshelf.core.policies.scanning import why_no_scan
from pairshelf.core.watching.glance import VolumeGlance
from pairshelf.engine import keys
from pairshelf.engine.checking import begin_check, begin_scan
from pairshelf.engine.early import set_acts_early
from pairshelf.engine.jobs.fill import start_fill
from pairshelf.engine.jobs.read_files import start_reading
from pairshelf.engine.log import log
from pairshelf.engine.pools import open_pool
from pairshelf.services import accounts, attempts
from pairshelf.services.bringing_in import record_of
from pairshelf.services.watching import pool_and_volumes, pools_at_a_glance
from pairshelf.store.database import in_these, pick, tell, these, transaction
from pairshelf.store.repositories.books import load_use
from pairshelf.store.repositories.drives_and_pools import load_drives, load_pools
from pairshelf.store.tables import (
    DriveRow,
    HostWrites,
    JobRow,
    PartitionPlan,
    PoolPlace,
    PoolRow,
    SampleFile,
    Service,
    VolumeRow,
)

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
    #: It is one drive, divided into partitions, which are its volumes.
    divided: bool
    glance: GlanceOut


class PoolsOut(BaseModel):
    pools: list[PoolLine]
    more: bool


class PoolsPage(Query):
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
    #: Why no other drive can take the place now, or null.
    why_not_replaceable: str | None
    #: Bytes on a missing drive that have changed since, at most: what it is brought up to date with. Null: it is there.
    missed: int | None


class SpareOut(BaseModel):
    drive_id: int
    place: str
    serial: str
    size: int
    condition: str
    #: What it stands by for: pool, shelf or all.
    scope: str


class MountOut(BaseModel):
    host: str
    at: str
    read_only: bool
    access_times: bool
    required: bool
    #: The line of the host's mount table.
    line: str
    #: Each option in a sentence.
    explained: list[str]


class VolumeHeldOut(BaseModel):
    """How full a volume is."""

    #: Of its room for files, what they take, and where a person is told and where it presses.
    share: float
    tell: float
    urgent: float
    level: int
    #: Bytes that the pool has given it, that lie in bins, that come back on reclaim, that only its administrator may fill.
    given: int
    in_bins: int
    reclaimable: int
    reserve: int
    outlook: OutlookOut | None


class VolumeOut(BaseModel):
    id: int
    pool: str
    name: str
    size: int
    thin: bool
    purpose: str
    #: Its own protection, in a spread pool.
    protection: str | None
    #: Its number in the table of a drive divided into partitions.
    partition: int | None
    #: What it takes on the drives; in a spread pool with its redundancy.
    pool_use: int
    file_system: str
    #: What the file system brings, in words.
    facts: dict[str, str]
    overhead: int
    for_files: int
    mounts: list[MountOut]
    shares: list[str]
    target: str | None
    applications: list[str]
    #: Whether recordings are written to it with nothing that deletes old ones.
    fills_up: bool
    keep_above: float | None
    uuid: str
    files: int
    files_bytes: int
    files_differing: int
    files_read_at: dt.datetime | None
    #: Why it cannot be given up, or null if nothing stands on it.
    why_in_use: str | None
    held: VolumeHeldOut | None = None
    #: What simulated hosts write to it a day while days pass.
    writes_a_day: int | None = None


class ProofOut(BaseModel):
    """What was promised at building beside what was measured since."""

    figure: str
    #: bytes, hours, rate (bytes a second), count
    unit: str
    promised: float
    #: None: not measured yet.
    measured: float | None


class RestripeOut(BaseModel):
    """Two layouts and the front between them."""

    before: str
    after: str
    #: The new layout stands below the front.
    upwards: bool
    #: The front goes back.
    turned: bool
    #: Share of its way, 0 to 1.
    passed: float
    #: Of each place, by slot, the row that the front has come to.
    ribbon: list[int]
    #: Drives that leave when it has arrived, by place.
    leaving: list[str]
    #: Bytes more than now when it has arrived; and whether its volumes are extended then by themselves.
    to_come: int
    extends_then: bool


class CopyOut(BaseModel):
    """A drive that is being made the copy of a member."""

    slot: int
    drive_id: int
    place: str
    serial: str
    size: int


class PathStepOut(BaseModel):
    """A larger drive that comes, or has come, into a place."""

    slot: int
    #: The drive that is there now.
    place: str | None
    serial: str | None
    drive_id: int
    drive: str
    size: int
    came: bool
    gain: int
    hours: float


class RecordOut(BaseModel):
    """What the drives of a pool keep of it."""

    written_at: dt.datetime
    size: int
    #: Drives that have it, of how many.
    on: int
    of: int


class PoolOut(BaseModel):
    id: int
    name: str
    scheme: str
    trade_name: str
    description: str
    state: str
    tint: int
    #: Of a drive divided into partitions, which are its volumes: bytes that none of them has.
    unallocated: int | None
    #: Bytes that would have to move for all that is free to lie at its end.
    stands_apart: int
    created_at: dt.datetime
    capacity: int
    free: int
    guaranteed: int
    best_case: int
    #: Of a spread pool: what may fail as one.
    domain: str | None
    encrypted: bool
    locked: bool
    #: Somebody has said that its passphrase is kept; true where it has none.
    passphrase_kept: bool
    #: What may still fail, as things stand.
    now: After
    #: Share of the redundancy that is in step.
    synced: float
    #: Why it cannot be checked now, or null.
    why_no_check: str | None
    #: Why its surface cannot be scanned now, or null; and the last scan of it that came to its end.
    why_no_scan: str | None
    last_scan: JobOut | None
    #: It copies a member that is failing onto a spare by itself.
    acts_early: bool
    glance: GlanceOut
    #: While it is being restriped.
    restripe: RestripeOut | None
    copies: list[CopyOut]
    #: The path on which larger drives come.
    path: list[PathStepOut]
    #: Why nothing can be changed in it, or on its volumes, now; or null.
    why_closed: str | None
    proofs: list[ProofOut]
    places: list[PlaceOut]
    spares: list[SpareOut]
    cut: Cut
    volumes: list[VolumeOut]
    jobs: list[JobOut]
    last_check: JobOut | None
    #: What its drives say of it themselves; null before anything was written on them.
    record: RecordOut | None


class RoomQuery(Query):
    protection: str = ""


class RoomOut(BaseModel):
    #: Bytes of the largest volume that can be made now.
    largest: int
    free: int


class PassphraseBody(BaseModel):
    passphrase: str


class PassphraseOut(BaseModel):
    passphrase: str


class VolumePath(BaseModel):
    volume_id: int


class FillBody(BaseModel):
    #: Share of the volume's room for files that shall be taken.
    share: float = Field(default=0.3, gt=0, le=1)


class ReplacementsQuery(Query):
    slot: int


class ReplacementOut(BaseModel):
    drive_id: int
    place: str
    serial: str
    maker_model: str
    size: int
    holds: str | None
    #: It has to be taken in first.
    new: bool
    #: It stands by as a spare of the pool.
    spare: bool
    #: It is failing by its readings.
    warns: bool
    #: Why it cannot take the place, or null.
    reason: str | None


class ReplacementsOut(BaseModel):
    candidates: list[ReplacementOut]
    needs: int
    #: The drive that leaves works, and could stand by as a spare.
    may_stand_by: bool


_PAGE = (
    select(PoolRow).where(PoolRow.name > bindparam("after")).order_by(PoolRow.name).limit(bindparam("most"))  # type: ignore[arg-type]
)
#: Of each pool: its members, those that are gone, spares, whether it is a drive that is divided.
_COUNTS = (
    pick(PoolPlace.pool_id, func.count(col(PoolPlace.slot)),
         func.sum(case((col(PoolPlace.state).not_in(("active", "copying")), 1), else_=0)),
         func.sum(case((and_(col(PoolPlace.slot).is_(None), col(PoolPlace.beside).is_(None)), 1), else_=0)),
         func.bool_or(col(PartitionPlan.pool_id).is_not(None)))
    .outerjoin(PartitionPlan, col(PartitionPlan.pool_id) == PoolPlace.pool_id)
    .where(in_these(PoolPlace.pool_id)).group_by(col(PoolPlace.pool_id))
)  # fmt: skip
_NAMES = (
    select(VolumeRow.pool_id, VolumeRow.name).where(in_these(VolumeRow.pool_id), col(VolumeRow.moving_from).is_(None))
    .order_by(VolumeRow.name)
)  # fmt: skip


@api.get("/pools", responses={200: PoolsOut})
@needs(Act.LOOK, shared="with-all")
def pools(query: PoolsPage) -> Any:
    """Pools by name, a page at a time."""
    with transaction() as session:
        rows = session.exec(_PAGE, params={"after": query.after, "most": query.limit + 1}).all()
        page = rows[: query.limit]
        ids = [p.number for p in page]
        counts = {
            pool: (members, gone, idle, divided)
            for pool, members, gone, idle, divided in session.exec(_COUNTS, params=these(ids))
        }
        seen = {number: glance_out(g) for number, g in pools_at_a_glance(session, ids).items()}
        volumes: dict[int, list[str]] = {}
        for pool_id, name in session.exec(_NAMES, params=these(ids)):
            volumes.setdefault(pool_id, []).append(name)
    lines = []
    for pool in page:
        members, gone, idle, divided = counts[pool.number]
        own = volumes.get(pool.number, [])
        lines.append(PoolLine(
            id=pool.number, name=pool.name, scheme=pool.scheme, trade_name=trade_name(scheme_of(pool.scheme), pool.sets) if pool.domain is None else "",
            sets=pool.sets, state=pool.state, capacity=seen[pool.number].capacity,
            free=seen[pool.number].free, drives=members, away=gone,
            spares=idle, volumes=own, tint=pool.tint, divided=divided, glance=seen[pool.number],
        ))  # fmt: skip
    return PoolsOut(pools=lines, more=len(rows) > query.limit)


# What is asked of one pool.
_POOL: Any = bindparam("pool")
_OPEN = col(JobRow.state).not_in(("done", "failed"))
_SYNCING = select(JobRow.volume_id, JobRow.cursor).where(
    JobRow.pool_id == _POOL, JobRow.kind == "first-sync", col(JobRow.volume_id).is_not(None), _OPEN
)
_OPEN_JOBS = (
    select(JobRow).where(or_(JobRow.pool_id == _POOL, JobRow.to_pool_id == _POOL), _OPEN).order_by(col(JobRow.id))
)
#: The last check and the last scan.
_LOOKED = select(JobRow).where(
    col(JobRow.id).in_(
        select(func.max(JobRow.id))
        .where(JobRow.pool_id == _POOL, col(JobRow.kind).in_(("check", "scan")), JobRow.state == "done")
        .group_by(col(JobRow.kind))
    )
)
_STAND_BY = pick(PoolPlace.drive_id, PoolPlace.scope).where(
    PoolPlace.pool_id == _POOL, col(PoolPlace.slot).is_(None), col(PoolPlace.beside).is_(None)
)
_WRITING = select(HostWrites.volume_id, HostWrites.a_day)


@api.get("/pools/<int:pool_id>", responses={200: PoolOut})
@needs(Act.LOOK, shared="with-all")
def pool(path: PoolPath) -> Any:
    """One pool with everything a person needs to see of it."""
    with transaction() as session:
        row = session.get(PoolRow, path.pool_id)
        if row is None:
            raise NotFound("pool")
        (built,) = load_pools(session, [path.pool_id])
        volumes = volumes_out(session, built)
        asked = {"pool": row.number}
        syncing = dict(session.exec(_SYNCING, params=asked).all())
        open_jobs = jobs_out(session, _OPEN_JOBS, asked)
        looked = jobs_out(session, _LOOKED, asked)
        coming = {d.id: d for d in load_drives(session, [drive for _, drive, _ in built.path])}
        record = _record(session, built.id)
        glance, of_volumes = pool_and_volumes(session, built.id)
        scopes = dict(session.exec(_STAND_BY, params=asked).all())
        writing = dict(session.exec(_WRITING).all())
    for volume in volumes:
        volume.writes_a_day = writing.get(volume.id)
        volume.held = _held_out(of_volumes[volume.id])
    return _pool_out(row, built, volumes, open_jobs, looked, not syncing, coming, record, glance_out(glance), scopes)


#: What is promised, in words, and the unit of the figure.
_PROMISES = (
    ("capacity", "Capacity", "bytes"), ("first_sync_hours", "First sync", "hours"), ("check_hours", "Check", "hours"),
    ("rebuild_hours", "Rebuild of a drive", "hours"), ("sequential_write", "Writing in one stream", "rate"),
    ("sequential_read", "Reading in one stream", "rate"), ("restripe_hours", "Restripe", "hours"),
)  # fmt: skip


def proofs_of(row: PoolRow, built: EstatePool) -> list[ProofOut]:
    """What the comparison promised, beside what the drives did. The capacity is proved by its addresses:
    every one of them has its place on the drives. A spread pool promises by the volumes in it now."""
    measured = {**row.measured, "capacity": float(built.holds)}
    promises = promises_of(built.layout) if built.spread else row.promised
    return [
        ProofOut(figure=words, unit=unit, promised=promises[name], measured=measured.get(name))
        for name, words, unit in _PROMISES
        if promises.get(name)
    ]


def _pool_out(
    row: PoolRow, built: EstatePool, volumes: list[VolumeOut], open_jobs: list[JobOut], looked: list[JobOut],
    volumes_synced: bool, coming: dict[int, EstateDrive], record: RecordOut | None, glance: GlanceOut,
    scopes: dict[int, str],
) -> PoolOut:  # fmt: skip
    layout = built.layout
    promised = survival(layout)
    failed = [p.designed.id for p in built.places if p.state in ("failed", "rebuilding")]
    missing = [p.designed.id for p in built.places if p.state == "missing"]
    after = after_failures(layout, [*failed, *missing])
    synced = row.synced_to / max(1, layout.stripes) if layout.scheme.survives else 1.0
    if built.spread:
        synced = 1.0 if volumes_synced else 0.5
    return PoolOut(
        id=built.id, name=built.name, scheme=row.scheme, trade_name=trade_name(layout.scheme, row.sets),
        description=layout.describe(), state=row.state, tint=row.tint,
        unallocated=built.table.bytes_left if built.table else None, stands_apart=stands_apart(built) * EXTENT, created_at=row.created_at,
        capacity=built.holds, free=built.free * EXTENT, domain=row.domain,
        passphrase_kept=row.passphrase_kept, encrypted=built.encrypted, locked=built.encrypted and not keys.is_open(built.id),
        guaranteed=promised.guaranteed, best_case=promised.best_case,
        now=After(survives=after.survives, more_guaranteed=after.more_guaranteed, more_best_case=after.more_best_case,
                  sentence=now_in_words(layout, failed, missing)),
        synced=synced, proofs=proofs_of(row, built), why_no_check=_why_no_check(built),
        why_no_scan=_why_no_scan(built), last_scan=next((j for j in looked if j.kind == "scan"), None), acts_early=row.acts_early,
        restripe=_restripe_out(row, built), path=_path_out(built, coming),
        copies=[CopyOut(slot=slot, drive_id=d.id, place=d.place, serial=d.serial, size=d.size) for slot, d in built.copies],
        why_closed=why_closed(replace(built, locked=built.encrypted and not keys.is_open(built.id))),
        places=[_place_out(built, p) for p in built.places],
        spares=[SpareOut(drive_id=d.id, place=d.place, serial=d.serial, size=d.size, condition=d.condition, scope=scopes.get(d.id, "pool")) for d in built.spares],
        cut=Cut(**{**cut_json(layout), "spares": [_cut_spare(d) for d in built.spares]}), volumes=volumes, jobs=open_jobs, last_check=next((j for j in looked if j.kind == "check"), None),
        record=record, glance=glance,
    )  # fmt: skip


def _restripe_out(row: PoolRow, built: EstatePool) -> RestripeOut | None:
    layout = built.layout
    if not isinstance(layout, Restriping):
        return None
    old, new = layout.both.old, layout.both.new
    stays = {d.id for d in (old if layout.turned else new).members}
    leaving = [p.drive.place for p in built.places if p.designed.id not in stays and p.drive]
    return RestripeOut(
        before=f"{old.scheme.id}, {old.describe()}", after=f"{new.scheme.id}, {new.describe()}", upwards=layout.upwards,
        turned=layout.turned, passed=layout.passed, ribbon=list(layout.ribbon), leaving=leaving,
        to_come=max(0, layout.to_come) * EXTENT, extends_then=row.extend_after is not None,
    )  # fmt: skip


def _path_out(built: EstatePool, coming: dict[int, EstateDrive]) -> list[PathStepOut]:
    """The path as it stands: what has come, and what the rest brings from here on."""
    places = {p.slot: p.drive for p in built.places}
    ahead = [(slot, drive) for slot, drive, came in built.path if not came and drive in coming]
    if isinstance(built.layout, Restriping) or not built.path:
        steps: list[PathStep] = []
    else:
        steps, _, _ = one_by_one(
            built.layout, [coming[d] for _, d in ahead], [slot for slot, _ in ahead], whole=True
        )  # fmt: skip
    figures = {s.drive.id: s for s in steps}
    found = []
    for slot, drive_id, came in built.path:
        own, there = coming.get(drive_id), places.get(slot)
        step = figures.get(drive_id)
        found.append(PathStepOut(
            slot=slot, place=there.place if there else None, serial=there.serial if there else None, drive_id=drive_id,
            drive=own.serial if own else "", size=own.size if own else 0, came=came, gain=step.gain if step else 0,
            hours=step.hours if step else 0.0,
        ))  # fmt: skip
    return found


def _cut_spare(drive: EstateDrive) -> dict[str, Any]:
    """A spare as the cut draws it; its id is apart from those of slots."""
    seen = drive.as_drive
    return {"id": f"spare-{drive.id}", "size": drive.size, "extents": seen.extents, "kind": drive.kind.value}


def _why_no_check(built: EstatePool) -> str | None:
    if found := refused(Under("check"), built.under_way):
        return found.said
    why = why_no_check([p.state for p in built.places], synced=built.synced, stripes=built.layout.stripes)
    return why[1] if why else None


def _why_no_scan(built: EstatePool) -> str | None:
    if found := refused(Under("scan"), built.under_way):
        return found.said
    why = why_no_scan(built.state, synced=built.synced)
    return why[1] if why else None


class EarlyBody(BaseModel):
    on: bool


class EarlyOut(BaseModel):
    on: bool


@api.put("/pools/<int:pool_id>/acts-early", responses={200: EarlyOut})
@needs(Act.BUILD_POOLS)
def set_early(path: PoolPath, body: EarlyBody) -> Any:
    """Say whether a pool copies a member that is failing onto a spare by itself, while it still reads."""
    with transaction() as session:
        set_acts_early(session, path.pool_id, signed_in().name, on=body.on)
    return EarlyOut(on=body.on)


def _record(session: Session, pool_id: int) -> RecordOut | None:
    kept = record_of(session, pool_id)
    if kept is None:
        return None
    return RecordOut(written_at=kept.record.written_at, size=kept.record.size, on=kept.on, of=kept.of)


def _place_out(built: EstatePool, place: EstatePlace) -> PlaceOut:
    drive = place.drive
    return PlaceOut(
        slot=place.slot, set=built.layout.set_of(place.slot), state=place.state, drive_id=drive.id if drive else None,
        place=drive.place if drive else None, serial=drive.serial if drive else None, size=drive.size if drive else None,
        condition=drive.condition if drive else None, why_not_replaceable=why_not_replaceable(built, place),
        missed=None if place.missed is None else place.missed * EXTENT,
    )  # fmt: skip


def _held_out(seen: VolumeGlance) -> VolumeHeldOut:
    held = seen.holds
    return VolumeHeldOut(
        share=held.share, tell=seen.limits.tell, urgent=seen.limits.urgent, level=int(seen.level), given=held.given,
        in_bins=held.in_bins, reclaimable=held.reclaimable, reserve=held.reserve, outlook=outlook_out(seen.outlook),
    )  # fmt: skip


def mount_out(estate: Estate, mount: EstateMount) -> MountOut:
    """A mount with its line and what its options mean."""
    volume = estate.volume(mount.volume)
    line = MountLine(mount.host, mount.volume, mount.at, volume.file_system, volume.uuid, mount.read_only,
                     mount.access_times, mount.required)  # fmt: skip
    return MountOut(
        host=mount.host, at=mount.at, read_only=mount.read_only, access_times=mount.access_times,
        required=mount.required, line=line.text(), explained=line.explained(),
    )  # fmt: skip


_READ = (
    select(SampleFile.volume_id, func.count().filter(col(SampleFile.intact).is_(False)), func.max(SampleFile.read_at))
    .join(VolumeRow, col(VolumeRow.id) == SampleFile.volume_id)
    .where(VolumeRow.pool_id == _POOL).group_by(col(SampleFile.volume_id))
)  # fmt: skip


def volumes_out(session: Session, pool: EstatePool) -> list[VolumeOut]:
    """The volumes of a pool with what stands on them."""
    estate = load_use(session, pool)
    looked: dict[int, Any] = {
        volume: (wrong, read_at) for volume, wrong, read_at in session.exec(_READ, params={"pool": pool.id})
    }
    return [
        _volume_out(estate, v, *looked.get(v.id, (0, None)))
        for v in sorted(estate.volumes, key=lambda v: v.partition or 0)
    ]


def _volume_out(estate: Estate, v: EstateVolume, wrong: int, read_at: dt.datetime | None) -> VolumeOut:
    apps = [a for a in estate.applications if a.volume == v.ref]
    return VolumeOut(
        id=v.id, pool=v.pool, name=v.name, size=v.size, thin=v.thin, purpose=v.purpose, protection=v.protection,
        partition=v.partition,
        pool_use=v.placed * EXTENT, file_system=v.file_system, facts=dict(facts_of(v.file_system)), overhead=v.overhead,
        for_files=v.size - v.overhead, mounts=[mount_out(estate, m) for m in estate.mounts_of(v)],
        shares=[s.name for s in estate.shares if s.volume == v.ref],
        target=next((t.iqn for t in estate.targets if v.ref in [r for _, r in t.luns]), None),
        applications=[f"{a.host}/{a.name}" for a in apps], keep_above=v.keep_above,
        fills_up=v.keep_above is None and any(a.kind == "recorder" for a in apps), uuid=v.uuid, files=v.files,
        files_bytes=v.files_bytes, files_differing=wrong, files_read_at=read_at, why_in_use=why_in_use(estate, v),
    )  # fmt: skip


@api.get("/pools/<int:pool_id>/room", responses={200: RoomOut})
@needs(Act.LOOK, shared="with-all")
def room(path: PoolPath, query: RoomQuery) -> Any:
    """How large a further volume can be."""
    with transaction() as session:
        pools = load_pools(session, [path.pool_id])
    if not pools:
        raise NotFound("pool")
    unsaid = pools[0].spread and not query.protection.strip()
    return RoomOut(largest=0 if unsaid else pools[0].largest(query.protection), free=pools[0].free * EXTENT)


@api.post("/pools/<int:pool_id>/unlock", responses={200: PoolsOut})
@needs(Act.KEEP_KEYS)
def unlock(path: PoolPath, body: PassphraseBody) -> Any:
    """Unlock an encrypted pool with its passphrase; its key lies in memory until it is locked or the machine restarts."""
    counters = attempts.of_session(own_session())
    accounts.unlock_pool(path.pool_id, body.passphrase, signed_in().name, counters)
    return PoolsOut(pools=[], more=False)


@api.post("/pools/<int:pool_id>/lock", responses={200: PoolsOut})
@needs(Act.KEEP_KEYS)
def lock(path: PoolPath) -> Any:
    """Lock an encrypted pool: nothing can be read or written until it is unlocked."""
    user = signed_in()
    with transaction() as session:
        opened = open_pool(session, path.pool_id)
        row = _encrypted(session, path.pool_id)
        keys.forget_key(opened.row.number)
        tell(session, "pool")
        log(session, user.name, "pool-locked", row.name, f"Pool {row.name} locked.")
    return PoolsOut(pools=[], more=False)


@api.post("/pools/<int:pool_id>/passphrase", responses={200: PassphraseOut})
@needs(Act.KEEP_KEYS)
def new_passphrase(path: PoolPath) -> Any:
    """A new passphrase for an unlocked pool, shown this once; the one before no longer opens it."""
    user = signed_in()
    with transaction() as session:
        open_pool(session, path.pool_id)
        row = _encrypted(session, path.pool_id)
        key = keys.key_of(path.pool_id)
        if key is None:
            raise Locked(row.name, then="only while it is unlocked can it be given another")
        passphrase = keys.new_passphrase()
        row.key, row.passphrase_kept = {**(row.key or {}), **keys.wrap(key, passphrase)}, False
        log(session, user.name, "passphrase-changed", row.name, f"Pool {row.name} has a new passphrase.")
    return PassphraseOut(passphrase=passphrase)


@api.post("/pools/<int:pool_id>/passphrase-kept", responses={200: PoolsOut})
@needs(Act.KEEP_KEYS)
def passphrase_kept(path: PoolPath) -> Any:
    """Say that the passphrase shown last is kept in a safe place."""
    user = signed_in()
    with transaction() as session:
        row = _encrypted(session, path.pool_id)
        if not row.passphrase_kept:
            row.passphrase_kept = True
            log(
                session, user.name, "passphrase-kept", row.name, f"{user.name} keeps the passphrase of pool {row.name}."
            )
    return PoolsOut(pools=[], more=False)


def _encrypted(session: Session, pool_id: int) -> PoolRow:
    row = session.get(PoolRow, pool_id)
    if row is None:
        raise NotFound("pool")
    if row.key is None:
        raise NotPossible("This pool is not encrypted.", code="not-encrypted")
    return row


@api.get("/pools/<int:pool_id>/replacements", responses={200: ReplacementsOut})
@needs(Act.LOOK)
def replacements(path: PoolPath, query: ReplacementsQuery) -> Any:
    """Drives that could take a place: those that can first, and for the others why not."""
    with transaction() as session:
        found = load_pools(session, [path.pool_id])
        place = next((p for p in found[0].places if p.slot == query.slot), None) if found else None
        if place is None:
            raise NotFound("place")
        spare = col(DriveRow.id).in_([d.id for d in found[0].spares])
        rows = session.exec(
            select(DriveRow).where(or_(col(DriveRow.service).in_((Service.FREE, Service.NEW)), spare), DriveRow.condition != "failed",
                                   col(DriveRow.shelf_id).is_not(None), col(DriveRow.starts_host).is_(False))
            .order_by(col(DriveRow.size)).limit(2000)
        ).all()  # fmt: skip
        names = {r.id: " ".join(p for p in (r.maker, r.model) if p) for r in rows}
        drives = load_drives(session, [r.number for r in rows])
    drives.sort(key=lambda d: careful_order(place, d))
    candidates = [
        ReplacementOut(
            drive_id=d.id, place=d.place, serial=d.serial, maker_model=names[d.id], size=d.size, holds=d.holds,
            new=d.service == "new", spare=is_spare(found[0], d), warns=d.condition == "failing",
            reason=why_not(found[0], place, replace(d, service="free") if d.service == "new" else d),
        )
        for d in drives
    ]  # fmt: skip
    candidates.sort(key=lambda c: c.reason is not None)
    return ReplacementsOut(
        candidates=candidates[:100], needs=size_needed(found[0], place), may_stand_by=may_stand_by(found[0], place)
    )


@api.post("/pools/<int:pool_id>/check", responses={200: JobsOut})
@needs(Act.RUN_JOBS)
def check(path: PoolPath) -> Any:
    """Start a check: read everything, compare it, read every file back."""
    who = signed_in().name
    with transaction() as session:
        opened = open_pool(session, path.pool_id)
        return _job(session, begin_check(session, opened, who))


@api.post("/pools/<int:pool_id>/scan", responses={200: JobsOut})
@needs(Act.RUN_JOBS)
def scan(path: PoolPath) -> Any:
    """Start a surface scan: every drive read through; what cannot be read is written anew from the others."""
    who = signed_in().name
    with transaction() as session:
        return _job(session, begin_scan(session, open_pool(session, path.pool_id), who))


@api.post("/volumes/<int:volume_id>/fill", responses={200: JobsOut})
@needs(Act.WORK_STAND_INS)
def fill(path: VolumePath, body: FillBody) -> Any:
    """Have the simulated host write sample files to a volume; it keeps their checksums."""
    return _host_job(
        path.volume_id,
        "writes sample files to",
        lambda s, p, v, who: start_fill(s, p, v, body.share, who),
    )


@api.post("/volumes/<int:volume_id>/read-files", responses={200: JobsOut})
@needs(Act.WORK_STAND_INS)
def read_files(path: VolumePath) -> Any:
    """Have the simulated host read all its files of a volume back and compare their checksums."""
    return _host_job(path.volume_id, "reads its files back from", start_reading)


def _host_job(volume_id: int, what: str, start: Any) -> JobsOut:
    who = signed_in().name
    with transaction() as session:
        volume = session.get(VolumeRow, volume_id)
        if volume is None:
            raise NotFound("volume")
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

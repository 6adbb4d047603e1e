"""A volume copied to another pool while it is used, kept up with, compared, and switched over.

The copy is a volume of the other pool that nobody sees (``VolumeRow.moving_from``) until everything names it. What is
written to the source meanwhile is marked, in the transaction that writes it, by regions (``ChangedRegion``): those are
copied once more. While a step works, both pools are held: nobody writes between the last look and the switch.
"""

from __future__ import annotations

import uuid
from collections.abc import Iterator, Mapping
from typing import Any

from sqlalchemy import delete, text, update
from sqlmodel import Session, SQLModel, col, select

from pairshelf.core.domain.device import Devices
from pairshelf.core.domain.volume_spec import Spec
from pairshelf.core.errors import NoRoom
from pairshelf.core.layouts.allocation import spans, unplaced
from pairshelf.engine import keys
from pairshelf.engine.io.files import FilePlace, FileWriter, agrees, remove_files
from pairshelf.engine.io.spread_io import Stretch
from pairshelf.engine.io.volume_io import (
    CHANGED_TOGETHER,
    VolumeIO,
    delete_volume,
    files_on,
    give_back,
    make_volume,
    pieces_of,
)
from pairshelf.engine.jobs.kind import JobKind
from pairshelf.engine.jobs.starting import meet, require_serving, start
from pairshelf.engine.jobs.work import Held, Work
from pairshelf.engine.pools import OpenPool, open_io, open_pool
from pairshelf.engine.records import afterwards_written
from pairshelf.store.tables import (
    Application,
    BackupRow,
    ChangedRegion,
    Crossing,
    HostWrites,
    JobRow,
    KeepRule,
    Mount,
    OutlookRow,
    PlayRow,
    SampleFile,
    Share,
    TargetLun,
    Threshold,
    VolumeRow,
)

#: Most extents that are read and written at once.
_MOST = 2048
#: Regions that are copied again in one step; after so many rounds all there are, so that it ends.
_REGIONS, _ROUNDS = 64, 20

#: What names a volume, and names the new one after the switch. Its pieces and stripes are its own.
FOLLOW: tuple[type[SQLModel], ...] = (SampleFile, Mount, Share, TargetLun, KeepRule, BackupRow, Application, JobRow, Threshold,
                                     Crossing, OutlookRow, HostWrites, PlayRow)  # fmt: skip


def step(work: Work) -> float:
    job, session = work.job, work.session
    volume = work.volume()
    copy = session.get_one(VolumeRow, job.report["copy"])
    pool = open_pool(session, copy.pool_id)
    for one in (work.pool, pool):
        if not one.serves():
            raise Held(f"pool {one.row.name} is {one.row.state}; it goes on when it can be read")
        if one.row.key is not None and not keys.is_open(one.row.number):
            raise Held(f"pool {one.row.name} is locked; it goes on when it is unlocked")
    target = VolumeIO(session, pool, work.world, open_io(session, pool, work.world))
    try:
        done = (_by_files if job.report["by_files"] else _by_extents)(work, volume, copy, pool, target)
    except NoRoom:
        raise Held(f"pool {pool.row.name} is full; it goes on when there is room for the rest") from None
    return done / max(1, job.total) * job.seconds


def _by_extents(work: Work, volume: VolumeRow, copy: VolumeRow, pool: OpenPool, target: VolumeIO) -> int:
    """All of it, then what was written meanwhile, then compared; then it is switched over. Extents worked on."""
    job, session = work.job, work.session
    most = min(work.most, _MOST)
    if job.cursor < volume.extents:
        count = min(most, volume.extents - job.cursor)
        _copy(work, volume, copy, target, job.cursor, count)
        job.cursor += count
        return count
    if again := _changed(session, volume, job.report["rounds"]):
        for region in again:
            at = region * CHANGED_TOGETHER
            _copy(work, volume, copy, target, at, min(CHANGED_TOGETHER, volume.extents - at))
        job.report = {**job.report, "rounds": job.report["rounds"] + 1,
                      "again": job.report["again"] + len(again) * CHANGED_TOGETHER}  # fmt: skip
        if job.report["rounds"] <= _ROUNDS:
            return 0
        # It is written to faster than it is copied: nothing is behind now, and comparing goes on while that is so.
    at = job.cursor - volume.extents
    count = min(most, volume.extents - at)
    if count > 0:
        for first, n in _there(session, volume, at, count):
            if work.volumes.read(volume, first, n) != target.read(copy, first, n):
                _copy(work, volume, copy, target, first, n)
                job.report = {**job.report, "differed": job.report["differed"] + n}
        job.cursor += count
    if job.cursor >= 2 * volume.extents:
        _switch(work, volume, copy, pool)
        job.cursor = job.total
    return count


def _there(session: Session, volume: VolumeRow, at: int, count: int) -> Iterator[tuple[int, int]]:
    """What has a place of a stretch of a volume: (first extent, extents)."""
    for extent, _, n in spans(pieces_of(session, volume.number), at, count):
        yield extent, n


def _copy(work: Work, volume: VolumeRow, copy: VolumeRow, target: VolumeIO, at: int, count: int) -> None:
    for first, n in _there(work.session, volume, at, count):
        for skip in range(0, n, _MOST):
            part = min(_MOST, n - skip)
            target.write(copy, first + skip, work.volumes.read(volume, first + skip, part), fresh=True)


def _changed(session: Session, volume: VolumeRow, rounds: int) -> list[int]:
    """Regions that were written since they were copied; they are copied now."""
    query = select(ChangedRegion.region).where(ChangedRegion.volume_id == volume.id).order_by(col(ChangedRegion.region))
    found = list(session.exec(query.limit(_REGIONS) if rounds < _ROUNDS else query))
    gone = delete(ChangedRegion).where(col(ChangedRegion.volume_id) == volume.id, col(ChangedRegion.region).in_(found))
    session.connection().execute(gone)
    return found


def _by_files(work: Work, volume: VolumeRow, copy: VolumeRow, pool: OpenPool, target: VolumeIO) -> int:
    """The files that are not there yet, without those that have gone; each is read back. Then it is switched over."""
    job, session = work.job, work.session
    mine, theirs = files_on(session, volume.number), {f.name: f for f in files_on(session, copy.number)}
    by_name = {f.name: f for f in mine}
    gone = [f for f in theirs.values() if f.name not in by_name or f.checksum != by_name[f.name].checksum]
    remove_files(session, pool, copy, gone)
    session.flush()
    target.forget_places()
    lacking = [f for f in mine if f.name not in theirs or theirs[f.name] in gone]
    if not lacking:
        _switch(work, volume, copy, pool)
        job.cursor = job.total
        return 0
    writer, done, written = FileWriter(session, target, copy), 0, []
    for file in lacking:
        if done and done + file.extents > min(work.most, _MOST):
            break
        content = work.volumes.read(volume, file.first, file.extents)
        name = file.name.removeprefix(f"{file.folder}/") if file.folder else file.name
        writer.write(FilePlace(file.folder, name, file.via, file.writer), content, file.checksum, whole=True)
        done += file.extents
        written.append(file)
    writer.flush()
    target.forget_places()
    for file in session.exec(
        select(SampleFile).where(SampleFile.volume_id == copy.id, col(SampleFile.name).in_([f.name for f in written]))
    ):
        if not agrees(target.read(copy, file.first, file.extents), file.checksum):
            job.report = {**job.report, "differed": job.report["differed"] + file.extents}
    left = sum(f.extents for f in lacking) - done
    job.total = max(job.total, job.cursor + done + left + 1)
    job.cursor += done
    return done


_AS_THEY_WERE = text("""
update sample_file t set written_at = s.written_at, deleted_at = s.deleted_at, read_at = s.read_at, intact = s.intact
from sample_file s where t.volume_id = :copy and s.volume_id = :volume and s.name = t.name
""")
_LEFT_THERE = text("""
insert into sample_file (volume_id, name, first, extents, checksum, via, folder, writer, written_at, read_at, intact, deleted_at)
select :volume, name, first, extents, checksum, via, folder, writer, written_at, read_at, intact, deleted_at
from sample_file where volume_id = :copy
""")


def _switch(work: Work, volume: VolumeRow, copy: VolumeRow, pool: OpenPool) -> None:
    """Everything names the copy from now on; the source is kept with its files, or goes."""
    session, job = work.session, work.job
    both = {"volume": volume.number, "copy": copy.number}
    by_files, keep = job.report["by_files"], job.report["keep"]
    if by_files:
        session.connection().execute(_AS_THEY_WERE, both)
    elif copy.thin:
        # What was given back of the source meanwhile is given back of the copy.
        give_back(session, pool, copy, unplaced(pieces_of(session, volume.number), 0, volume.extents))
    copy.moving_from, volume.moving_to = None, None
    copy.created_at = volume.created_at
    if not by_files:
        copy.uuid, volume.uuid = volume.uuid, str(uuid.uuid4())
    # Its history goes with it; what stays behind begins one of its own.
    copy.recorded_as, volume.recorded_as = volume.recorded_as or volume.number, copy.number
    session.flush()
    # What had been said of the copy before anybody saw it gives way to what was said of the volume.
    for said in (OutlookRow, Crossing):
        session.connection().execute(delete(said).where(col(said.volume_id) == copy.number))
    for table in FOLLOW:
        if table is SampleFile and by_files:
            continue
        values: dict[str, Any] = {"volume_id": copy.number}
        where = [col(table.volume_id) == volume.number]  # type: ignore[attr-defined]
        if table is BackupRow:
            values["pool_id"] = copy.pool_id
        if table is JobRow:
            # Those that go on, go on there; this one stays with the pool that it began in.
            others = (*where, col(JobRow.id) != job.id, col(JobRow.finished_at).is_(None))
            session.connection().execute(update(JobRow).where(*others).values(pool_id=copy.pool_id))
        session.connection().execute(update(table).where(*where).values(**values))
    session.expire_all()
    if keep and not by_files:
        session.connection().execute(_LEFT_THERE, both)
    session.connection().execute(delete(ChangedRegion).where(col(ChangedRegion.volume_id) == both["volume"]))
    if not keep:
        delete_volume(session, work.pool, session.get_one(VolumeRow, both["volume"]))
    # Not only the pool that it left says so.
    afterwards_written(session, copy.pool_id, work.world)


def start_move(
    session: Session, source: OpenPool, target: OpenPool, volume: VolumeRow, spec: Spec, world: Devices, *, by_files: bool,
    keep: bool, seconds: float, who: str, sheet_id: int | None,
) -> JobRow:  # fmt: skip
    """Take its place in the other pool, and begin."""
    require_serving(source)
    require_serving(target)
    meet(session, source.row.id, "move-volume", volume_id=volume.id)
    io = open_io(session, target, world)
    copy = make_volume(session, target, spec)
    if target.layout.own_protection:
        io.take_up(target.layout, _fresh(target, copy))
    copy.moving_from, volume.moving_to = volume.id, copy.id
    files = sum(f.extents for f in files_on(session, volume.number)) if by_files else 0
    return start(session, JobRow(
        kind="move-volume", pool_id=source.row.number, to_pool_id=target.row.number, volume_id=volume.id, sheet_id=sheet_id,
        asked_by=who, total=max(1, files + 1 if by_files else 2 * volume.extents), seconds=seconds, pace="gentle",
        report={"copy": copy.number, "by_files": by_files, "keep": keep, "rounds": 0, "again": 0, "differed": 0,
                "to": target.row.name, "name": volume.name},
    ))  # fmt: skip


def _fresh(pool: OpenPool, volume: VolumeRow) -> list[Stretch]:
    placed = pool.layout.striped(volume.number)
    return [Stretch(placed, 0, len(placed.spots))] if placed is not None else []


def drop_copy(session: Session, volume: VolumeRow) -> None:
    """What had been copied goes; the volume is where it was."""
    copy = session.get(VolumeRow, volume.moving_to) if volume.moving_to is not None else None
    volume.moving_to = None
    session.connection().execute(delete(ChangedRegion).where(col(ChangedRegion.volume_id) == volume.id))
    session.flush()
    if copy is not None:
        delete_volume(session, open_pool(session, copy.pool_id), copy)


def _give_up(session: Session, job: JobRow, _world: Devices) -> None:
    volume = session.get(VolumeRow, job.volume_id) if job.volume_id is not None else None
    if volume is not None:
        drop_copy(session, volume)


def _outcome(report: Mapping[str, Any], pool: str) -> str:
    again = f"; {report['again']} GiB written meanwhile were copied again" if report.get("again") else ""
    source = "the source is kept" if report["keep"] else f"its capacity in {pool} is free again"
    return f"{report['name']} is in {report['to']}, compared to the last extent{again}; {source}."


KIND = JobKind(
    "move-volume", "Moving a volume", "Everything can be used; reading and writing are slower until it ends.", step, _outcome,
    give_up=_give_up,
)  # fmt: skip

"""Jobs: making them, pausing them, and what each kind does in one step."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Collection, Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
from sqlmodel import Session, col, select

from pairshelf.core.device import Devices
from pairshelf.core.drives import Drive, Kind
from pairshelf.core.errors import NotPossible
from pairshelf.core.figures import durations
from pairshelf.core.figures.speed import sequential_read, sequential_write
from pairshelf.core.placement import Placement
from pairshelf.core.units import EXTENT
from pairshelf.engine.log import SYSTEM, log
from pairshelf.engine.pool_io import PoolIO, Run
from pairshelf.engine.pools import OpenPool, label_of, open_io, refresh_state
from pairshelf.engine.queue import enqueue
from pairshelf.store.tables import (
    DriveRow,
    JobRow,
    JobState,
    MemberState,
    PoolPlace,
    SampleFile,
    VolumeRow,
    now,
)

#: Files the simulated host writes are at most so many extents long.
LONGEST_FILE = 64
#: Mismatches listed one by one in a report; all are counted.
LISTED = 20

NAMES = {
    "first-sync": "First sync",
    "rebuild": "Rebuild",
    "check": "Check",
    "fill": "Writing sample files",
    "read-files": "Reading files back",
}


@dataclass(slots=True)
class Work:
    """What one step has at hand."""

    session: Session
    job: JobRow
    pool: OpenPool
    world: Devices
    #: Most stripes (or extents) to do in this step.
    most: int
    _io: PoolIO | None = None

    @property
    def io(self) -> PoolIO:
        """The pool's bytes."""
        if self._io is None:
            self._io = open_io(self.session, self.pool, self.world)
        return self._io


@dataclass(frozen=True, slots=True)
class Held(Exception):
    """The job cannot go on now; it waits."""

    why: str


#: Jobs that are the users' own work; the others take the drives' time from it.
USERS_WORK = ("fill", "read-files")


def paces_under_way(session: Session, pool_ids: Collection[int]) -> dict[int, str]:
    """For each of these pools with a job under way that is not its users' work: that job's pace."""
    query = select(JobRow.pool_id, JobRow.pace).where(
        col(JobRow.pool_id).in_(pool_ids),
        JobRow.state == JobState.RUNNING,
        col(JobRow.kind).not_in(USERS_WORK),
    )
    return dict(session.exec(query).all())


def slowing(job: JobRow, paces: Mapping[int, str]) -> float:
    """How many times longer than undisturbed a job takes: users and jobs share the drives' time."""
    if job.kind in USERS_WORK:
        pace = paces.get(job.pool_id)
        return 1.0 if pace is None else 1 / (durations.GENTLE if pace == "gentle" else durations.FAST)
    return 1 / (1 - (durations.GENTLE if job.pace == "gentle" else durations.FAST))


# -- making jobs -----------------------------------------------------------------------------------


def _start(session: Session, job: JobRow) -> JobRow:
    session.add(job)
    session.flush()
    enqueue(session, job.id or 0)
    return job


def start_first_sync(session: Session, pool: OpenPool, who: str, sheet_id: int | None) -> JobRow | None:
    """Bring the redundancy of a new pool in step; nothing to do without redundancy."""
    takes = durations.first_sync(pool.layout)
    total = Placement(pool.layout).stripes()
    if takes is None:
        pool.row.synced_to = total
        return None
    return _start(session, JobRow(
        kind="first-sync", pool_id=pool.row.id, sheet_id=sheet_id, total=total, seconds=takes.idle, asked_by=who,
    ))  # fmt: skip


def start_rebuild(session: Session, pool: OpenPool, slot: int, who: str, sheet_id: int | None = None) -> JobRow:
    """Fill the drive that now stands at a slot; a rebuild of that slot still open is begun again."""
    place = pool.place(slot)
    drive = session.get(DriveRow, place.drive_id)
    assert drive is not None
    new = Drive("new", drive.size, Kind(drive.kind), drive.rate)
    absent = [str(p.slot) for p in pool.members if p.state != MemberState.ACTIVE and p.slot != slot]
    takes = durations.rebuild(pool.layout, str(slot), new, absent=absent)
    place.state, place.rebuilt_to, place.away_since = MemberState.REBUILDING, 0, None
    open_one = session.exec(
        select(JobRow).where(
            JobRow.pool_id == pool.row.id, JobRow.kind == "rebuild", JobRow.slot == slot,
            col(JobRow.state).not_in((JobState.DONE, JobState.FAILED)),
        )
    ).first()  # fmt: skip
    if open_one:
        open_one.cursor, open_one.spent, open_one.seconds = 0, 0.0, takes.idle
        return open_one
    return _start(session, JobRow(
        kind="rebuild", pool_id=pool.row.id, sheet_id=sheet_id, slot=slot, asked_by=who,
        total=Placement(pool.layout).stripes(), seconds=takes.idle,
        report={"serial": drive.serial},
    ))  # fmt: skip


def start_check(session: Session, pool: OpenPool, who: str) -> JobRow:
    """Read everything, compare it, and read every sample file back."""
    if not pool.whole:
        raise NotPossible(
            "A check compares every drive with the others; replace what is missing first.", code="degraded"
        )
    if pool.row.synced_to < Placement(pool.layout).stripes():
        raise NotPossible("The first sync is still under way; check when it has finished.", code="not-synced")
    _none_open(session, pool, "check", "A check of this pool is under way already.")
    files = _files(session, pool.row.id or 0)
    total = Placement(pool.layout).stripes()
    extents = sum(f.extents for f in files)
    seconds = durations.check(pool.layout).idle + extents * EXTENT / sequential_read(pool.layout)
    return _start(session, JobRow(
        kind="check", pool_id=pool.row.id, total=total + extents, seconds=seconds, asked_by=who,
        report={"stripes": total, "extents_compared": 0, "mismatches": 0, "places": [], "put_right": 0,
                "files_read": 0, "files_differing": []},
    ))  # fmt: skip


def start_fill(session: Session, pool: OpenPool, volume: VolumeRow, share: float, who: str) -> JobRow:
    """The simulated host writes sample files to a volume until so much of its room is taken."""
    if not pool.serves():
        raise NotPossible(
            f"Pool {pool.row.name} is {pool.row.state}; nothing can be written to it now.", code="not-serving"
        )
    _none_open(session, pool, "fill", "Files are being written to this volume already.", volume.id)
    room = file_room(volume)
    files = session.exec(select(SampleFile).where(SampleFile.volume_id == volume.id)).all()
    used = sum(f.extents for f in files)
    wanted = min(room, int(room * share)) - used
    if wanted <= 0:
        raise NotPossible(
            "The volume already holds that much; choose a larger share.", code="already-filled", field="share"
        )
    seconds = wanted * EXTENT / sequential_write(pool.layout)
    return _start(session, JobRow(
        kind="fill", pool_id=pool.row.id, volume_id=volume.id, total=wanted, seconds=seconds, asked_by=who,
        report={"files_before": len(files), "extents_before": used, "files": 0},
    ))  # fmt: skip


def start_reading(session: Session, pool: OpenPool, volume: VolumeRow, who: str) -> JobRow:
    """The simulated host reads all its files of a volume back and compares their checksums."""
    _none_open(session, pool, "read-files", "The files of this volume are being read already.", volume.id)
    files = session.exec(select(SampleFile).where(SampleFile.volume_id == volume.id)).all()
    if not files:
        raise NotPossible("There are no files on this volume yet.", code="no-files")
    total = sum(f.extents for f in files)
    seconds = total * EXTENT / sequential_read(pool.layout)
    return _start(session, JobRow(
        kind="read-files", pool_id=pool.row.id, volume_id=volume.id, total=total, seconds=seconds, asked_by=who,
        report={"files_read": 0, "files_differing": []},
    ))  # fmt: skip


def _none_open(session: Session, pool: OpenPool, kind: str, sentence: str, volume_id: int | None = None) -> None:
    query = select(JobRow.id).where(
        JobRow.pool_id == pool.row.id, JobRow.kind == kind, JobRow.volume_id == volume_id,
        col(JobRow.state).not_in((JobState.DONE, JobState.FAILED)),
    )  # fmt: skip
    if session.exec(query).first() is not None:
        raise NotPossible(sentence, code="already-running")


def pause(session: Session, job: JobRow) -> None:
    """Stop after the step under way; everything done so far stays done."""
    if job.state not in (JobState.WAITING, JobState.RUNNING, JobState.HELD):
        raise NotPossible("Only a job that waits or runs can be paused.", code="not-running")
    job.state, job.why_held = JobState.PAUSED, None


def resume(session: Session, job: JobRow) -> None:
    """Go on where it stopped."""
    if job.state != JobState.PAUSED:
        raise NotPossible("Only a paused job can be resumed.", code="not-paused")
    job.state = JobState.WAITING
    enqueue(session, job.id or 0)


# -- what a step does ------------------------------------------------------------------------------


def _step_first_sync(work: Work) -> float:
    job, pool = work.job, work.pool
    if not pool.whole:
        raise Held("waits until every place of the pool holds a drive with all its data")
    done = 0
    for run in work.io.runs(job.cursor, work.most):
        work.io.sync(run)
        done += run.rows
    work.io.flush()
    job.cursor += done
    pool.row.synced_to = job.cursor
    pool.row.writes += 1
    return done / job.total * job.seconds


def _step_rebuild(work: Work) -> float:
    job, pool = work.job, work.pool
    slot = job.slot or 0
    place = pool.place(slot)
    if place.state == MemberState.MISSING:
        raise Held("the drive being filled is away; the rebuild begins again when it is back")
    if place.state != MemberState.REBUILDING:
        raise NotPossible("The drive being filled failed, or its place was given to another.", code="superseded")
    if not pool.serves():
        raise Held(f"pool {pool.row.name} is {pool.row.state}")
    if job.cursor == 0:
        _label(work, place)
    ahead = [r for r in work.io.runs(job.cursor, job.total) if slot in _members(pool, r)]
    rows = sum(r.rows for r in ahead)
    if not ahead:
        job.cursor = job.total
    else:
        first = ahead[0]
        run = Run(first.band, first.group, first.row, min(first.rows, work.most), first.number)
        work.io.rebuild(run, slot)
        work.io.flush()
        job.cursor = run.number + run.rows if run.rows < rows else job.total
        rows_done = run.rows
    place.rebuilt_to = job.cursor
    pool.row.writes += 1
    if job.cursor >= job.total:
        place.state, place.rebuilt_to = MemberState.ACTIVE, 0
        refresh_state(work.session, pool)
    used = max(1, pool.layout.used_extents[slot])
    return (rows_done / used * job.seconds) if ahead else 0.0


def _label(work: Work, place: PoolPlace) -> None:
    drive = work.session.get(DriveRow, place.drive_id)
    assert drive is not None
    work.world.open(drive.serial, drive.size).write_label(label_of(work.pool.row, place.slot))


def _members(pool: OpenPool, run: Run) -> tuple[int, ...]:
    return pool.layout.bands[run.band].groups[run.group].members


def _step_check(work: Work) -> float:
    job, pool = work.job, work.pool
    report = dict(job.report)
    stripes = int(report["stripes"])
    if job.cursor >= stripes:
        return _read_files(work, _files(work.session, pool.row.id or 0), job.cursor - stripes, report)
    if not pool.whole:
        raise Held("a check compares every drive with the others; it goes on when none is missing")
    done = 0
    for run in work.io.runs(job.cursor, min(work.most, stripes - job.cursor)):
        found = work.io.check(run, put_right=True)
        done += run.rows
        report["extents_compared"] += found.extents
        report["mismatches"] += len(found.mismatches)
        report["put_right"] += len(found.put_right)
        right = {row: slot for slot, row in found.put_right}
        room = LISTED - len(report["places"])
        report["places"] = report["places"] + [
            _mismatch(pool, band, group, row, right.get(row)) for band, group, row in found.mismatches[:room]
        ]
        if found.put_right:
            pool.row.writes += 1
    work.io.flush()
    job.cursor += done
    job.report = report
    return done / stripes * durations.check(pool.layout).idle


def _mismatch(pool: OpenPool, band: int, group: int, row: int, slot: int | None) -> dict[str, Any]:
    members = pool.layout.bands[band].groups[group].members
    return {"set": pool.layout.set_of(members[0]), "row": row, "put_right_slot": slot}


def _step_fill(work: Work) -> float:
    job, pool = work.job, work.pool
    if not pool.serves():
        raise Held(f"pool {pool.row.name} is {pool.row.state}; the host waits to write")
    volume = work.session.get(VolumeRow, job.volume_id)
    assert volume is not None
    report = dict(job.report)
    done = 0
    while done < work.most and job.cursor + done < job.total:
        index = report["files_before"] + report["files"] + 1
        extents = min(_file_length(volume.id or 0, index), job.total - job.cursor - done)
        content = _file_content(volume.id or 0, index, extents * work.io.block)
        first = (volume.extents - file_room(volume)) + report["extents_before"] + job.cursor + done
        work.io.write(volume.first + first, content)
        work.session.add(SampleFile(
            volume_id=volume.id, name=f"sample-{index:05d}.dat", first=first, extents=extents,
            sha256=hashlib.sha256(content).hexdigest(),
        ))  # fmt: skip
        report["files"] += 1
        done += extents
    job.cursor += done
    job.report = report
    pool.row.writes += 1
    return done / job.total * job.seconds


def _file_length(volume_id: int, index: int) -> int:
    return 1 + hashlib.sha256(f"{volume_id}/{index}".encode()).digest()[0] % LONGEST_FILE


def _file_content(volume_id: int, index: int, size: int) -> bytes:
    return np.random.default_rng([volume_id, index]).bytes(size)


def file_room(volume: VolumeRow) -> int:
    """Whole extents of a volume that are left for files."""
    return max(0, (volume.size - volume.overhead) // EXTENT)


def _files(session: Session, pool_id: int) -> list[SampleFile]:
    return list(
        session.exec(
            select(SampleFile).join(VolumeRow, col(VolumeRow.id) == SampleFile.volume_id)
            .where(VolumeRow.pool_id == pool_id).order_by(col(SampleFile.id))
        )
    )  # fmt: skip


def _step_read_files(work: Work) -> float:
    query = select(SampleFile).where(SampleFile.volume_id == work.job.volume_id).order_by(col(SampleFile.id))
    return _read_files(work, list(work.session.exec(query)), work.job.cursor, dict(work.job.report))


def _read_files(work: Work, files: list[SampleFile], position: int, report: dict[str, Any]) -> float:
    """Read files back from the extent count ``position`` on, and compare their checksums."""
    job, pool = work.job, work.pool
    if not pool.serves():
        raise Held(f"pool {pool.row.name} is {pool.row.state}; the host waits to read")
    firsts = {v.id: v.first for v in work.session.exec(select(VolumeRow).where(VolumeRow.pool_id == pool.row.id))}
    passed = done = 0
    for file in files:
        if passed >= position + done and done < work.most:
            content = work.io.read(firsts[file.volume_id] + file.first, file.extents)
            file.intact = hashlib.sha256(content).hexdigest() == file.sha256
            file.read_at = now()
            report["files_read"] += 1
            if not file.intact:
                report["files_differing"] = [*report["files_differing"], file.name]
            done += file.extents
        passed += file.extents
    job.cursor = min(job.total, job.cursor + done) if done else job.total
    job.report = report
    return done * EXTENT / sequential_read(pool.layout)


STEPS: dict[str, Callable[[Work], float]] = {
    "first-sync": _step_first_sync,
    "rebuild": _step_rebuild,
    "check": _step_check,
    "fill": _step_fill,
    "read-files": _step_read_files,
}


def finish(work: Work) -> None:
    """The job is done: say so in the logbook."""
    job = work.job
    job.state, job.finished_at, job.why_held = JobState.DONE, now(), None
    job.spent = job.seconds
    log(
        work.session,
        SYSTEM,
        f"{job.kind}-finished",
        work.pool.row.name,
        outcome(job, work.pool.row.name),
        **job.report,
    )


def outcome(job: JobRow, pool: str) -> str:
    """What a finished job found, in a sentence."""
    report = job.report
    if job.kind == "check":
        files = f"{report['files_read']} files read back, {len(report['files_differing'])} differing"
        right = f", {report['put_right']} put right" if report["mismatches"] else ""
        return (f"Check of {pool}: {report['extents_compared']} GiB compared, "
                f"{report['mismatches']} mismatches{right}; {files}.")  # fmt: skip
    if job.kind == "read-files":
        return f"Files of {pool} read back: {report['files_read']} read, {len(report['files_differing'])} differing."
    if job.kind == "fill":
        return f"{report['files']} sample files written to {pool}, their checksums kept."
    if job.kind == "rebuild":
        return f"Rebuild in {pool} finished: drive {report.get('serial')} holds all its data."
    return f"First sync of {pool} finished: all redundancy is in step."

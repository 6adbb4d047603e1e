"""Carrying a job: step after step, each in a transaction of its own, at the pace of simulated time."""

from __future__ import annotations

import contextlib
import time
from collections.abc import Callable

import structlog
from sqlalchemy import text
from sqlalchemy.exc import DBAPIError, OperationalError
from sqlmodel import Session, select

from pairshelf.core.domain.device import DeviceError, Devices
from pairshelf.core.errors import NoRoom, PairShelfError
from pairshelf.core.policies.beside import WAITING, why_waiting
from pairshelf.engine.errands import do_errands
from pairshelf.engine.jobs.finishing import finish, finish_lot, note_moved
from pairshelf.engine.jobs.kinds import JOBS
from pairshelf.engine.jobs.pacing import paces_under_way, pause, slowing
from pairshelf.engine.jobs.starting import open_jobs
from pairshelf.engine.jobs.work import Held, LotWork, Work
from pairshelf.engine.log import SYSTEM, log
from pairshelf.engine.observe import observe
from pairshelf.engine.pools import devices, open_pool
from pairshelf.engine.queue import enqueue
from pairshelf.store.database import Lock, held_lock, is_full, lock_until_commit, transaction
from pairshelf.store.tables import JobRow, JobState, Setting, now

__all__ = ["carry", "pause", "pick_up_the_dropped", "simulated_speed"]

#: Simulated seconds in a second, where nothing was chosen; 0 means at once.
USUAL_SPEED = 3600
#: Wall seconds a step should last.
_STEP = 0.25
#: Wall seconds after which one that is held up is tried again.
_AGAIN = 1.0
_MOST = 24576

#: Of a copy: as many others of its drain as run at once go before it.
_LATER = """(job.kind = 'copy' and job.drain_id is not null and (
    select count(*) from job o where o.drain_id = job.drain_id and o.kind = 'copy' and o.id < job.id
    and o.state in ('waiting', 'running')) >= (select at_once from drain where drain.id = job.drain_id))"""

_OPEN_AND_NOT_QUEUED = text(
    f"""
select id from job where state in ('waiting', 'running', 'held') and not exists (
    select 1 from procrastinate_jobs q where q.status = 'todo' and (q.args ->> 'job_id')::int = job.id)
    and not {_LATER}
order by id
"""  # noqa: S608 - nothing of it comes from outside
)

_ITS_TURN_IS_LATER = text(f"select {_LATER} from job where id = :id")  # noqa: S608 - nothing of it comes from outside

#: Rows of the queue that a worker took and will never finish: it has not been heard of for half a minute.
_LEFT_BY_THE_DEAD = text("""
delete from procrastinate_jobs q where q.status = 'doing' and not exists (
    select 1 from procrastinate_workers w where w.id = q.worker_id and w.last_heartbeat > now() - interval '30 seconds')
""")

_logger = structlog.get_logger()


def simulated_speed(session: Session) -> int:
    """Simulated seconds that pass in a second; 0: jobs take no longer than computing takes."""
    row = session.get(Setting, "speed")
    return int(row.value["factor"]) if row else USUAL_SPEED


def carry(job_id: int, *, stop: Callable[[], bool] = lambda: False) -> None:
    """Work on a job until it is done, paused, or ``stop`` says so. One worker a job at a time."""
    with held_lock(Lock.JOB, job_id) as mine:
        if mine is None:
            return
        world = devices()
        # A job may stand on what its change has to do on drives and hosts first.
        do_errands(world)
        while not stop():
            waits = _step(job_id, world)
            if waits is None:
                return
            _wait(waits, job_id, stop)


def _step(job_id: int, world: Devices, *, most: int = _MOST) -> float | None:
    """One step, of no more than so many extents; the seconds to wait before the next, or None when there is none."""
    whole, users_work, name = True, False, ""
    try:
        with transaction() as session:
            found = session.exec(select(JobRow.to_pool_id, JobRow.pool_id).where(JobRow.id == job_id)).first()
            if found is None:
                return None
            pool_id = found[1]
            if pool_id is None:
                return _lot_step(session, job_id, world)
            if found[0] is not None:
                for number in sorted((found[0], pool_id)):  # In one order, as everybody holds pools.
                    lock_until_commit(session, Lock.POOL, number)
            pool = open_pool(session, pool_id)
            whole, name = pool.whole, pool.row.name
            job = session.get(JobRow, job_id, with_for_update=True)
            assert job is not None
            if job.state not in (JobState.WAITING, JobState.RUNNING, JobState.HELD):
                return None
            users_work = JOBS[job.kind].users_work
            if _later(session, job):
                job.state, job.why_held = JobState.HELD, "others go first: its turn comes as their drives are done"
                return None
            others = open_jobs(session, pool_id) if job.kind in WAITING else []
            if why := why_waiting(job.kind, (other.kind for other in others)):
                job.state, job.why_held = JobState.HELD, why
                return _AGAIN
            speed = simulated_speed(session)
            # Where nothing takes time, nothing is slowed.
            slowed = slowing(job, paces_under_way(session, [pool_id])) if speed else 1.0
            work = Work(session, job, pool, world, min(most, _size_of_step(job, speed, slowed)))
            return _do(work, speed, slowed)
    except DeviceError as error:
        _logger.warning("device", serial=error.serial, presence=error.presence.value)
        observe(world)
        return _STEP
    except PairShelfError as error:
        if isinstance(error, NoRoom) and error.code == "pool-full":
            if users_work and 0 < error.left < most:
                # What room there is, is used first.
                return _step(job_id, world, most=error.left)
            if users_work:
                # Somebody else may need the worker to make room: it is asked again when dropped jobs are seen to.
                _hold(job_id, f"pool {name} is full; what is written waits, and goes on by itself when there is room")
                return None
            if not whole:
                _hold(job_id, "there is no room while a drive is away; it goes on when it is back or replaced")
                return 2 * _AGAIN
        _give_up(job_id, error.message)
        return None
    except (OSError, OperationalError) as error:
        if not is_full(error):
            raise
        _hold(job_id, "the disk beneath is full; it goes on when there is room")
        return 2 * _AGAIN


def _later(session: Session, job: JobRow) -> bool:
    """Whether as many copies of its drain as the shelves' links bear go before it."""
    if job.drain_id is None or job.kind != "copy":
        return False
    return bool(session.connection().execute(_ITS_TURN_IS_LATER, {"id": job.id}).scalar())


def _lot_step(session: Session, job_id: int, world: Devices) -> float | None:
    """One step of a job on drives of no pool, such as the wiping of a lot."""
    job = session.get(JobRow, job_id, with_for_update=True)
    assert job is not None
    if job.state not in (JobState.WAITING, JobState.RUNNING, JobState.HELD):
        return None
    speed = simulated_speed(session)
    share = 0.05 if not speed else min(1.0, _STEP * speed / job.seconds)
    step = JOBS[job.kind].alone
    assert step is not None, job.kind
    try:
        seconds = step(LotWork(session, job, world, share))
    except Held as held:
        job.state, job.why_held = JobState.HELD, held.why
        return _AGAIN
    job.started_at = job.started_at or now()
    job.state, job.why_held = JobState.RUNNING, None
    job.spent = min(job.seconds, job.seconds * job.cursor / max(1, job.total))
    if job.cursor >= job.total:
        finish_lot(session, job)
        return None
    return seconds / speed if speed else 0.0


def _hold(job_id: int, why: str) -> None:
    """Say why a job does not go on, as far as even that can be kept."""
    with contextlib.suppress(OperationalError), transaction() as session:
        job = session.get(JobRow, job_id, with_for_update=True)
        if job is not None and job.state in (JobState.WAITING, JobState.RUNNING, JobState.HELD):
            if job.why_held != why:
                _logger.warning("held", job=job_id, why=why)
            job.state, job.why_held = JobState.HELD, why


def _do(work: Work, speed: int, slowed: float) -> float | None:
    job = work.job
    try:
        seconds = JOBS[job.kind].step(work)
    except Held as held:
        if (job.state, job.why_held) != (JobState.HELD, held.why):
            job.state, job.why_held = JobState.HELD, held.why
        return _AGAIN
    note_moved(work)
    job.started_at = job.started_at or now()
    job.state, job.why_held = JobState.RUNNING, None
    job.spent = min(job.seconds, job.spent + seconds)
    if job.cursor >= job.total:
        finish(work)
        return None
    return seconds * slowed / speed if speed else 0.0


def _size_of_step(job: JobRow, speed: int, slowed: float) -> int:
    """Stripes that fill a step's time at this speed."""
    if not speed or not job.seconds:
        return _MOST
    return max(1, min(_MOST, int(_STEP * speed / (job.seconds / job.total * slowed))))


def _wait(seconds: float, job_id: int, stop: Callable[[], bool]) -> None:
    """Let simulated time pass, in slices, so that a new speed or a pause is noticed."""
    until = time.monotonic() + seconds
    looked = time.monotonic()
    while (left := until - time.monotonic()) > 0 and not stop():
        time.sleep(min(left, _STEP))
        if time.monotonic() - looked > 2:
            looked = time.monotonic()
            with transaction() as session:
                state = session.exec(select(JobRow.state).where(JobRow.id == job_id)).first()
                if state == JobState.PAUSED or simulated_speed(session) == 0:
                    return


def _give_up(job_id: int, why: str) -> None:
    with transaction() as session:
        job = session.get(JobRow, job_id, with_for_update=True)
        if job is None or job.state in (JobState.DONE, JobState.FAILED):
            return
        job.state, job.error, job.finished_at, job.why_held = JobState.FAILED, why, now(), None
        if give_up := JOBS[job.kind].give_up:
            give_up(session, job, devices())
        log(
            session,
            SYSTEM,
            f"{job.kind}-ended",
            str(job.pool_id),
            f"{job.kind} ended unfinished: {why}",
            job=job_id,
        )


def pick_up_the_dropped() -> int:
    """Enqueue again every open job that no worker holds, as after a crash; how many there were."""
    with transaction() as session:
        ids = [int(number) for (number,) in session.connection().execute(_OPEN_AND_NOT_QUEUED)]
        session.connection().execute(_LEFT_BY_THE_DEAD)
    dropped = 0
    for job_id in ids:
        try:
            with held_lock(Lock.JOB, job_id) as mine:
                if mine is None:
                    continue
            with transaction() as session:
                enqueue(session, job_id)
            dropped += 1
        except DBAPIError:  # the database is going away; the next round sees to it
            break
    return dropped

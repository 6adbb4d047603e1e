"""Jobs: how far they are, what they wait for, pausing them and choosing their pace."""

from __future__ import annotations

import datetime as dt
from typing import Any, Literal

from flask_openapi3 import APIBlueprint
from pydantic import BaseModel, Field
from sqlmodel import Session, col, select

from pairshelf.api.guard import needs, signed_in
from pairshelf.api.queries import Query
from pairshelf.core.domain.acts import Act
from pairshelf.core.errors import NotFound
from pairshelf.engine.carry import simulated_speed
from pairshelf.engine.jobs import pacing
from pairshelf.engine.jobs.finishing import outcome
from pairshelf.engine.jobs.kinds import JOBS
from pairshelf.engine.log import log
from pairshelf.store.database import transaction
from pairshelf.store.tables import JobRow, JobState, PoolRow, VolumeRow

api = APIBlueprint("jobs", __name__, url_prefix="/api")

_ENDED = (JobState.DONE, JobState.FAILED)


class MismatchOut(BaseModel):
    set: int
    row: int
    put_right_slot: int | None


class ReportOut(BaseModel):
    """What a job found; only what its kind finds is filled."""

    bytes_compared: int | None = None
    mismatches: int | None = None
    put_right: int | None = None
    places: list[MismatchOut] = Field(default_factory=list)
    files: int | None = None
    files_read: int | None = None
    files_differing: list[str] = Field(default_factory=list)
    serial: str | None = None
    deleted: int | None = None
    overlapping: list[str] = Field(default_factory=list)
    #: What a moved application is at: stop, copy, compare, place, start.
    phase: str | None = None


class JobOut(BaseModel):
    id: int
    kind: str
    name: str
    #: Null for what is done to drives that are members of none.
    pool_id: int | None
    pool: str
    volume: str | None
    slot: int | None
    sheet_id: int | None
    #: The drain that it is part of.
    drain_id: int | None
    state: str
    why_held: str | None
    #: gentle or fast; null for users' own work, which has none.
    pace: str | None
    #: Share done, 0 to 1.
    progress: float
    #: Hours of the drives' time left: undisturbed, and at the job's pace while users are at work.
    hours_left: float
    hours_left_at_pace: float
    #: Seconds of waiting at the present speed of simulated time; null when it is held or paused.
    wait_seconds: float | None
    report: ReportOut
    error: str | None
    outcome: str | None
    asked_by: str
    created_at: dt.datetime
    finished_at: dt.datetime | None
    #: Whether a person may end it unfinished.
    may_end: bool


class JobsOut(BaseModel):
    jobs: list[JobOut]
    more: bool = False


class JobsQuery(Query):
    which: Literal["open", "ended"] = "open"
    before: int | None = None
    limit: int = Field(default=50, ge=1, le=200)


class JobPath(BaseModel):
    job_id: int


class PaceBody(BaseModel):
    pace: Literal["gentle", "fast"]


def jobs_out(session: Session, query: Any, asked: dict[str, Any] | None = None) -> list[JobOut]:
    """The jobs of a query, with what it is ``asked`` with, as screens show them: one statement and two look-ups."""
    rows = list(session.exec(query, params=asked))
    if not rows:
        return []
    named = select(PoolRow.id, PoolRow.name).where(col(PoolRow.id).in_({r.pool_id for r in rows}))
    pools: dict[int | None, str] = dict(session.exec(named).all())
    volumes: dict[int | None, str] = dict(
        session.exec(
            select(VolumeRow.id, VolumeRow.name).where(col(VolumeRow.id).in_({r.volume_id for r in rows}))
        ).all()
    )
    speed = simulated_speed(session)
    paces = pacing.paces_under_way(session, [i for i in pools if i is not None])
    return [_out(r, pools.get(r.pool_id, ""), volumes.get(r.volume_id), speed, pacing.slowing(r, paces)) for r in rows]


def _out(row: JobRow, pool: str, volume: str | None, speed: int, slowing: float) -> JobOut:
    done = row.state == JobState.DONE
    left = 0.0 if done else max(0.0, row.seconds - row.spent)
    slowed = left * slowing
    moves = row.state in (JobState.WAITING, JobState.RUNNING)
    report = row.report
    return JobOut(
        id=row.number, kind=row.kind, name=JOBS[row.kind].name, pool_id=row.pool_id, pool=pool, volume=volume,
        slot=row.slot, sheet_id=row.sheet_id, drain_id=row.drain_id, state=row.state, why_held=row.why_held, pace=None if JOBS[row.kind].users_work or row.pool_id is None else row.pace,
        progress=1.0 if done else row.spent / row.seconds if row.seconds else 0.0,
        hours_left=left / 3600, hours_left_at_pace=slowed / 3600,
        wait_seconds=(slowed / speed if speed else 0.0) if moves else None,
        report=ReportOut(
            bytes_compared=report["extents_compared"] * 2**30 if "extents_compared" in report else None,
            **{k: v for k, v in report.items() if k in ReportOut.model_fields},
        ),
        error=row.error, outcome=outcome(row, pool) if done else None, asked_by=row.asked_by,
        created_at=row.created_at, finished_at=row.finished_at, may_end=JOBS[row.kind].may_end,
    )  # fmt: skip


@api.get("/jobs", responses={200: JobsOut})
@needs(Act.LOOK, shared="with-all")
def jobs(query: JobsQuery) -> Any:
    """Open jobs, or ended ones, the newest first, a page at a time."""
    statement = select(JobRow).order_by(col(JobRow.id).desc()).limit(query.limit + 1)
    ended = col(JobRow.state).in_(_ENDED)
    statement = statement.where(ended if query.which == "ended" else ~ended)
    if query.before is not None:
        statement = statement.where(col(JobRow.id) < query.before)
    with transaction() as session:
        found = jobs_out(session, statement)
    return JobsOut(jobs=found[: query.limit], more=len(found) > query.limit)


def _locked(session: Session, job_id: int) -> JobRow:
    row = session.get(JobRow, job_id, with_for_update=True)
    if row is None:
        raise NotFound("job")
    return row


def _changed(session: Session, row: JobRow, sentence: str) -> JobsOut:
    pool = session.get(PoolRow, row.pool_id) if row.pool_id is not None else None
    name = pool.name if pool is not None else row.report.get("serial") or "disposal"
    log(
        session,
        signed_in().name,
        "job-changed",
        name,
        f"{JOBS[row.kind].name}{f' of {name}' if pool is not None else ''}: {sentence}.",
        job=row.id,
    )
    session.flush()
    return JobsOut(jobs=jobs_out(session, select(JobRow).where(JobRow.id == row.id)))


@api.post("/jobs/<int:job_id>/pause", responses={200: JobsOut})
@needs(Act.RUN_JOBS)
def pause(path: JobPath) -> Any:
    """Pause a job after the step under way."""
    with transaction() as session:
        row = _locked(session, path.job_id)
        pacing.pause(session, row)
        return _changed(session, row, "paused")


@api.post("/jobs/<int:job_id>/resume", responses={200: JobsOut})
@needs(Act.RUN_JOBS)
def resume(path: JobPath) -> Any:
    """Go on with a paused job."""
    with transaction() as session:
        row = _locked(session, path.job_id)
        pacing.resume(session, row)
        return _changed(session, row, "resumed")


@api.post("/jobs/<int:job_id>/end", responses={200: JobsOut})
@needs(Act.RUN_JOBS)
def end(path: JobPath) -> Any:
    """End a job unfinished; what it has done stays."""
    with transaction() as session:
        row = _locked(session, path.job_id)
        pacing.end(row, signed_in().name)
        return _changed(session, row, "ended before it was done")


@api.put("/jobs/<int:job_id>/pace", responses={200: JobsOut})
@needs(Act.RUN_JOBS)
def pace(path: JobPath, body: PaceBody) -> Any:
    """Gentle leaves users most of the drives' time, fast little of it."""
    with transaction() as session:
        row = _locked(session, path.job_id)
        row.pace = body.pace
        return _changed(session, row, f"pace set to {body.pace}")

"""Draining: what is still on drives that are to leave, where it goes, and what may fail meanwhile."""

from __future__ import annotations

import datetime as dt
from typing import Literal

from flask_openapi3 import APIBlueprint
from pydantic import BaseModel
from sqlmodel import Session, select

from pairshelf.api.guard import needs, signed_in
from pairshelf.api.jobs import JobOut, jobs_out
from pairshelf.core.domain.acts import Act
from pairshelf.services import draining
from pairshelf.store.database import among, transaction
from pairshelf.store.tables import JobRow

api = APIBlueprint("draining", __name__, url_prefix="/api")


class LeavingOut(BaseModel):
    """A drive that is being emptied, or has been."""

    id: int
    place: str
    shelf: str | None
    host: str | None
    serial: str
    size: int
    kind: str
    condition: str
    service: str
    pool: str | None
    #: Bytes that stood on it at the start, and that still stand there.
    held: int
    left: int
    #: The drive that it is copied onto, shelf, bay and serial; null in a spread pool.
    onto: str | None
    job: JobOut | None


class KeptOut(BaseModel):
    """A pool that is touched, and how many more drives of it may fail."""

    id: int
    name: str
    state: str
    promised: int
    #: As its drives are just now.
    now: int
    serves: bool


class DrainOut(BaseModel):
    id: int
    subject: str
    asked_by: str
    started_at: dt.datetime
    ended_at: dt.datetime | None
    left_off: bool
    #: Bytes on all of them at the start, and still there.
    held: int
    left: int
    at_once: int
    drives: list[LeavingOut]
    pools: list[KeptOut]
    paused: bool
    pace: str | None


class DrainsOut(BaseModel):
    drains: list[DrainOut]


class DrainPath(BaseModel):
    drain_id: int


class SteerBody(BaseModel):
    act: Literal["pause", "resume", "gentle", "fast"]


@api.get("/drains", responses={200: DrainsOut})
@needs(Act.LOOK)
def list_drains() -> DrainsOut:
    """What is being drained, and what was lately."""
    with transaction() as session:
        return _all(session)


@api.post("/drains/<int:drain_id>", responses={200: DrainsOut})
@needs(Act.RUN_JOBS)
def steer_drain(path: DrainPath, body: SteerBody) -> DrainsOut:
    """Pause, resume or pace all that a drain moves."""
    with transaction() as session:
        draining.steer(session, path.drain_id, body.act, signed_in().name)
        return _all(session)


def _all(session: Session) -> DrainsOut:
    standing = draining.drains(session)
    numbers = [j for s in standing for j in s.jobs]
    jobs = {j.id: j for j in jobs_out(session, select(JobRow).where(among(JobRow.id, numbers)))}
    return DrainsOut(drains=[_out(s, jobs) for s in standing])


def _out(standing: draining.DrainState, jobs: dict[int, JobOut]) -> DrainOut:
    row = standing.row
    own = [jobs[j] for j in standing.jobs if j in jobs]
    paces = {j.pace for j in own}
    return DrainOut(
        id=row.number, subject=row.subject, asked_by=row.asked_by, started_at=row.started_at, ended_at=row.ended_at,
        left_off=row.left_off, held=sum(d.held for d in standing.drives), left=standing.left, at_once=row.at_once,
        drives=[
            LeavingOut(
                id=d.drive.id, place=d.drive.place, shelf=d.drive.shelf, host=d.drive.host, serial=d.drive.serial,
                size=d.drive.size, kind=d.drive.kind.value, condition=d.drive.condition, service=d.drive.service,
                pool=d.pool, held=d.held, left=d.left, onto=d.onto.named if d.onto else None,
                job=jobs.get(d.job_id) if d.job_id else None,
            )
            for d in standing.drives
        ],
        pools=[
            KeptOut(id=k.pool.id, name=k.pool.name, state=k.pool.state, promised=k.promised, now=k.now, serves=k.serves)
            for k in standing.pools
        ],
        paused=bool(own) and all(j.state == "paused" for j in own),
        pace=paces.pop() if len(paces) == 1 else None,
    )  # fmt: skip

"""The page for trouble: what happened to a pool, what may still fail, the one right act; and the lamps of drives."""

from __future__ import annotations

import datetime as dt
from collections.abc import Collection
from dataclasses import asdict
from typing import Any

from flask_openapi3 import APIBlueprint
from pydantic import BaseModel, Field
from sqlmodel import select

from pairshelf.api.guard import needs, signed_in
from pairshelf.api.jobs import JobOut, jobs_out
from pairshelf.api.queries import Query
from pairshelf.core.domain.acts import Act
from pairshelf.core.watching.trouble import Concerned
from pairshelf.engine.pools import devices
from pairshelf.services.trouble import light, pool_trouble, trouble_about
from pairshelf.store.database import among, transaction
from pairshelf.store.tables import JobRow

api = APIBlueprint("trouble", __name__, url_prefix="/api")


class ConcernedOut(BaseModel):
    slot: int
    drive_id: int | None
    serial: str | None
    place: str
    #: failed, missing, failing, rebuilding.
    word: str
    lit: bool


class BlockedOut(BaseModel):
    act: str
    why: str


class HappenedOut(BaseModel):
    at: dt.datetime
    sentence: str


class TroubleOut(BaseModel):
    pool_id: int
    pool: str
    state: str
    #: All is well again: there is nothing below.
    over: bool
    title: str
    still: str
    happened: list[HappenedOut]
    drives: list[ConcernedOut]
    #: The one right act, why, and where it is done; null: by hand, or by itself.
    must: str
    must_why: str
    link: str | None
    blocked: list[BlockedOut]
    #: Members without which data could not be used.
    keep_in: list[ConcernedOut]
    #: Shelves on which its drives stand.
    shelves: list[int]
    jobs: list[JobOut]


class TroublePath(BaseModel):
    pool_id: int


class LampPath(BaseModel):
    drive_id: int


class LampBody(BaseModel):
    on: bool


class LampOut(BaseModel):
    on: bool


def _concerned(one: Concerned, lit: Collection[str]) -> ConcernedOut:
    return ConcernedOut(**asdict(one), lit=one.serial in lit)


@api.get("/trouble/<int:pool_id>", responses={200: TroubleOut})
@needs(Act.LOOK)
def trouble(path: TroublePath) -> Any:
    """What is wrong with a pool's drives, for somebody in front of the shelf."""
    lit = devices().lit()
    with transaction() as session:
        told = pool_trouble(session, path.pool_id)
        jobs = jobs_out(session, select(JobRow).where(among(JobRow.id, told.jobs))) if told.jobs else []

    found = told.trouble
    return TroubleOut(
        pool_id=path.pool_id, pool=told.name, state=told.state, over=found is None, shelves=told.shelves, jobs=jobs,
        title=found.title if found else f"Pool {told.name} is {told.state}", still=found.still if found else "",
        happened=[HappenedOut(at=at, sentence=said) for at, said in told.happened],
        drives=[_concerned(d, lit) for d in found.drives] if found else [], keep_in=[_concerned(d, lit) for d in found.keep_in] if found else [],
        must=found.must.words if found else "", must_why=found.must.why if found else "", link=found.must.link if found else None,
        blocked=[BlockedOut(act=b.act, why=b.why) for b in found.blocked] if found else [],
    )  # fmt: skip


class AlsoOut(BaseModel):
    words: str
    link: str


class AboutOut(BaseModel):
    """One trouble that is not of a pool's drives."""

    #: It is over: there is nothing below but what happened.
    over: bool
    #: now, soon or sometime.
    gravity: str
    sentence: str
    still: str
    must: str
    must_why: str
    link: str | None
    also: list[AlsoOut]
    blocked: list[BlockedOut]
    happened: list[HappenedOut]
    drive: ConcernedOut | None
    shelf: int | None
    jobs: list[JobOut]


class AboutQuery(Query):
    key: str = Field(min_length=1, max_length=300)


@api.get("/trouble/about", responses={200: AboutOut})
@needs(Act.LOOK)
def about(query: AboutQuery) -> Any:
    """One trouble by what it is known by: what still holds, the one right act, and what must not be done now."""
    lit = devices().lit()
    with transaction() as session:
        told = trouble_about(session, query.key)
        jobs = jobs_out(session, select(JobRow).where(among(JobRow.id, told.jobs))) if told.jobs else []
    happened = [HappenedOut(at=at, sentence=said) for at, said in told.happened]
    matter, guide = told.matter, told.guide
    if matter is None or guide is None:
        return AboutOut(
            over=True, gravity="", sentence="", still="", must="", must_why="", link=None, also=[], blocked=[], happened=happened,
            drive=None, shelf=None, jobs=[],
        )  # fmt: skip
    return AboutOut(
        over=False, gravity=matter.gravity.name.lower(), sentence=matter.sentence, still=guide.still, must=told.act,
        must_why=guide.why, link=told.link or None, also=[AlsoOut(words=w, link=to) for w, to in told.also],
        blocked=[BlockedOut(act=b.act, why=b.why) for b in guide.blocked], happened=happened,
        drive=_concerned(told.drive, lit) if told.drive is not None else None,
        shelf=told.shelf, jobs=jobs,
    )  # fmt: skip


@api.put("/drives/<int:drive_id>/lamp", responses={200: LampOut})
@needs(Act.MANAGE_DRIVES)
def lamp(path: LampPath, body: LampBody) -> Any:
    """Light the lamp of a drive's bay, or put it out."""
    with transaction() as session:
        light(session, path.drive_id, signed_in().name, on=body.on)
    return LampOut(on=body.on)

"""The first screen: what needs me, what runs, what finished while I was away. And the logbook."""

from __future__ import annotations

import datetime as dt
from typing import Any

from flask_openapi3 import APIBlueprint
from pydantic import BaseModel, Field
from sqlalchemy import bindparam
from sqlmodel import Session, col, select

from pairshelf.api.glances_out import GlanceOut, glance_out
from pairshelf.api.guard import needs, signed_in
from pairshelf.api.jobs import JobOut, jobs_out
from pairshelf.api.queries import Query
from pairshelf.core.domain.acts import Act
from pairshelf.services.attending import attend
from pairshelf.store.database import transaction
from pairshelf.store.tables import (
    JobRow,
    LogRow,
    User,
    now,
)

api = APIBlueprint("today", __name__, url_prefix="/api")

#: Jobs shown.
_MOST = 200
#: Pools shown on the first screen.
_AT_ONCE = 24


class MatterOut(BaseModel):
    gravity: int
    sentence: str
    act: str
    link: str
    #: The page with all of it, for somebody in front of the shelf.
    page: str


class EntryOut(BaseModel):
    id: int
    at: dt.datetime
    who: str
    act: str
    about: str
    sentence: str


class TodayOut(BaseModel):
    #: Whether all is well, in one sentence.
    verdict: str
    well: bool
    matters: list[MatterOut]
    #: Those about which something is to be said first; beyond these, so many more.
    glances: list[GlanceOut]
    more_pools: int
    running: list[JobOut]
    finished: list[EntryOut]
    since: dt.datetime | None
    drives: int
    free_drives: int
    raw: int
    pools: int
    #: Usable bytes of pools with one layout, and of that, allocated.
    pool_capacity: int
    pool_given: int
    #: Each byte of files once, in all pools.
    pool_files: int
    #: Bytes of the drives of spread pools, with redundancy, which is not usable capacity; and of that, allocated.
    spread_capacity: int
    spread_given: int


class LogQuery(Query):
    before: int | None = None
    limit: int = Field(default=50, ge=1, le=200)
    search: str = Field(default="", max_length=100)


class LogOut(BaseModel):
    entries: list[EntryOut]
    more: bool


_RUNNING = select(JobRow).where(col(JobRow.state).not_in(("done", "failed"))).order_by(col(JobRow.id)).limit(_MOST)
_FINISHED = (
    select(LogRow).where(
        col(LogRow.at) > bindparam("since"),
        col(LogRow.act).like("%-finished") | col(LogRow.act).like("%-ended") | col(LogRow.act).in_(("spare-took-over", "pool-state", "threshold-crossed")),
    ).order_by(col(LogRow.id).desc()).limit(12)
)  # fmt: skip


@api.get("/today", responses={200: TodayOut})
@needs(Act.LOOK, shared="with-oneself")
def today() -> Any:
    """What needs me, what runs, what finished while I was away."""
    user = signed_in()
    with transaction() as session:
        found = attend(session, _AT_ONCE)
        running = jobs_out(session, _RUNNING)
        finished, since = _finished(session, user)
    looks = found.glances
    return TodayOut(
        matters=[MatterOut(gravity=m.gravity, sentence=m.sentence, act=m.act, link=m.link, page=m.page) for m in found.matters],
        running=running, finished=finished, since=since, drives=found.drives, free_drives=found.free_drives, raw=found.raw,
        pools=len(looks), pool_capacity=found.total("capacity", of_drives=False), pool_given=found.total("given", of_drives=False),
        pool_files=found.total("files"), spread_capacity=found.total("capacity", of_drives=True),
        spread_given=found.total("given", of_drives=True), verdict=found.verdict, well=found.well,
        glances=[glance_out(g) for g in looks[:_AT_ONCE]], more_pools=max(0, len(looks) - _AT_ONCE),
    )  # fmt: skip


def _finished(session: Session, user: User) -> tuple[list[EntryOut], dt.datetime | None]:
    """What finished since this user was last here, or, without such a time, in the last day."""
    since = user.previously_seen_at
    rows = session.exec(_FINISHED, params={"since": since or now() - dt.timedelta(days=1)})
    return [_entry(r) for r in rows], since


def _entry(row: LogRow) -> EntryOut:
    return EntryOut(id=row.number, at=row.at, who=row.who, act=row.act, about=row.about, sentence=row.sentence)


@api.get("/logbook", responses={200: LogOut})
@needs(Act.LOOK, shared="with-all")
def logbook(query: LogQuery) -> Any:
    """Who did what when, the newest first, a page at a time."""
    statement = select(LogRow).order_by(col(LogRow.id).desc()).limit(query.limit + 1)
    if query.before is not None:
        statement = statement.where(col(LogRow.id) < query.before)
    if words := query.search.strip():
        like = "%" + words.replace("\\", "\\\\").replace("%", r"\%").replace("_", r"\_") + "%"
        statement = statement.where(col(LogRow.sentence).ilike(like) | col(LogRow.who).ilike(like))
    with transaction() as session:
        rows = session.exec(statement).all()
    return LogOut(entries=[_entry(r) for r in rows[: query.limit]], more=len(rows) > query.limit)

"""Checks and scans by schedule, and the calendar that tells of them."""

from __future__ import annotations

import datetime as dt
from typing import Any

from flask import Response, request
from flask_openapi3 import APIBlueprint, OpenAPI
from pydantic import BaseModel, Field
from sqlmodel import Session

from pairshelf.api import problems
from pairshelf.api.guard import needs, signed_in
from pairshelf.core.domain.acts import Act
from pairshelf.core.errors import BadInput
from pairshelf.core.policies.schedule import WHAT, Recurrence
from pairshelf.engine.schedules import end_schedule, recurrence_of, set_schedule
from pairshelf.formats.calendar_ics import MEDIA_TYPE
from pairshelf.services import planned
from pairshelf.services.telling import address_of_house
from pairshelf.store.database import transaction
from pairshelf.store.tables import CalendarAddress, ScheduleRow

api = APIBlueprint("planned", __name__, url_prefix="/api")


class SchedulesPath(BaseModel):
    pool_id: int


class SchedulePath(BaseModel):
    pool_id: int
    #: check or scan
    what: str


class ScheduleBody(BaseModel):
    #: 0 for Monday to 6 for Sunday.
    day: int
    #: As 02:30.
    at: str = Field(max_length=5)
    #: Such as Europe/Paris, or UTC.
    zone: str = Field(max_length=60)
    #: Weeks between two times; null: by the month.
    weeks: int | None = 1
    #: Of a month, which of these days: 1 to 4, or -1 for the last; null: by weeks.
    which: int | None = None
    pace: str = "gentle"


class ScheduleOut(BaseModel):
    what: str
    name: str
    pool_id: int
    pool: str
    day: int
    at: str
    zone: str
    weeks: int | None
    which: int | None
    pace: str
    words: str
    #: When it is due next; in the past: it is due, and waits.
    next_at: dt.datetime
    waits: str | None
    last_at: dt.datetime | None
    set_by: str


class SchedulesOut(BaseModel):
    schedules: list[ScheduleOut]


class CalendarAddressOut(BaseModel):
    #: Shown this once; null where only is said whether there is one.
    address: str | None
    there: bool
    made_at: dt.datetime | None
    #: When a calendar asked last.
    read_at: dt.datetime | None


def _out(row: ScheduleRow, pool: str) -> ScheduleOut:
    return ScheduleOut(
        what=row.what, name=WHAT[row.what], pool_id=row.pool_id, pool=pool, day=row.day,
        at=f"{row.minute // 60:02}:{row.minute % 60:02}", zone=row.zone, weeks=row.weeks, which=row.which, pace=row.pace,
        words=recurrence_of(row).words, next_at=row.next_at, waits=row.waits, last_at=row.last_at, set_by=row.set_by,
    )  # fmt: skip


@api.get("/schedules", responses={200: SchedulesOut})
@needs(Act.LOOK)
def every_schedule() -> Any:
    """What is done by schedule, the next first."""
    with transaction() as session:
        return SchedulesOut(schedules=[_out(row, name) for row, name in planned.schedules_listed(session)])


@api.get("/pools/<int:pool_id>/schedules", responses={200: SchedulesOut})
@needs(Act.LOOK)
def schedules(path: SchedulesPath) -> Any:
    """What is done by schedule in a pool."""
    with transaction() as session:
        return SchedulesOut(
            schedules=[_out(row, name) for row, name in planned.schedules_listed(session, path.pool_id)]
        )


@api.put("/pools/<int:pool_id>/schedules/<what>", responses={200: SchedulesOut})
@needs(Act.RUN_JOBS)
def schedule(path: SchedulePath, body: ScheduleBody) -> Any:
    """Check or scan a pool by the calendar from now on."""
    recurrence = Recurrence(body.day, _minute(body.at), body.zone, body.weeks, body.which)
    with transaction() as session:
        set_schedule(session, path.pool_id, path.what, recurrence, body.pace, signed_in().name)
        return SchedulesOut(
            schedules=[_out(row, name) for row, name in planned.schedules_listed(session, path.pool_id)]
        )


@api.post("/pools/<int:pool_id>/schedules/<what>/end", responses={200: SchedulesOut})
@needs(Act.RUN_JOBS)
def no_schedule(path: SchedulePath) -> Any:
    """No longer by the calendar."""
    with transaction() as session:
        end_schedule(session, path.pool_id, path.what, signed_in().name)
        session.flush()
        return SchedulesOut(
            schedules=[_out(row, name) for row, name in planned.schedules_listed(session, path.pool_id)]
        )


def _minute(text: str) -> int:
    """Minutes after midnight of a time as 02:30."""
    try:
        at = dt.time.fromisoformat(text.strip())
    except ValueError:
        raise BadInput("Write the time as 02:30.", field="at") from None
    return at.hour * 60 + at.minute


@api.get("/calendar-address", responses={200: CalendarAddressOut})
@needs(Act.LOOK)
def has_address() -> Any:
    """Whether your calendar has an address."""
    with transaction() as session:
        row = session.get(CalendarAddress, signed_in().number)
        return CalendarAddressOut(
            address=None,
            there=row is not None,
            made_at=row.made_at if row else None,
            read_at=row.read_at if row else None,
        )


@api.post("/calendar-address", responses={200: CalendarAddressOut})
@needs(Act.LOOK)
def make_address() -> Any:
    """A new private address of your calendar, shown this once; the one before no longer opens."""
    user = signed_in()
    with transaction() as session:
        token = planned.make_address(session, user.number, user.name)
        row = session.get_one(CalendarAddress, user.number)
        return CalendarAddressOut(
            address=f"{_base(session)}calendar/{token}.ics", there=True, made_at=row.made_at, read_at=None
        )


@api.post("/calendar-address/drop", responses={200: CalendarAddressOut})
@needs(Act.LOOK)
def drop_address() -> Any:
    """Take the private address of your calendar away."""
    user = signed_in()
    with transaction() as session:
        planned.drop_address(session, user.number, user.name)
    return CalendarAddressOut(address=None, there=False, made_at=None, read_at=None)


def _base(session: Session) -> str:
    """Where people reach the application: as it is set, else as it was just reached by a name that is allowed."""
    return address_of_house(session) or str(request.host_url)


def serve(app: OpenAPI) -> None:
    """The calendar, for who has its address."""

    @app.route("/calendar/<token>.ics")
    @needs(None)
    def calendar(token: str) -> Any:
        with transaction() as session:
            found = planned.calendar_for(session, token, _base(session))
        if found is None:
            return problems.answer(404, "not-found", "This address opens no calendar; make a new one in the settings.")
        return Response(
            found, content_type=MEDIA_TYPE,
            headers={"Cache-Control": "private, max-age=300", "Content-Disposition": "inline; filename=pairshelf.ics"},
        )  # fmt: skip

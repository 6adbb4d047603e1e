"""Change sheets: drawn up, shown, approved or withdrawn."""

from __future__ import annotations

import datetime as dt
from typing import Any

from flask import request
from flask_openapi3 import APIBlueprint
from pydantic import BaseModel, Field
from sqlmodel import col, select

from pairshelf.api import accounts
from pairshelf.api.guard import needs, require, signed_in
from pairshelf.api.jobs import JobOut, jobs_out
from pairshelf.core.acts import SHEET_ACTS, Act, allowed
from pairshelf.core.changes import build_pool, replace_drive
from pairshelf.core.errors import BadInput
from pairshelf.core.units import parse_size
from pairshelf.engine import approve as engine
from pairshelf.engine.pools import devices
from pairshelf.store.database import transaction
from pairshelf.store.tables import JobRow, SheetRow

api = APIBlueprint("sheets", __name__, url_prefix="/api")


class BuildBody(BaseModel):
    name: str
    scheme: str
    drives: list[int] = Field(min_length=1, max_length=1000)
    sets: int = 1
    spares: int = 0
    volume: str
    #: A typed size; empty for the largest that fits.
    volume_size: str = ""
    file_system: str = "ext4"
    reserved_share: float | None = None
    mount_point: str = ""
    host: str = ""


class ReplaceBody(BaseModel):
    pool_id: int
    slot: int
    drive_id: int


class FigureOut(BaseModel):
    text: str | None = None
    bytes: int | None = None


class BeforeAfterOut(BaseModel):
    label: str
    before: FigureOut
    after: FigureOut


class ErasedOut(BaseModel):
    drive_id: int
    place: str
    serial: str
    size: int
    holds: str | None


class TakesOut(BaseModel):
    job: str
    hours: float
    fast_hours: float
    gentle_hours: float


class SheetBody(BaseModel):
    kind: str
    title: str
    why: str
    figures: list[BeforeAfterOut]
    erases: list[ErasedOut]
    takes: list[TakesOut]
    meanwhile: list[str]
    fixed: list[str]
    steps: list[str]
    cautions: list[str]
    confirm: str | None
    role: str


class SheetOut(BaseModel):
    id: int
    state: str
    created_by: str
    created_at: dt.datetime
    approved_by: str | None
    approved_at: dt.datetime | None
    pool_id: int | None
    may_approve: bool
    body: SheetBody
    jobs: list[JobOut]


class SheetLine(BaseModel):
    id: int
    title: str
    state: str
    created_by: str
    created_at: dt.datetime
    approved_by: str | None
    approved_at: dt.datetime | None


class SheetsOut(BaseModel):
    sheets: list[SheetLine]
    more: bool


class SheetPath(BaseModel):
    sheet_id: int


class PageQuery(BaseModel):
    before: int | None = None
    limit: int = Field(default=50, ge=1, le=200)


class ApproveBody(BaseModel):
    confirm: str
    password: str


def _out(row: SheetRow, role: str, jobs: list[JobOut]) -> SheetOut:
    return SheetOut(
        id=row.id or 0, state=row.state, created_by=row.created_by, created_at=row.created_at,
        approved_by=row.approved_by, approved_at=row.approved_at, pool_id=row.pool_id,
        may_approve=allowed(role, SHEET_ACTS[row.kind]), body=SheetBody(**row.body), jobs=jobs,
    )  # fmt: skip


def _draw_up(wanted: build_pool.Request | replace_drive.Request) -> SheetOut:
    user = signed_in()
    with transaction() as session:
        return _out(engine.draw_up(session, wanted, user.name), user.role, [])


@api.post("/sheets/build-pool", responses={200: SheetOut})
@needs(Act.BUILD_POOLS)
def sheet_for_building(body: BuildBody) -> Any:
    """Draw up the sheet for building a pool with its first volume. Nothing is built yet."""
    size = parse_size(body.volume_size, field="volume_size") if body.volume_size.strip() else None
    return _draw_up(build_pool.Request(
        name=body.name, scheme=body.scheme, drives=tuple(body.drives), sets=body.sets, spares=body.spares,
        volume=body.volume, volume_size=size, file_system=body.file_system, reserved_share=body.reserved_share,
        mount_point=body.mount_point.strip() or None, host=body.host.strip() or None,
    ))  # fmt: skip


@api.post("/sheets/replace-drive", responses={200: SheetOut})
@needs(Act.REPLACE_DRIVES)
def sheet_for_replacing(body: ReplaceBody) -> Any:
    """Draw up the sheet for putting a drive in another's place. Nothing is done yet."""
    return _draw_up(replace_drive.Request(body.pool_id, body.slot, body.drive_id))


@api.get("/sheets", responses={200: SheetsOut})
@needs(Act.LOOK)
def sheets(query: PageQuery) -> Any:
    """Sheets, the newest first, a page at a time."""
    with transaction() as session:
        statement = select(SheetRow).order_by(col(SheetRow.id).desc()).limit(query.limit + 1)
        if query.before is not None:
            statement = statement.where(col(SheetRow.id) < query.before)
        rows = session.exec(statement).all()
    return SheetsOut(
        sheets=[SheetLine(**r.model_dump(include=set(SheetLine.model_fields))) for r in rows[: query.limit]],
        more=len(rows) > query.limit,
    )


@api.get("/sheets/<int:sheet_id>", responses={200: SheetOut})
@needs(Act.LOOK)
def sheet(path: SheetPath) -> Any:
    """One sheet, with the jobs that came of it."""
    user = signed_in()
    with transaction() as session:
        row = session.get(SheetRow, path.sheet_id)
        if row is None:
            raise BadInput("There is no such change sheet.", code="not-found")
        jobs = jobs_out(session, select(JobRow).where(JobRow.sheet_id == row.id).order_by(col(JobRow.id)))
        return _out(row, user.role, jobs)


@api.post("/sheets/<int:sheet_id>/approve", responses={200: SheetOut})
@needs(Act.LOOK)
def approve(path: SheetPath, body: ApproveBody) -> Any:
    """Approve a sheet: its name typed and the password given. What was shown is done, or nothing is."""
    user = signed_in()
    with transaction() as session:
        row = session.get(SheetRow, path.sheet_id)
        if row is None:
            raise BadInput("There is no such change sheet.", code="not-found")
        require(SHEET_ACTS[row.kind])
    accounts.confirm_password(user, body.password, request.remote_addr or "")
    with transaction() as session:
        approved = engine.approve(session, path.sheet_id, user.name, body.confirm, devices())
        session.flush()
        jobs = jobs_out(session, select(JobRow).where(JobRow.sheet_id == approved.id))
        return _out(approved, user.role, jobs)


@api.post("/sheets/<int:sheet_id>/withdraw", responses={200: SheetOut})
@needs(Act.LOOK)
def withdraw(path: SheetPath) -> Any:
    """Put a sheet away unapproved."""
    user = signed_in()
    with transaction() as session:
        row = engine.withdraw(session, path.sheet_id, user.name)
        require(SHEET_ACTS[row.kind])
        return _out(row, user.role, [])

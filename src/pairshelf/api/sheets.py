"""Change sheets: drawn up, shown, approved or withdrawn."""

from __future__ import annotations

import datetime as dt
from dataclasses import asdict
from typing import Any

from flask_openapi3 import APIBlueprint
from pydantic import BaseModel, Field, create_model
from sqlmodel import Session, col, select

from pairshelf.api.description import Often
from pairshelf.api.guard import needs, require, signed_in
from pairshelf.api.jobs import JobOut, jobs_out
from pairshelf.api.queries import Query
from pairshelf.api.sessions import own_session
from pairshelf.core.changes.kind import ChangeKind
from pairshelf.core.changes.kinds import KINDS, request_of
from pairshelf.core.domain.acts import Act, allowed, why_not
from pairshelf.core.errors import NotFound
from pairshelf.engine import approver as engine
from pairshelf.engine.errands import still_to_do
from pairshelf.engine.pools import devices
from pairshelf.services import accounts
from pairshelf.store.database import transaction
from pairshelf.store.repositories.holdings import house_now
from pairshelf.store.tables import JobRow, SheetPlan, SheetRow, SheetState

api = APIBlueprint("sheets", __name__, url_prefix="/api")

#: Drives, rights, members named in one request.
MOST_LISTED = 1000


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


class TextOut(BaseModel):
    label: str
    text: str


class FindingOut(BaseModel):
    sentence: str
    blocks: bool


class EffectOut(BaseModel):
    """What a change adds to the figures of all pools and drives, once all of it is done; bytes, and drives."""

    capacity: int
    given: int
    in_use: int
    free: int
    #: Of spread pools, in bytes of their drives; sheets of before have none.
    drives_capacity: int = 0
    drives_given: int = 0


class HouseOut(BaseModel):
    """The figures of all pools and drives: of a draft as they are now, else as they were when it was approved."""

    capacity: int
    given: int
    in_use: int
    free: int
    drives_capacity: int = 0
    drives_given: int = 0


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
    gives_up: list[str]
    texts: list[TextOut]
    findings: list[FindingOut]
    effect: EffectOut


class PlanRef(BaseModel):
    """The plan a sheet belongs to, and its place in it."""

    id: int
    title: str
    number: int
    of: int
    #: The next sheet of it that waits, or null.
    next: int | None


class SheetOut(Often):
    id: int
    state: str
    created_by: str
    created_at: dt.datetime
    approved_by: str | None
    approved_at: dt.datetime | None
    #: The first of two who have to approve it, while the second is waited for.
    seconded_by: str | None
    pool_id: int | None
    may_approve: bool
    #: Why whoever asks may not approve it, and who may; or null.
    why_not: str | None
    body: SheetBody
    jobs: list[JobOut]
    #: What is still to be done on drives and hosts, with why where that is known.
    waiting: list[str]
    #: Before it; null where that was not kept.
    house: HouseOut | None = None
    plan: PlanRef | None = None
    #: Of a pool just built encrypted: its passphrase, shown this once and kept nowhere.
    passphrase: str | None = None


class SheetLine(BaseModel):
    id: int
    title: str
    state: str
    created_by: str
    created_at: dt.datetime
    approved_by: str | None
    approved_at: dt.datetime | None
    #: Why a draft cannot be approved any more as it was shown, or null.
    stale: str | None
    #: Whether all that came of it has ended.
    done: bool
    #: The plan it belongs to, or null.
    plan_id: int | None


class InTheWayOut(BaseModel):
    #: What approving it would say now; null where it would be done.
    sentence: str | None


class SheetsOut(BaseModel):
    sheets: list[SheetLine]
    more: bool


class SheetPath(BaseModel):
    sheet_id: int


class SheetsPage(Query):
    before: int | None = None
    limit: int = Field(default=50, ge=1, le=200)


class ApproveBody(BaseModel):
    #: The name the sheet asks for; empty where nothing is erased or given up.
    confirm: str = ""
    #: Asked for where something is erased or given up.
    password: str = ""


#: What sheets drawn up by older versions do not have.
_LATER: dict[str, Any] = {
    "gives_up": [],
    "texts": [],
    "findings": [],
    "effect": {"capacity": 0, "given": 0, "in_use": 0, "free": 0},
}


def sheet_out(row: SheetRow, role: str, jobs: list[JobOut]) -> SheetOut:
    return SheetOut(
        id=row.number, state=row.state, created_by=row.created_by, created_at=row.created_at,
        approved_by=row.approved_by, approved_at=row.approved_at, seconded_by=row.seconded_by, pool_id=row.pool_id,
        may_approve=allowed(role, KINDS[row.kind].approving),
        why_not=why_not(role, KINDS[row.kind].approving), body=SheetBody(**{**_LATER, **row.body}), jobs=jobs,
        waiting=[], house=row.body.get("house"),
    )  # fmt: skip


def body_of(kind: ChangeKind) -> type[BaseModel]:
    """What is sent to draw a sheet of a kind up: the fields of its request."""
    shown: dict[str, Any] = {}
    for one in kind.fields:
        limits: dict[str, Any] = {"max_length": MOST_LISTED} if one.several else {}
        if one.several and one.required:
            limits["min_length"] = 1
        hint: Any = list[one.hint] if one.several else one.hint  # type: ignore[name-defined]
        shown[one.name] = (hint, Field(... if one.required else one.default, **limits))
    name = "".join(part.capitalize() for part in kind.id.split("-")) + "Body"
    made: type[BaseModel] = create_model(name, __doc__=kind.about, **shown)
    return made


def _add_route(api: APIBlueprint, kind: ChangeKind) -> None:
    model = body_of(kind)

    def draw_up(body: Any) -> Any:
        user = signed_in()
        wanted = request_of(kind.id, body.model_dump())
        with transaction() as session:
            return sheet_out(engine.draw_up(session, kind.id, wanted, user.name, devices()), user.role, [])

    draw_up.__name__ = draw_up.__qualname__ = f"draw_up_{kind.id.replace('-', '_')}"
    draw_up.__doc__ = f"Draw up the sheet: {kind.about} Nothing is done before it is approved."
    draw_up.__annotations__ = {"body": model, "return": Any}
    api.post(f"/sheets/{kind.id}", responses={200: SheetOut})(needs(kind.act)(draw_up))


def drawing_up() -> APIBlueprint:
    """A route a kind of change, as many as there are when the application is made."""
    made = APIBlueprint("drawing-up", __name__, url_prefix="/api")
    for kind in KINDS.values():
        _add_route(made, kind)
    return made


@api.get("/sheets", responses={200: SheetsOut})
@needs(Act.LOOK, shared="with-all")
def sheets(query: SheetsPage) -> Any:
    """Sheets, the newest first, a page at a time."""
    with transaction() as session:
        statement = select(SheetRow).order_by(col(SheetRow.id).desc()).limit(query.limit + 1)
        if query.before is not None:
            statement = statement.where(col(SheetRow.id) < query.before)
        rows = session.exec(statement).all()
        ids = [r.number for r in rows]
        open_jobs = select(JobRow.sheet_id).where(
            col(JobRow.sheet_id).in_(ids), col(JobRow.state).not_in(("done", "failed"))
        )
        going_on = set(session.exec(open_jobs))
    return SheetsOut(
        sheets=[
            SheetLine(
                **r.model_dump(include=set(SheetLine.model_fields)), done=r.state == "approved" and r.id not in going_on
            )
            for r in rows[: query.limit]
        ],
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
            raise NotFound("change sheet")
        jobs = jobs_out(session, select(JobRow).where(JobRow.sheet_id == row.id).order_by(col(JobRow.id)))
        shown = sheet_out(row, user.role, jobs)
        shown.waiting = still_to_do(session, row.number)
        if row.state == SheetState.DRAFT:
            shown.house = HouseOut(**asdict(house_now(session)))
        shown.plan = _plan_of(session, row)
        return shown


def _plan_of(session: Session, row: SheetRow) -> PlanRef | None:
    plan = session.get(SheetPlan, row.plan_id) if row.plan_id is not None else None
    if plan is None:
        return None
    rows = engine.sheets_of(session, plan.number)
    waits = next((s.id for s in rows if s.state == SheetState.DRAFT and s.id != row.id), None)
    return PlanRef(
        id=plan.number, title=plan.title, number=[s.id for s in rows].index(row.id) + 1, of=len(rows), next=waits
    )


@api.get("/sheets/<int:sheet_id>/in-the-way", responses={200: InTheWayOut})
@needs(Act.LOOK, heavy=True)
def in_the_way(path: SheetPath) -> Any:
    """What stands in the way of approving a draft now, for whoever may approve it: it is tried, which holds others up."""
    with transaction() as session:
        row = session.get(SheetRow, path.sheet_id)
        if row is None:
            raise NotFound("change sheet")
        require(KINDS[row.kind].act)
    error = engine.in_the_way(path.sheet_id, devices())
    return InTheWayOut(sentence=error.message if error else None)


@api.post("/sheets/<int:sheet_id>/approve", responses={200: SheetOut})
@needs(Act.LOOK)
def approve(path: SheetPath, body: ApproveBody) -> Any:
    """Approve a sheet: its name typed and the password given. What was shown is done, or nothing is."""
    user = signed_in()
    with transaction() as session:
        row = session.get(SheetRow, path.sheet_id)
        if row is None:
            raise NotFound("change sheet")
        require(KINDS[row.kind].approving)
        grave = row.body["confirm"] is not None
    if grave:
        accounts.confirm_password(user, body.password, own_session())
    with transaction() as session:
        approved, outcome = engine.approve(session, path.sheet_id, user.name, body.confirm, devices())
        session.flush()
        jobs = jobs_out(session, select(JobRow).where(JobRow.sheet_id == approved.id))
        done = sheet_out(approved, user.role, jobs)
    done.passphrase = outcome.passphrase
    return done


@api.post("/sheets/<int:sheet_id>/withdraw", responses={200: SheetOut})
@needs(Act.LOOK)
def withdraw(path: SheetPath) -> Any:
    """Put a sheet away unapproved."""
    user = signed_in()
    with transaction() as session:
        row = engine.withdraw(session, path.sheet_id, user.name)
        require(KINDS[row.kind].act)
        return sheet_out(row, user.role, [])

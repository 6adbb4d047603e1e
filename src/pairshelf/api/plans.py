"""Plans: several change sheets that are one undertaking, approved together or one by one."""

from __future__ import annotations

import datetime as dt
from typing import Any

from flask_openapi3 import APIBlueprint
from pydantic import BaseModel, Field, ValidationError
from sqlmodel import Session

from pairshelf.api.guard import needs, require, signed_in
from pairshelf.api.sessions import own_session
from pairshelf.api.sheets import InTheWayOut, SheetOut, body_of, sheet_out
from pairshelf.core.changes.kinds import KINDS, kind_of, request_of
from pairshelf.core.domain.acts import Act
from pairshelf.core.errors import BadInput, NotFound
from pairshelf.core.policies.together import MOST
from pairshelf.engine import approver
from pairshelf.engine.pools import devices
from pairshelf.services import accounts
from pairshelf.store.database import transaction
from pairshelf.store.tables import SheetPlan, SheetRow

api = APIBlueprint("plans", __name__, url_prefix="/api")


class ChangeAsked(BaseModel):
    #: The kind of change (``GET /api/kinds``), and its request as ``POST /api/sheets/KIND`` takes it.
    kind: str
    request: dict[str, Any]


class PlanAsked(BaseModel):
    title: str
    sheets: list[ChangeAsked] = Field(min_length=1, max_length=MOST)


class PlanPath(BaseModel):
    plan_id: int


class PlanOut(BaseModel):
    id: int
    title: str
    created_by: str
    created_at: dt.datetime
    #: In the order in which they are done.
    sheets: list[SheetOut]
    #: Why whoever asks may not approve all of it, and who may; or null.
    why_not: str | None


class ApprovePlanBody(BaseModel):
    #: The name that each open sheet asks for, by the sheet's number.
    confirms: dict[str, str] = Field(default_factory=dict, max_length=MOST)
    #: Asked for where something is erased or given up.
    password: str = ""


def _plan_out(session: Session, plan: SheetPlan) -> PlanOut:
    role = signed_in().role
    shown = [sheet_out(s, role, []) for s in approver.sheets_of(session, plan.number)]
    return PlanOut(
        id=plan.number, title=plan.title, created_by=plan.created_by, created_at=plan.created_at, sheets=shown,
        why_not=next((s.why_not for s in shown if s.why_not), None),
    )  # fmt: skip


def asked_of(index: int, one: ChangeAsked) -> tuple[str, Any]:
    """The kind and the request of a change in a plan; BadInput at its field."""
    try:
        kind = kind_of(one.kind)
        said = body_of(kind).model_validate(one.request)
        return kind.id, request_of(kind.id, said.model_dump())
    except ValidationError as error:
        first = error.errors()[0]
        where = ".".join(["sheets", str(index), *(str(p) for p in first["loc"])])
        raise BadInput(f"{where}: {first['msg']}.", field=where) from None
    except BadInput as error:
        raise BadInput(error.message, field=f"sheets.{index}.{error.field or 'kind'}") from None


@api.post("/plans", responses={200: PlanOut})
@needs(Act.PREPARE)
def draw_up_plan(body: PlanAsked) -> Any:
    """Draw up several changes as one plan: all of their sheets, or none. Nothing is done before they are approved."""
    asked = [asked_of(i, one) for i, one in enumerate(body.sheets)]
    for kind, _ in asked:
        require(KINDS[kind].act)
    with transaction() as session:
        plan = approver.draw_up_all(session, body.title, asked, signed_in().name, devices())
        return _plan_out(session, plan)


def _found(session: Session, plan_id: int) -> SheetPlan:
    plan = session.get(SheetPlan, plan_id)
    if plan is None:
        raise NotFound("plan")
    return plan


@api.get("/plans/<int:plan_id>", responses={200: PlanOut})
@needs(Act.LOOK)
def plan(path: PlanPath) -> Any:
    """A plan with its sheets."""
    with transaction() as session:
        return _plan_out(session, _found(session, path.plan_id))


def _open_sheets(session: Session, plan_id: int) -> list[SheetRow]:
    """Those that wait; Denied unless this person may approve every one."""
    drafts = approver.open_sheets_of(session, plan_id)
    for sheet in drafts:
        require(KINDS[sheet.kind].approving)
    return drafts


@api.get("/plans/<int:plan_id>/in-the-way", responses={200: InTheWayOut})
@needs(Act.LOOK, heavy=True)
def plan_in_the_way(path: PlanPath) -> Any:
    """What stands in the way of approving all open sheets of a plan now, for whoever may: it is tried."""
    with transaction() as session:
        _open_sheets(session, path.plan_id)
    error = approver.plan_in_the_way(path.plan_id, devices())
    return InTheWayOut(sentence=error.message if error else None)


@api.post("/plans/<int:plan_id>/approve", responses={200: PlanOut})
@needs(Act.LOOK)
def approve_plan(path: PlanPath, body: ApprovePlanBody) -> Any:
    """Approve all open sheets of a plan: the name of each typed, the password given once. All is done, or nothing."""
    user = signed_in()
    with transaction() as session:
        grave = any(s.body["confirm"] is not None for s in _open_sheets(session, path.plan_id))
    if grave:
        accounts.confirm_password(user, body.password, own_session())
    confirms = {int(n): said for n, said in body.confirms.items() if n.isascii() and n.isdigit() and len(n) < 10}
    with transaction() as session:
        done = approver.approve_all(session, path.plan_id, user.name, confirms, devices())
        session.flush()
        shown = _plan_out(session, _found(session, path.plan_id))
    passphrases = {row.id: outcome.passphrase for row, outcome in done}
    for sheet in shown.sheets:
        sheet.passphrase = passphrases.get(sheet.id)
    return shown


@api.post("/plans/<int:plan_id>/withdraw", responses={200: PlanOut})
@needs(Act.LOOK)
def withdraw_plan(path: PlanPath) -> Any:
    """Put all open sheets of a plan away unapproved."""
    with transaction() as session:
        for sheet in _open_sheets(session, path.plan_id):
            approver.withdraw(session, sheet.number, signed_in().name)
        return _plan_out(session, _found(session, path.plan_id))

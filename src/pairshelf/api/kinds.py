"""What can be changed and what works by itself: every kind of change and of job, who may, and what each asks for."""

from __future__ import annotations

from typing import Any, get_args

from flask_openapi3 import APIBlueprint
from pydantic import BaseModel

from pairshelf.api.guard import needs
from pairshelf.core.changes.kind import RequestField
from pairshelf.core.changes.kinds import KINDS
from pairshelf.core.domain.acts import Act, Role, allowed
from pairshelf.engine.jobs.kinds import JOBS

api = APIBlueprint("kinds", __name__, url_prefix="/api")


class FieldOut(BaseModel):
    name: str
    #: text, number, check, or list.
    kind: str
    required: bool
    default: str | float | bool | list[str] | None


class ChangeKindOut(BaseModel):
    id: str
    name: str
    about: str
    #: The right it needs.
    act: str
    fields: list[FieldOut]


class JobKindOut(BaseModel):
    id: str
    name: str
    #: What the pool's users notice of it.
    notices: str


class ActOut(BaseModel):
    id: str
    #: Those who may.
    roles: list[str]


class KindsOut(BaseModel):
    changes: list[ChangeKindOut]
    jobs: list[JobKindOut]
    acts: list[ActOut]


def _field(one: RequestField) -> FieldOut:
    plain = {a for a in (get_args(one.hint) or (one.hint,)) if a is not type(None)}
    kind = "list" if one.several else "check" if plain == {bool} else "number" if plain <= {int, float} else "text"
    return FieldOut(name=one.name, kind=kind, required=one.required, default=one.default)


@api.get("/kinds", responses={200: KindsOut})
@needs(Act.LOOK)
def kinds() -> Any:
    """Every kind of change and of job, and who may do what."""
    return KindsOut(
        changes=[
            ChangeKindOut(id=k.id, name=k.name, about=k.about, act=k.act.value, fields=[_field(f) for f in k.fields])
            for k in KINDS.values()
        ],
        jobs=[JobKindOut(id=k.id, name=k.name, notices=k.notices) for k in JOBS.values()],
        acts=[ActOut(id=act.value, roles=[r.value for r in Role if allowed(r, act)]) for act in Act],
    )

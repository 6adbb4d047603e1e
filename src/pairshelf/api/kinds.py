"""What can be changed and what works by itself: every kind of change and of job, who may, and what each asks for; and the figures of a layout."""

from __future__ import annotations

from typing import Any, get_args

from flask_openapi3 import APIBlueprint
from pydantic import BaseModel

from pairshelf.api.guard import needs
from pairshelf.core.changes.kind import RequestField
from pairshelf.core.changes.kinds import KINDS
from pairshelf.core.domain.acts import Act, Role, allowed
from pairshelf.core.figures.figure import Unit
from pairshelf.core.figures.registry import FIGURES
from pairshelf.engine.jobs.kinds import JOBS
from pairshelf.engine.observe import CONDITIONS
from pairshelf.formats.tables import TABLES
from pairshelf.standin.faults import FAULTS

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


class LayoutFigureOut(BaseModel):
    id: str
    title: str
    label: str
    #: The same where there is little room.
    head: str
    meaning: str
    unit: Unit
    more_is_better: bool
    #: It can be asked how it is worked out.
    explained: bool
    #: It is a column of the list of layouts.
    listed: bool


class FaultOut(BaseModel):
    id: str
    name: str
    about: str
    #: By the condition of the drive: why it makes no sense then.
    not_when: dict[str, str]
    #: Said afterwards, where nothing shows by itself.
    after: str


class TableFormatOut(BaseModel):
    id: str
    about: str
    accepts: list[str]


class KindsOut(BaseModel):
    changes: list[ChangeKindOut]
    jobs: list[JobKindOut]
    acts: list[ActOut]
    figures: list[LayoutFigureOut]
    #: What can be done to a simulated drive.
    faults: list[FaultOut]
    #: What a list of drives or prices may come as.
    tables: list[TableFormatOut]


def _field(one: RequestField) -> FieldOut:
    plain = {a for a in (get_args(one.hint) or (one.hint,)) if a is not type(None)}
    kind = "list" if one.several else "check" if plain == {bool} else "number" if plain <= {int, float} else "text"
    return FieldOut(name=one.name, kind=kind, required=one.required, default=one.default)


@api.get("/kinds", responses={200: KindsOut})
@needs(Act.LOOK)
def kinds() -> Any:
    """Every kind of change and of job, who may do what, and every figure of a layout."""
    return KindsOut(
        changes=[
            ChangeKindOut(id=k.id, name=k.name, about=k.about, act=k.act.value, fields=[_field(f) for f in k.fields])
            for k in KINDS.values()
        ],
        jobs=[JobKindOut(id=k.id, name=k.name, notices=k.notices) for k in JOBS.values()],
        acts=[ActOut(id=act.value, roles=[r.value for r in Role if allowed(r, act)]) for act in Act],
        figures=[
            LayoutFigureOut(
                id=f.id,
                title=f.title,
                label=f.label,
                head=f.head,
                meaning=f.meaning,
                unit=f.unit,
                more_is_better=f.more_is_better,
                explained=f.explain is not None,
                listed=f.listed,
            )
            for f in FIGURES.values()
        ],
        faults=[
            FaultOut(
                id=f.id,
                name=f.name,
                about=f.about,
                after=f.after,
                not_when={CONDITIONS[presence].value: why for presence, why in f.needs.items()},
            )
            for f in FAULTS.values()
        ],
        tables=[TableFormatOut(id=t.id, about=t.about, accepts=list(t.accepts)) for t in TABLES.values()],
    )

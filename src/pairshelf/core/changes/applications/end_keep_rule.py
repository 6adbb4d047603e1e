"""A volume that keeps everything."""

from __future__ import annotations

from dataclasses import dataclass

from pairshelf.core.changes.applications.application_plan import KeepPlan
from pairshelf.core.changes.kind import ChangeKind, Context
from pairshelf.core.changes.sheet import simple_sheet
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.estate import Estate
from pairshelf.core.errors import BadInput


@dataclass(frozen=True, slots=True)
class EndKeepRule:
    """Keep everything on a volume."""

    volume: str


def plan(estate: Estate, request: EndKeepRule) -> KeepPlan:
    """The sheet for keeping everything."""
    volume = estate.volume(request.volume)
    if volume.keep_above is None:
        raise BadInput("This volume has no keep rule.", field="volume")
    writers = [a.name for a in estate.applications if a.volume == volume.ref and a.kind == "recorder"]
    sheet = simple_sheet(
        "end-keep-rule", f"No keep rule for {volume.ref}", "Nothing is deleted by itself any more.",
        cautions=(f"{', '.join(writers)} goes on writing; when the volume is full, it stops.",) if writers else (),
        steps=("Take the rule out of the books.",),
    )  # fmt: skip
    return KeepPlan(sheet, volume, None)


def context(request: EndKeepRule) -> Context:
    """What the plan is made on, and what is held while it is carried out."""
    return Context(volumes=(request.volume,))


KIND = ChangeKind("end-keep-rule", Act.GIVE_ACCESS, EndKeepRule, context, plan)

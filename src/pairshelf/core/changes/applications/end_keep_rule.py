"""A volume that keeps everything."""

from __future__ import annotations

from dataclasses import dataclass

from pairshelf.core.changes.applications.application_plan import KeepPlan, deletes_above
from pairshelf.core.changes.kind import ChangeKind, Context
from pairshelf.core.changes.sheet import BeforeAfter, simple_sheet
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.estate import Estate
from pairshelf.core.domain.words import listed
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
        figures=(BeforeAfter("Deletes above", deletes_above(volume, volume.keep_above), deletes_above(volume, None)),),
        cautions=(
            f"{listed(writers)} {'goes' if len(writers) == 1 else 'go'} on writing; when the volume is full, "
            f"{'it stops' if len(writers) == 1 else 'they stop'}.",
        ) if writers else (),
        steps=("Take the rule out of the books.",),
    )  # fmt: skip
    return KeepPlan(sheet, volume, None)


def context(request: EndKeepRule) -> Context:
    """What the plan is made on, and what is held while it is carried out."""
    return Context(volumes=(request.volume,))


KIND = ChangeKind("end-keep-rule", Act.GIVE_ACCESS, EndKeepRule, context, plan)

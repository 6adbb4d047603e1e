"""The oldest recordings of a volume deleted when it is full."""

from __future__ import annotations

from dataclasses import dataclass

from pairshelf.core.changes.applications.application_plan import KeepPlan, application_of, deletes_above
from pairshelf.core.changes.kind import ChangeKind, Context
from pairshelf.core.changes.sheet import BeforeAfter, Figure, simple_sheet
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.estate import Estate
from pairshelf.core.domain.units import format_size
from pairshelf.core.errors import BadInput


@dataclass(frozen=True, slots=True)
class SetKeepRule:
    """Delete the oldest recordings of one volume when it is fuller than a share."""

    volume: str
    #: Per cent of the room for files.
    above: float = 90.0
    #: Whose recordings; empty for all on the volume.
    application: str = ""


def plan(estate: Estate, request: SetKeepRule) -> KeepPlan:
    """The sheet for a keep rule of one volume."""
    volume = estate.volume(request.volume)
    if not 10 <= request.above <= 99:
        raise BadInput("Between 10 and 99 per cent.", field="above")
    app = application_of(estate, request.application) if request.application.strip() else None
    if app and app.volume != volume.ref:
        raise BadInput(
            f"{app.name} writes to {app.volume or 'its own disk'}, not to {volume.ref}; the rule would delete nothing of it.",
            field="application",
        )
    limit = deletes_above(volume, request.above / 100)
    whose = f"of {app.name} " if app else ""
    over = max(0, volume.files_bytes - (limit.bytes or 0))
    sheet = simple_sheet(
        "set-keep-rule", f"Keep rule for {volume.ref}",
        f"Above {request.above:g} % taken, the oldest recordings {whose}on this volume, and on no other, are deleted.",
        figures=(
            BeforeAfter("Deletes above", deletes_above(volume, volume.keep_above), limit),
            BeforeAfter("Taken now", Figure(bytes=volume.files_bytes), Figure(bytes=volume.files_bytes)),
        ),
        gives_up=(f"The oldest {format_size(over)} at once: {volume.ref} is fuller than that now.",) if over else (),
        confirm=volume.name if over else None,
        steps=("Look at the volume whenever something has been written, and delete the oldest first.",),
    )  # fmt: skip
    return KeepPlan(sheet, volume, request.above / 100, app)


def context(request: SetKeepRule) -> Context:
    """What the plan is made on, and what is held while it is carried out."""
    return Context(volumes=(request.volume,), applications=(request.application,))


KIND = ChangeKind("set-keep-rule", Act.GIVE_ACCESS, SetKeepRule, context, plan)

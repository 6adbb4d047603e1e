"""A moved application brought back."""

from __future__ import annotations

from dataclasses import dataclass

from pairshelf.core.changes.applications.application_plan import MovePlan, application_of
from pairshelf.core.changes.kind import ChangeKind, Context
from pairshelf.core.changes.sheet import BeforeAfter, Figure, simple_sheet
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.estate import Estate
from pairshelf.core.domain.mounting import aside_name
from pairshelf.core.errors import NotPossible


@dataclass(frozen=True, slots=True)
class UndoMove:
    """Bring a moved application back to where it was."""

    application: str


def plan(estate: Estate, request: UndoMove) -> MovePlan:
    """The sheet for bringing a moved application back."""
    app = application_of(estate, request.application)
    if not app.volume or not app.moved_from:
        raise NotPossible(f"{app.name} was not moved.", code="not-moved", field="application")
    volume = estate.volume(app.volume)
    old = aside_name(app.moved_from)
    if estate.entries(app.host, old) is None:
        raise NotPossible(
            f"{old} is not there any more on {app.host}; there is nothing to go back to.",
            code="no-folder",
            field="application",
        )
    sheet = simple_sheet(
        "undo-move", f"Bring {app.name} on {app.host} back", f"To {app.moved_from} on the host's own disk.",
        figures=(BeforeAfter("Its data are in", Figure(text=f"{app.folder} ({volume.ref})"), Figure(text=f"{app.moved_from} (own disk)")),),
        meanwhile=(f"{app.name} is stopped until it is back.",),
        cautions=(f"What it wrote since the move is copied back too; everything stays on {volume.ref} as well.",),
        steps=(
            f"Stop {app.name}.", f"Copy what is new on {volume.ref} back, and compare.",
            "Unmount the volume from its folder." if app.folder == app.moved_from else f"Name {app.moved_from} in {app.settings}.",
            f"Move {old} back to {app.moved_from}.", f"Start {app.name}.",
        ),
        role="operator",
    )  # fmt: skip
    way = "mount" if app.folder == app.moved_from else "point"
    return MovePlan(sheet, app, volume, way, app.moved_from, None)


def context(request: UndoMove) -> Context:
    """What the plan is made on, and what is held while it is carried out."""
    return Context(applications=(request.application,))


KIND = ChangeKind("undo-move", Act.MANAGE_VOLUMES, UndoMove, context, plan)

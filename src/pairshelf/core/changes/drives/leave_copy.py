"""The copying of a drive left off: the member stays, the drive that was to take its place leaves."""

from __future__ import annotations

from dataclasses import dataclass

from pairshelf.core.changes.kind import ChangeKind, Context
from pairshelf.core.changes.sheet import ChangeSheet, drives_leave, simple_sheet
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.estate import Estate
from pairshelf.core.errors import BadInput, NotPossible


@dataclass(frozen=True, slots=True)
class LeaveCopy:
    """Leave the copying of a drive off: the old drive keeps its place, the new one is free again."""

    pool_id: int
    slot: int


@dataclass(frozen=True, slots=True)
class LeaveCopyPlan:
    """The place whose copying ends."""

    sheet: ChangeSheet
    request: LeaveCopy


def plan(estate: Estate, request: LeaveCopy) -> LeaveCopyPlan:
    """The sheet. NotPossible where nothing is being copied there."""
    pool = estate.pool(request.pool_id)
    if pool is None:
        raise BadInput("There is no such pool.", field="pool_id")
    found = next((drive for slot, drive in pool.copies if slot == request.slot), None)
    if found is None:
        raise NotPossible("The drive in this place is not being copied.", code="nothing-to-leave", field="slot")
    place = next(p for p in pool.places if p.slot == request.slot)
    stays = place.drive.named if place.drive else f"place {request.slot + 1}"
    sheet = simple_sheet(
        "leave-copy", f"Leave the copying of {stays} off", f"It keeps its place in {pool.name}; {found.named} is free again.",
        steps=("End the copying.", f"Give {found.serial} free: what was copied onto it stays readable until it is wiped."),
        role="operator", effect=drives_leave([found]),
    )  # fmt: skip
    return LeaveCopyPlan(sheet, request)


def context(request: LeaveCopy) -> Context:
    """What the plan is made on, and what is held while it is carried out."""
    return Context(pool_ids=(request.pool_id,))


KIND = ChangeKind("leave-copy", Act.REPLACE_DRIVES, LeaveCopy, context, plan)

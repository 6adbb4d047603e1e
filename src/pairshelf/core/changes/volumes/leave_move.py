"""The moving of a volume left off: it stays where it is, and what had been copied is free again."""

from __future__ import annotations

from dataclasses import dataclass

from pairshelf.core.changes.kind import ChangeKind, Context
from pairshelf.core.changes.sheet import ChangeSheet, pool_effect, simple_sheet, together
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.estate import Estate, EstateVolume
from pairshelf.core.domain.units import EXTENT
from pairshelf.core.errors import NotPossible


@dataclass(frozen=True, slots=True)
class LeaveMove:
    """Leave the moving of a volume off: it stays in its pool, and nothing has changed."""

    volume: str


@dataclass(frozen=True, slots=True)
class LeaveMovePlan:
    """The volume that stays."""

    sheet: ChangeSheet
    volume: EstateVolume


def plan(estate: Estate, request: LeaveMove) -> LeaveMovePlan:
    """The sheet. NotPossible where it is not being moved."""
    volume = estate.volume(request.volume)
    pool = estate.pool_named(volume.pool)
    if not any(u.kind == "move-volume" and u.volume_id == volume.id for u in pool.under_way):
        raise NotPossible(f"{volume.ref} is not being moved.", code="nothing-to-leave", field="volume")
    sheet = simple_sheet(
        "leave-move", f"Leave the moving of volume {volume.ref} off", f"It stays in {volume.pool}; nothing of it has changed.",
        steps=("End the copying.", "Give back what had been taken for it in the other pool."),
        effect=together(*(pool_effect(of_drives, given=-extents * EXTENT) for v, extents, of_drives in estate.copies if v == volume.id)),
    )  # fmt: skip
    return LeaveMovePlan(sheet, volume)


def context(request: LeaveMove) -> Context:
    """What the plan is made on, and what is held while it is carried out."""
    return Context(volumes=(request.volume,), moving_with=True)


KIND = ChangeKind("leave-move", Act.BUILD_POOLS, LeaveMove, context, plan)

"""A volume's capacity given back."""

from __future__ import annotations

from dataclasses import dataclass

from pairshelf.core.changes.kind import ChangeKind, Context
from pairshelf.core.changes.sheet import BeforeAfter, Figure, left_in_pool, pool_effect, simple_sheet
from pairshelf.core.changes.volumes.volume_plan import (
    VolumePlan,
    backup_said,
    files_given_up,
    partition_of,
    require_unused,
    serving,
    spec_of,
)
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.estate import Estate
from pairshelf.core.domain.units import EXTENT
from pairshelf.core.errors import NotPossible


@dataclass(frozen=True, slots=True)
class DeleteVolume:
    """Give a volume's capacity back to its pool."""

    volume: str


def plan(estate: Estate, request: DeleteVolume) -> VolumePlan:
    """The sheet for deleting."""
    volume = estate.volume(request.volume)
    pool = estate.pool_named(volume.pool)
    if pool.table is None:  # a partition goes even when its drive has failed: so the drive can be given up
        serving(pool)
    require_unused(estate, volume)
    if (at := partition_of(pool, volume)) and at[1].kind == "logical" and not at[0].is_last_logical(at[1].number):
        raise NotPossible(
            "Logical partitions have their numbers by their order; delete the last one first.",
            code="not-the-last", field="volume",
        )  # fmt: skip
    back = volume.placed
    table = at[0].without(at[1].number) if at else None
    sheet = simple_sheet(
        "delete-volume", f"Delete volume {volume.ref}",
        "Its entry in the table of its drive goes with it." if at else "Its capacity goes back to the pool.",
        figures=(
            BeforeAfter("Volume", Figure(bytes=volume.size), Figure(text="none")),
            BeforeAfter("Unallocated on the drive", Figure(bytes=at[0].bytes_left), Figure(bytes=table.bytes_left))
            if at and table
            else left_in_pool(pool, pool.free + back),
        ),
        gives_up=files_given_up(volume), confirm=volume.name,
        effect=pool_effect(pool.spread, given=-(volume.size if at else back * EXTENT)),
        steps=("Make sure nothing uses it.", "Take its entry out of the table." if at else "Give its capacity back to the pool."),
        cautions=(*backup_said(estate, volume), "What was on it can be read from the drives until something else is written there; it is not wiped.",),
    )  # fmt: skip
    return VolumePlan(sheet, volume, spec_of(volume), table)


def context(request: DeleteVolume) -> Context:
    """What the plan is made on, and what is held while it is carried out."""
    return Context(volumes=(request.volume,))


KIND = ChangeKind("delete-volume", Act.BUILD_POOLS, DeleteVolume, context, plan)

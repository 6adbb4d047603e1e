"""A new, empty file system in the place of the one there is."""

from __future__ import annotations

from dataclasses import dataclass

from pairshelf.core.changes.kind import ChangeKind, Context
from pairshelf.core.changes.sheet import BeforeAfter, Figure, simple_sheet
from pairshelf.core.changes.volumes.volume_plan import (
    VolumePlan,
    backup_said,
    files_given_up,
    partition_of,
    require_unused,
    serving_pool_of,
)
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.estate import Estate
from pairshelf.core.domain.file_systems import FILE_SYSTEMS
from pairshelf.core.domain.partitions import TYPES
from pairshelf.core.domain.volume_spec import plan_volume
from pairshelf.core.errors import NotPossible


@dataclass(frozen=True, slots=True)
class ReformatVolume:
    """A new, empty file system in the place of the one there is."""

    volume: str
    file_system: str
    reserved_share: float | None = None


def plan(estate: Estate, request: ReformatVolume) -> VolumePlan:
    """The sheet for a new file system."""
    volume = estate.volume(request.volume)
    pool = serving_pool_of(estate, volume)
    if at := partition_of(pool, volume):
        fitting = TYPES[at[1].type].file_systems
        if request.file_system not in (*fitting, "none"):
            raise NotPossible(
                f"Its partition is of a type that holds {' or '.join(fitting) or 'no file system of ours'}; delete it, "
                "and make one of the type that fits.",
                code="wrong-type", field="file_system",
            )  # fmt: skip
    require_unused(estate, volume)
    spec = plan_volume(volume.name, volume.size, request.file_system, request.reserved_share, thin=volume.thin)
    sheet = simple_sheet(
        "reformat-volume", f"New file system {spec.file_system} on volume {volume.ref}",
        "Everything on it is given up, and it gets a new UUID.",
        figures=(
            BeforeAfter("File system", Figure(text=volume.file_system), Figure(text=spec.file_system)),
            BeforeAfter("Left for files", Figure(bytes=volume.size - volume.overhead), Figure(bytes=spec.for_files)),
        ),
        gives_up=files_given_up(volume), confirm=volume.name, cautions=backup_said(estate, volume),
        steps=("Make sure nothing uses it.", f"Make the file system {spec.file_system}, with a new UUID."),
        fixed=() if FILE_SYSTEMS[spec.file_system].shrinks else ("This file system can never be made smaller.",),
    )  # fmt: skip
    return VolumePlan(sheet, volume, spec)


def context(request: ReformatVolume) -> Context:
    """What the plan is made on, and what is held while it is carried out."""
    return Context(volumes=(request.volume,))


KIND = ChangeKind("reformat-volume", Act.BUILD_POOLS, ReformatVolume, context, plan)

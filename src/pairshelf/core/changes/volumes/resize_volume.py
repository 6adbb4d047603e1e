"""A volume made larger or smaller, with its file system."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

from pairshelf.core.changes.kind import ChangeKind, Context
from pairshelf.core.changes.later import Later, Opening
from pairshelf.core.changes.sheet import BeforeAfter, Figure, Takes, left_in_pool, pool_effect, simple_sheet
from pairshelf.core.changes.volumes.volume_plan import (
    VolumePlan,
    backup_said,
    inside_of,
    partition_of,
    serving_pool_of,
    spec_of,
)
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.estate import Estate, EstatePool, EstateVolume
from pairshelf.core.domain.file_systems import FileSystem, file_system_of
from pairshelf.core.domain.partitions import Table
from pairshelf.core.domain.units import EXTENT, format_size
from pairshelf.core.domain.volume_spec import Spec, check_size, read_size
from pairshelf.core.errors import BadInput, NotPossible
from pairshelf.core.figures.durations import volume_sync
from pairshelf.core.layouts import Layout
from pairshelf.core.layouts.protections import parse_protection


@dataclass(frozen=True, slots=True)
class ResizeVolume:
    """Extend or shrink a volume with its file system."""

    volume: str
    #: The new size; "all" adds all that is left in the pool.
    size: str


def plan(estate: Estate, request: ResizeVolume) -> VolumePlan:
    """The sheet for extending or shrinking."""
    volume = estate.volume(request.volume)
    pool = serving_pool_of(estate, volume)
    at = partition_of(pool, volume)
    room = at[0].most(at[1].number) if at else _room(pool, volume)
    size = room if request.size.strip().lower() == "all" else read_size(request.size or "0", room)

    def at_size(size: int) -> tuple[Table | None, Spec]:
        table = at[0].resized(at[1].number, size) if at else None
        size = table.part(at[1].number).sectors * table.sector if at and table else size
        return table, spec_of(volume, size=size, inside=inside_of(pool, table, volume))

    if at:
        if size > room:
            raise BadInput(
                f"{format_size(room - volume.size)} ({room - volume.size} bytes) are unallocated right behind it; "
                f"this is {format_size(size - room)} too large.",
                field="size",
            )
    else:
        check_size(size, max(room, volume.size), thin=volume.thin)
    table, after = at_size(size)
    size = after.size
    if size == volume.size:
        raise BadInput(f"It has {format_size(size)} already.", field="size")
    system = file_system_of(volume.file_system)
    if size > system.largest:
        raise BadInput(f"{system.id} goes up to {format_size(system.largest)}.", field="size")
    if after.for_files <= 0 or size < EXTENT:
        raise BadInput("That is too small to hold a file system; leave it at least 1 GiB.", field="size")
    larger = size > volume.size
    mounted = estate.mounts_of(volume)
    if not larger:
        _may_shrink(estate, volume, after, lambda size: at_size(size)[1], bool(mounted))
    use = max(0, _use(volume, after.extents) - _use(volume, -(-volume.size // EXTENT))) if not volume.thin else 0
    free = pool.free * EXTENT, (pool.free - use if larger else pool.free + _given_back(volume, after)) * EXTENT
    if at and table:
        free = at[0].bytes_left, table.bytes_left
    sheet = simple_sheet(
        "resize-volume",
        f"{'Extend' if larger else 'Shrink'} volume {volume.ref} to {format_size(size, digits=3)}",
        f"By {format_size(abs(size - volume.size))}{'' if volume.bare else ', with its file system'}.",
        figures=(
            BeforeAfter("Size", Figure(bytes=volume.size), Figure(bytes=size)),
            *(() if volume.bare else (
                BeforeAfter("Left for files", Figure(bytes=volume.size - volume.overhead), Figure(bytes=after.for_files)),
                BeforeAfter("Taken by files", Figure(bytes=volume.files_bytes), Figure(bytes=volume.files_bytes)),
            )),
            BeforeAfter("Unallocated on the drive", Figure(bytes=free[0]), Figure(bytes=free[1])) if at
            else left_in_pool(pool, free[1] // EXTENT),
        ),
        effect=pool_effect(pool.spread, given=size - volume.size if at else free[0] - free[1]),
        takes=(Takes.of("First sync", volume_sync(pool.layout, after.pool_use)),) if pool.spread and larger and use else (),
        steps=tuple(_steps(volume, larger=larger, table=table is not None, moved=free[0] != free[1])),
        meanwhile=_meanwhile(volume, larger=larger),
        cautions=() if larger else (
            *(() if volume.bare else ("Have a backup before a file system is made smaller.",)), *backup_said(estate, volume),
        ),
        gives_up=(f"Whatever hosts wrote beyond the new end of {volume.ref}: nothing here can say what that is.",)
        if volume.bare and not larger else (),
        confirm=volume.name if volume.bare and not larger else None,
    )  # fmt: skip
    return VolumePlan(sheet, volume, after, table)


def _steps(volume: EstateVolume, *, larger: bool, table: bool, moved: bool) -> Iterator[str]:
    """What is done. ``moved``: whether the pool gives or gets any extent; a thin volume takes what it needs as it is written."""
    system = file_system_of(volume.file_system)
    moving = "Move the end of its entry in the table."
    if larger:
        if table:
            yield moving
        elif moved:
            yield "Take more capacity from the pool."
        else:
            yield (
                "Write its new size; the pool gives it more as it is written."
                if volume.thin
                else "Use the rest of its last extent."
            )
        if not volume.bare:
            yield f"Grow the file system ({system.id}, {system.grows})."
        if volume.protection is not None and moved:
            yield "Bring its redundancy in step (first sync)."
        return
    if not volume.bare:
        yield "Make sure no file lies beyond the new end."
        yield f"Shrink the file system ({system.id})."
    if table:
        yield moving
    else:
        yield "Give the rest back to the pool." if moved else "Write its new size; the pool has nothing to get back."


def _meanwhile(volume: EstateVolume, *, larger: bool) -> tuple[str, ...]:
    if volume.bare:
        return ("A host that uses it looks at its size anew." if larger else "No host uses it meanwhile.",)
    return (
        "It stays in use."
        if larger or file_system_of(volume.file_system).shrinks == "mounted"
        else "It is not mounted meanwhile.",
    )


def _room(pool: EstatePool, volume: EstateVolume) -> int:
    """Bytes it could have: all of the extents it has, its last stripe filled, and what the pool has left."""
    data = 1 if volume.protection is None else parse_protection(volume.protection).data
    return -(-volume.size // (data * EXTENT)) * data * EXTENT + pool.largest(volume.protection)


def _use(volume: EstateVolume, extents: int) -> int:
    if volume.protection is None:
        return extents
    own = parse_protection(volume.protection)
    return -(-extents // own.data) * own.width


def _given_back(volume: EstateVolume, after: Spec) -> int:
    if volume.thin:
        return max(0, volume.placed - _use(volume, after.extents))
    return _use(volume, -(-volume.size // EXTENT)) - _use(volume, after.extents)


def _holds(volume: EstateVolume, spec: Spec) -> bool:
    """Whether its files have room in what it would be, and none of them lies beyond its end."""
    end = spec.size if spec.inside is None else spec.inside * EXTENT
    return end >= volume.files_end and spec.for_files >= volume.files_bytes


def _least(volume: EstateVolume, at_size: Callable[[int], Spec], too_small: int) -> int:
    """The smallest size, in bytes, that holds its files: a file system takes more for itself the larger it is, so it
    is looked for, not reckoned."""
    low, high = too_small, volume.size
    while high - low > 1:
        middle = (low + high) // 2
        low, high = (low, middle) if _holds(volume, at_size(middle)) else (middle, high)
    return high


def _may_shrink(
    estate: Estate, volume: EstateVolume, after: Spec, at_size: Callable[[int], Spec], mounted: bool
) -> None:
    system = file_system_of(volume.file_system)
    if not system.shrinks:
        raise NotPossible(
            f"{system.id} can never be made smaller. Make a smaller volume, move the files, and delete this one.",
            code="never-shrinks", field="size",
        )  # fmt: skip
    if system.shrinks == "unmounted" and mounted:
        where = ", ".join(f"{m.host} at {m.at}" for m in estate.mounts_of(volume))
        raise NotPossible(
            f"{system.id} shrinks only while it is not mounted; unmount it first ({where}).",
            code="mounted",
            field="size",
        )
    if not _holds(volume, after):
        least = _least(volume, at_size, after.size)
        raise BadInput(
            f"Its files take {format_size(volume.files_bytes)} and reach to {format_size(volume.files_end)}; "
            f"it cannot be smaller than {format_size(least)} ({least} bytes).",
            field="size",
        )
    if any(t for t in estate.targets if any(v == volume.ref for _, v in t.luns)):
        raise NotPossible(
            "A block target serves it; its host would lose the end of its disk.", code="in-use", field="size"
        )
    asked = sum(s.quota or 0 for s in estate.shares if s.volume == volume.ref)
    if asked > after.for_files:
        raise BadInput(f"Its shares have quotas of {format_size(asked)} together; lower those first.", field="size")


def context(request: ResizeVolume) -> Context:
    """What the plan is made on, and what is held while it is carried out."""
    return Context(volumes=(request.volume,))


def door(_layout: Layout, file_system: FileSystem) -> tuple[Opening, str]:
    """Whether a volume can become smaller: its file system says."""
    opening = {"mounted": Opening.OPEN, "unmounted": Opening.AT_A_COST, "": Opening.CLOSED}[file_system.shrinks]
    return opening, file_system.on_shrinking


LATER = Later("shrink-volume", "make a volume smaller", door)

KIND = ChangeKind("resize-volume", Act.BUILD_POOLS, ResizeVolume, context, plan)

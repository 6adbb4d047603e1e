"""Volumes in a pool, one or several from a pattern."""

from __future__ import annotations

from dataclasses import dataclass

from pairshelf.core.changes.kind import ChangeKind, Context
from pairshelf.core.changes.sheet import (
    BeforeAfter,
    ChangeSheet,
    Figure,
    Takes,
    Text,
    left_in_pool,
    pool_effect,
    simple_sheet,
)
from pairshelf.core.changes.volumes.volume_plan import serving
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.estate import Estate, EstatePool
from pairshelf.core.domain.file_systems import FILE_SYSTEMS
from pairshelf.core.domain.mounting import MountLine, mount_folders, plan_mount
from pairshelf.core.domain.patterns import MOST, expand, in_step
from pairshelf.core.domain.units import EXTENT, format_size
from pairshelf.core.domain.volume_spec import Spec, check_size, plan_volume, read_size
from pairshelf.core.errors import BadInput, NotPossible, PairShelfError
from pairshelf.core.figures.durations import volume_sync
from pairshelf.core.layouts.protections import parse_protection


@dataclass(frozen=True, slots=True)
class MakeVolumes:
    """Volumes in a pool, one or several from a pattern."""

    pool: str
    #: A name, or a pattern such as scans-{1..4}.
    name: str
    #: Each volume's size; empty or "all": all that is left.
    size: str = ""
    #: So many alike; with more than one, the names get -1, -2 and so on.
    count: int = 1
    thin: bool = False
    #: In a spread pool: copies-2, copies-3, parity-1:W, parity-2:W.
    protection: str = ""
    file_system: str = "ext4"
    reserved_share: float | None = None
    purpose: str = ""
    #: The host that mounts them, and where; {name} stands for the volume's name.
    host: str = ""
    mount_point: str = ""


@dataclass(frozen=True, slots=True)
class MakeVolumesPlan:
    """The volumes, with where each is mounted."""

    sheet: ChangeSheet
    pool: EstatePool
    specs: tuple[Spec, ...]
    mounts: tuple[MountLine | None, ...]


def plan(estate: Estate, request: MakeVolumes) -> MakeVolumesPlan:
    """The sheet for making volumes."""
    pool = estate.pool_named(request.pool)
    serving(pool)
    if pool.table is not None:
        raise NotPossible(
            f"{pool.name} is a drive divided into partitions; partition what is unallocated on it instead.",
            code="partitioned", field="pool",
        )  # fmt: skip
    names = expand(request.name.strip(), field="name")
    if not 1 <= request.count <= MOST:
        raise BadInput(f"Between 1 and {MOST} volumes are made at once.", field="count")
    if request.count > 1:
        names = [f"{n}-{i}" for n in names for i in range(1, request.count + 1)]
    if len(names) > MOST:
        raise BadInput(f"These are {len(names)} volumes; at most {MOST} are made at once.", field="count")
    if len({n.lower() for n in names}) < len(names):
        raise BadInput("The pattern gives the same name twice.", field="name")
    unsaid = pool.spread and not request.protection.strip()
    data = parse_protection(request.protection).data if pool.spread and not unsaid else 1
    room = 0 if unsaid else pool.largest(request.protection)
    size = read_size(request.size, room, len(names), data=data)
    if not unsaid:
        check_size(size, room, thin=request.thin, count=len(names), data=data)
    taken = [v.name for v in estate.volumes if v.pool == pool.name]
    specs = tuple(
        plan_volume(
            n, size, request.file_system, request.reserved_share, thin=request.thin, purpose=request.purpose,
            protection=request.protection, spread=pool.spread, taken=taken,
        )
        for n in names
    )  # fmt: skip
    points = in_step(request.mount_point, names, field="mount_point") if request.mount_point.strip() else []
    if points and not request.host.strip():
        raise BadInput("Choose the host that mounts them, or leave the mount point empty.", field="host")
    mounts: list[MountLine | None] = []
    for n, point in zip(names, points, strict=False):
        mounts.append(plan_mount(estate, request.host, f"{pool.name}/{n}", point, specs[0].file_system, also=mounts))
    return MakeVolumesPlan(_sheet(pool, specs, tuple(mounts), estate), pool, specs, tuple(mounts))


def _sheet(
    pool: EstatePool, specs: tuple[Spec, ...], mounts: tuple[MountLine | None, ...], estate: Estate
) -> ChangeSheet:
    first = specs[0]
    use = sum(s.pool_use for s in specs)
    shown = first.name if len(specs) == 1 else f"{first.name} to {specs[-1].name} ({len(specs)} volumes)"
    kind = "thin" if first.thin else "thick"
    each = "" if len(specs) == 1 else " each"
    own = f", {first.protection.name}" if first.protection else ""
    promised = sum(v.size for v in estate.volumes if v.pool == pool.name and v.thin) + sum(
        s.size for s in specs if s.thin
    )
    cautions = []
    room = pool.largest(first.protection.name if first.protection else None)
    if first.thin and promised > room:
        cautions.append(
            f"The thin volumes of {pool.name} promise {format_size(promised)}, and {format_size(room)} are left: "
            "when the pool is full, writing stops until it grows or something is deleted."
        )
    if first.file_system == "none" and any(mounts):
        raise BadInput(
            "A volume without a file system cannot be mounted; leave the mount point empty.", field="mount_point"
        )
    lines = tuple(Text(f"Mount table of {m.host}", m.text()) for m in mounts if m)
    return simple_sheet(
        "make-volumes",
        f"Make {'volume' if len(specs) == 1 else 'volumes'} {shown} in pool {pool.name}",
        f"{kind[0].upper()}{kind[1:]}, {'without a file system' if first.file_system == 'none' else first.file_system}{own}"
        + (f", for {first.purpose}" if first.purpose else "") + ".",
        figures=(
            BeforeAfter(f"Size{each}", Figure(text="none"), Figure(bytes=first.size)),
            *(() if first.file_system == "none" else (
                BeforeAfter(f"Left for files{each}", Figure(text="none"), Figure(bytes=first.for_files)),
                BeforeAfter(f"Held by {first.file_system}{each}", Figure(text="none"), Figure(bytes=first.overhead)),
            )),
            left_in_pool(pool, pool.free - use),
            *((BeforeAfter("Pool use, redundancy included", Figure(bytes=0), Figure(bytes=use * EXTENT)),)
              if pool.spread and not first.thin else ()),
        ),
        meanwhile=("Other volumes are not touched.",),
        fixed=(
            *(("This file system can never be made smaller.",) if not FILE_SYSTEMS[first.file_system].shrinks else ()),
            *((f"The protection {first.protection.name}.",) if first.protection else ()),
            f"{kind[0].upper()}{kind[1:]}: "
            + ("it takes capacity when something is written." if first.thin else "it has all its capacity from now on."),
        ),
        steps=(
            "Take the capacity from the pool." if not first.thin else "Note the size it may grow to.",
            f"Make the file system {first.file_system}, with a UUID of its own." if first.file_system != "none"
            else "Leave it bare: whoever uses it makes a file system.",
            *(step for m in mounts if m for step in m.steps()),
            *(("Bring its redundancy in step (first sync).",) if pool.spread and not first.thin else ()),
        ),
        takes=(Takes.of("First sync", volume_sync(pool.layout, use)),) if pool.spread and use else (),
        cautions=cautions,
        texts=lines,
        effect=pool_effect(pool.spread, given=use * EXTENT),
    )  # fmt: skip


def _points(request: MakeVolumes) -> list[str]:
    try:
        return in_step(request.mount_point, expand(request.name, field="name"), field="mount_point")
    except PairShelfError:
        return []


def context(request: MakeVolumes) -> Context:
    """What the plan is made on, and what is held while it is carried out."""
    return Context(
        pools=(request.pool,), hosts=(request.host,), folders=mount_folders(request.host, _points(request)),
    )  # fmt: skip


KIND = ChangeKind("make-volumes", Act.BUILD_POOLS, MakeVolumes, context, plan)

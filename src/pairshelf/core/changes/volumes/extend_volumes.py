"""What a pool has left, given to its volumes at once: to all of them in proportion, or to those that are named."""

from __future__ import annotations

from dataclasses import dataclass

from pairshelf.core.changes.kind import ChangeKind, Context
from pairshelf.core.changes.sheet import BeforeAfter, ChangeSheet, Figure, pool_effect, simple_sheet
from pairshelf.core.changes.volumes.volume_plan import VolumePlan, serving, spec_of
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.estate import Estate, EstatePool
from pairshelf.core.domain.file_systems import file_system_of
from pairshelf.core.domain.units import EXTENT, format_size
from pairshelf.core.errors import BadInput, NoRoom, NotFound, NotPossible
from pairshelf.core.layouts.restriping import Restriping


@dataclass(frozen=True, slots=True)
class ExtendVolumes:
    """Extend volumes of a pool, with their file systems, by all that it has left: in proportion to their sizes."""

    pool: str
    #: Their names; none: all of the pool.
    volumes: tuple[str, ...] = ()
    #: While the pool is restriped: by all that it has when the front has arrived, and then by itself.
    after_restripe: bool = False


@dataclass(frozen=True, slots=True)
class ExtendVolumesPlan:
    """Each volume as it will be, and the one sheet of all."""

    sheet: ChangeSheet
    pool: EstatePool
    each: tuple[VolumePlan, ...]
    #: Not now, but when the front has arrived.
    later: bool = False


def plan(estate: Estate, request: ExtendVolumes) -> ExtendVolumesPlan:
    """The sheet for extending. Raises where nothing is left, or a volume cannot be extended so, naming the field."""
    pool = estate.pool_named(request.pool)
    serving(pool)
    if pool.spread or pool.table is not None:
        what = "Volumes of a spread pool have protections of their own" if pool.spread else "Its volumes are partitions"
        raise NotPossible(f"{what}; extend them one by one.", code="one-by-one", field="pool")
    own = {v.name: v for v in estate.volumes if v.pool == pool.name}
    for name in request.volumes:
        if name not in own:
            raise NotFound("volume", f"{pool.name}/{name}", field="volumes")
    chosen = [own[n] for n in dict.fromkeys(request.volumes)] or [v for v in own.values() if not v.thin]
    if not chosen:
        raise BadInput("There is no volume to extend.", field="volumes")
    left = pool.free + (_to_come(pool) if request.after_restripe else 0)
    shares = _shares([-(-v.size // EXTENT) for v in chosen], left)
    if not any(shares):
        more = "; what the restripe brings is there when it has ended" if isinstance(pool.layout, Restriping) else ""
        if request.after_restripe:
            more = ", and the restripe brings nothing"
        raise NoRoom(f"{pool.name} has nothing left{more}.", needed=1, left=0, field="pool")
    each = []
    for volume, extents in zip(chosen, shares, strict=True):
        if not extents:
            continue
        size = (-(-volume.size // EXTENT) + extents) * EXTENT
        if size > (largest := file_system_of(volume.file_system).largest):
            raise BadInput(f"{volume.name}: {volume.file_system} goes up to {format_size(largest)}.", field="volumes")
        each.append(VolumePlan(_NONE, volume, spec_of(volume, size=size)))
    taken = sum(shares)
    sheet = simple_sheet(
        "extend-volumes",
        f"Extend {f'{len(each)} volumes' if len(each) > 1 else f'volume {each[0].volume.ref}'} by all that {pool.name} has left",
        f"By {format_size(taken * EXTENT)} together, with their file systems."
        if len(each) > 1 else f"By {format_size(taken * EXTENT)}, with its file system.",
        figures=(
            *(BeforeAfter(f"Size of {p.volume.name}", Figure(bytes=p.volume.size), Figure(bytes=p.after.size)) for p in each),
            BeforeAfter("Left in the pool", Figure(bytes=left * EXTENT), Figure(bytes=(left - taken) * EXTENT)),
        ),
        steps=tuple(_said(p) for p in each),
        effect=pool_effect(pool.spread, given=taken * EXTENT),
        meanwhile=(
            "They stay in use." if len(each) > 1 else "It stays in use.",
            *(("It waits until the front of the restripe has arrived, and is then done by itself. If the front is turned "
               "round, nothing is extended.",) if request.after_restripe else ()),
        ),
        cautions=tuple(
            f"{v.name} is thin and writes to what is left in the pool: afterwards nothing is."
            for v in own.values() if v.thin and v not in chosen
        ),
    )  # fmt: skip
    return ExtendVolumesPlan(sheet, pool, tuple(each), request.after_restripe)


def _to_come(pool: EstatePool) -> int:
    if not isinstance(pool.layout, Restriping):
        raise BadInput(f"{pool.name} is not being restriped; extend now.", field="after_restripe")
    return max(0, pool.layout.to_come)


_NONE = simple_sheet("resize-volume", "", "", steps=())


def _said(plan: VolumePlan) -> str:
    system = file_system_of(plan.volume.file_system)
    grows = f" and grow its file system ({system.id}, {system.grows})" if system.id != "none" else ""
    return f"Give {plan.volume.name} {format_size(plan.after.size - plan.volume.size)} more{grows}."


def _shares(sizes: list[int], left: int) -> list[int]:
    """Whole extents for each, in proportion; what rounding leaves goes to the first."""
    whole = sum(sizes)
    found = [left * size // whole for size in sizes]
    found[0] += left - sum(found)
    return found


def context(request: ExtendVolumes) -> Context:
    """What the plan is made on, and what is held while it is carried out."""
    return Context(pools=(request.pool,))


KIND = ChangeKind("extend-volumes", Act.BUILD_POOLS, ExtendVolumes, context, plan)

"""What was deleted on thin volumes given back to their pool: extents no file stands on, and, if wanted, what lies in bins."""

from __future__ import annotations

from dataclasses import dataclass

from pairshelf.core.changes.kind import ChangeKind, Context
from pairshelf.core.changes.sheet import BeforeAfter, ChangeSheet, Figure, pool_effect, simple_sheet
from pairshelf.core.changes.volumes.volume_plan import serving
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.estate import Estate, EstatePool, EstateVolume
from pairshelf.core.domain.units import EXTENT, format_size
from pairshelf.core.domain.words import counted
from pairshelf.core.errors import NotPossible
from pairshelf.core.layouts.protections import parse_protection
from pairshelf.core.watching.holding import stays


@dataclass(frozen=True, slots=True)
class Reclaim:
    """Give what was deleted on a pool's thin volumes back to the pool."""

    pool: str
    #: Whether bins are emptied, too: of all its volumes.
    bins: bool = False


@dataclass(frozen=True, slots=True)
class ReclaimPlan:
    """The pool, its thin volumes that give something back, and those whose bins are emptied."""

    sheet: ChangeSheet
    pool: EstatePool
    volumes: tuple[int, ...]
    emptied: tuple[int, ...]


def after_reclaim(volume: EstateVolume, *, bins: bool) -> int:
    """Extents of the pool that a thin volume has once nothing idle is left to it."""
    files, end = (
        (volume.files_bytes - volume.in_bins, volume.kept_to) if bins else (volume.files_bytes, volume.stands_to)
    )
    protection = parse_protection(volume.protection) if volume.protection else None
    return stays(files // EXTENT, end, protection)


def reclaimable(volume: EstateVolume, *, bins: bool) -> int:
    """Extents of the pool that come back of a volume; none of a thick one, or while it is being moved."""
    return max(0, volume.placed - after_reclaim(volume, bins=bins)) if volume.thin else 0


def plan(estate: Estate, request: Reclaim) -> ReclaimPlan:
    """The sheet. NotPossible where nothing comes back."""
    pool = estate.pool_named(request.pool)
    serving(pool)
    own = [v for v in estate.volumes if v.pool == pool.name]
    giving = [v for v in own if reclaimable(v, bins=request.bins)]
    emptied = [v for v in own if request.bins and v.in_bins]
    back = sum(reclaimable(v, bins=request.bins) for v in giving)
    if not back and not emptied:
        in_bins = sum(v.in_bins for v in own if v.thin)
        more = f" {format_size(in_bins)} lie in bins; they come back if these are emptied." if in_bins else ""
        if pool.spread:
            more = (
                f" Of stripes that hold files yet, nothing comes back; what is free in them is written to first.{more}"
            )
        raise NotPossible(
            f"Nothing comes back: files stand on all that the thin volumes of {pool.name} were given.{more}",
            code="nothing-to-reclaim", field="pool",
        )  # fmt: skip
    sheet = simple_sheet(
        "reclaim", f"Reclaim what was deleted in pool {pool.name}",
        f"{format_size(back * EXTENT)} come back to the pool.",
        figures=(
            BeforeAfter("Not allocated", Figure(bytes=pool.free * EXTENT), Figure(bytes=(pool.free + back) * EXTENT)),
            *(BeforeAfter(
                f"{v.name} has", Figure(bytes=v.placed * EXTENT),
                Figure(bytes=(v.placed - reclaimable(v, bins=request.bins)) * EXTENT),
            ) for v in giving),
        ),
        gives_up=tuple(
            f"{counted(v.files_in_bins, 'file')}, {format_size(v.in_bins)}, in bins of volume {v.name}"
            for v in emptied
        ),
        confirm=pool.name if emptied else None,
        effect=pool_effect(pool.spread, given=-back * EXTENT),
        meanwhile=("Volumes stay in use.",),
        cautions=(
            *(("What is in bins cannot be taken out of them any more.",) if emptied else ()),
            "What stood there can be read from the drives until something else is written there; it is not wiped.",
        ),
        steps=(
            *(("Delete what lies in bins for good.",) if emptied else ()),
            *(("Take back every extent of its thin volumes on which no file stands.",) if giving else ()),
        ),
        role="operator",
    )  # fmt: skip
    return ReclaimPlan(sheet, pool, tuple(v.id for v in giving), tuple(v.id for v in emptied))


def context(request: Reclaim) -> Context:
    """What the plan is made on, and what is held while it is carried out."""
    return Context(pools=(request.pool,))


KIND = ChangeKind("reclaim", Act.MANAGE_VOLUMES, Reclaim, context, plan)

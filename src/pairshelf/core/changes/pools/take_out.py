"""Drives that a pool does not need: a spare, the drive of a span or a whole added set on which nothing stands."""

from __future__ import annotations

from dataclasses import dataclass, replace

from pairshelf.core.changes.kind import ChangeKind, Context
from pairshelf.core.changes.pools.relayout import pool_to_change
from pairshelf.core.changes.sheet import (
    BeforeAfter,
    ChangeSheet,
    Figure,
    drives_leave,
    left_in_pool,
    pool_effect,
    simple_sheet,
    together,
)
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.estate import Estate, EstateDrive, EstatePool
from pairshelf.core.domain.units import EXTENT
from pairshelf.core.domain.words import counted
from pairshelf.core.errors import BadInput, NotPossible
from pairshelf.core.layouts import Layout
from pairshelf.core.layouts.restripe import renumbered


@dataclass(frozen=True, slots=True)
class TakeOut:
    """Take drives out of a pool that it does not need: spares, and sets or drives of a span on which nothing stands."""

    pool: str
    drives: tuple[int, ...]


@dataclass(frozen=True, slots=True)
class TakeOutPlan:
    """The pool without them."""

    sheet: ChangeSheet
    pool: EstatePool
    spares: tuple[EstateDrive, ...]
    #: Slots that leave.
    slots: tuple[int, ...]
    after: Layout
    #: Stretches (first address, extents) that go with them, none of which any volume has.
    gone: tuple[tuple[int, int], ...]


def plan(estate: Estate, request: TakeOut) -> TakeOutPlan:
    """The sheet. Raises where something stands on one of them, or it is needed, naming the field."""
    pool = estate.pool_named(request.pool)
    wanted = tuple(dict.fromkeys(request.drives))
    if not wanted:
        raise BadInput("Choose the drives that are to leave.", field="drives")
    spares = {d.id: d for d in pool.spares}
    slots = {p.drive.id: p.slot for p in pool.places if p.drive is not None}
    for drive in wanted:
        if drive not in spares and drive not in slots:
            raise BadInput(f"Drive {drive} is not in pool {pool.name}.", field="drives")
    leaving = tuple(sorted(slots[d] for d in wanted if d in slots))
    after: Layout = pool.layout
    gone: tuple[tuple[int, int], ...] = ()
    if leaving:
        pool = pool_to_change(estate, request.pool)
        after, gone = _without(pool, leaving)
    own = tuple(spares[d] for d in wanted if d in spares)
    drives = [*own, *(p.drive for p in pool.places if p.slot in leaving and p.drive)]
    lost = sum(n for _, n in gone)
    them = "it" if len(drives) == 1 else "them"
    sheet = simple_sheet(
        "take-out", f"Take {drives[0].named if len(drives) == 1 else counted(len(drives), 'drive')} out of pool {pool.name}",
        f"Nothing of its volumes stands on {them}." if leaving else "It stands idle." if len(drives) == 1 else "They stand idle.",
        figures=(
            BeforeAfter("Pool capacity", Figure(bytes=pool.capacity * EXTENT), Figure(bytes=(pool.capacity - lost) * EXTENT)),
            left_in_pool(pool, pool.free - lost),
            *((BeforeAfter("Drives", Figure(text=str(len(pool.places))), Figure(text=str(len(pool.places) - len(leaving)))),)
              if leaving else ()),
            *((BeforeAfter("Spares", Figure(text=str(len(spares))), Figure(text=str(len(spares) - len(own)))),) if own else ()),
        ),
        steps=(f"Make sure again that nothing stands on {them}.", "Let go: free, old data readable until wiped."),
        cautions=("Without a spare, a failed drive waits for a new one to be put in.",) if own and len(own) == len(spares) else (),
        fixed=tuple(f"{d.named} leaves the pool." for d in drives),
        effect=together(pool_effect(pool.spread, capacity=-lost * EXTENT), drives_leave(drives)),
    )  # fmt: skip
    return TakeOutPlan(sheet, pool, own, leaving, after, gone)


def _without(pool: EstatePool, leaving: tuple[int, ...]) -> tuple[Layout, tuple[tuple[int, int], ...]]:
    """The layout without whole sets that are bands by themselves, and the addresses that go with them."""
    layout = pool.layout
    if layout.own_protection:
        raise NotPossible("A drive leaves a spread pool once it has been drained.", code="not-empty", field="drives")
    if not pool.synced:
        raise NotPossible(
            "The first sync is still under way; wait until it has finished.", code="not-synced", field="drives"
        )
    span = layout.scheme.one_after_another and len(layout.sets) == 1
    sets = {layout.set_of(s) for s in leaving}
    whole = {s for s in range(len(layout.members)) if layout.set_of(s) in sets}
    if not span and whole != set(leaving):
        raise BadInput("Only whole sets leave; choose all drives of a set.", field="drives")
    if len(leaving) >= len(layout.members) - (1 if span else 0):
        raise NotPossible("That would leave no pool. Take the pool apart instead.", code="needed", field="drives")
    kept = [s for s in range(len(layout.members)) if s not in leaving]
    numbers = {s: i for i, s in enumerate(kept)}
    gone, bands, first = [], [], 0
    for band in layout.bands:
        inside = [set(g.members) <= set(leaving) for g in band.groups]
        if all(inside):
            gone.append((first, band.capacity))
        elif any(inside):
            raise NotPossible(
                "Its data are spread over this set and the others; a set leaves only if it was added later and is empty.",
                code="not-empty", field="drives",
            )  # fmt: skip
        else:
            bands.append(band)
        first += band.capacity
    for start, count in gone:
        if not any(g <= start and start + count <= g + n for g, n in pool.gaps):
            fits = pool.capacity - pool.free <= pool.capacity - sum(n for _, n in gone)
            raise NotPossible(
                f"Volumes stand on {'it' if len(leaving) == 1 else 'them'}; "
                f"{'move together what is in the pool, or ' if fits else ''}delete or shrink those first.",
                code="not-empty", field="drives",
            )  # fmt: skip
    end = max((g for g, n in pool.gaps if g + n == pool.capacity), default=pool.capacity)
    if pool.encrypted and any(start < end for start, _ in gone):
        raise NotPossible(
            "In an encrypted pool only the last capacity can leave: what stands behind it is encrypted by where it stands.",
            code="not-last", field="drives",
        )  # fmt: skip
    members = [layout.members[s] for s in kept]
    sets_left = [one for i, one in enumerate(layout.sets) if i not in sets]
    divided = (tuple(members),) if span else tuple(sets_left)
    order = [numbers.get(s, 0) for s in range(len(layout.members))]
    return replace(layout, sets=divided, bands=renumbered(bands, order), known={}), tuple(gone)


def context(request: TakeOut) -> Context:
    """What the plan is made on, and what is held while it is carried out."""
    return Context(pools=(request.pool,), drives=request.drives)


KIND = ChangeKind("take-out", Act.BUILD_POOLS, TakeOut, context, plan)

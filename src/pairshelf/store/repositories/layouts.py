"""The layouts of pools, from their rows."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict, dataclass, replace
from typing import Any

from pairshelf.core.domain.drives import Drive, Kind
from pairshelf.core.layouts import Layout
from pairshelf.core.layouts.model import Band, Code, Division, Group
from pairshelf.core.layouts.registry import layout_of, scheme_of
from pairshelf.core.layouts.restripe import Moving
from pairshelf.core.layouts.restriping import restriping
from pairshelf.core.layouts.spread import StripedVolume
from pairshelf.store.tables import PoolPlace, PoolRow


@dataclass(frozen=True, slots=True)
class Goal:
    """Where a restripe leads: the layout it goes to, kept with the pool until the front has arrived."""

    scheme: str
    sets: int
    #: None: as the scheme lays its drives.
    bands: list[Any] | None
    #: How many of the members, by slot, are the old layout's.
    members: int
    upwards: bool

    def kept(self) -> dict[str, Any]:
        """As the pool's row keeps it."""
        return asdict(self)


def goal_of(pool: PoolRow) -> Goal | None:
    """Where a pool is being restriped to; None where it is not."""
    return Goal(**pool.walk) if pool.walk is not None else None


def kept_bands(layout: Layout) -> list[Any] | None:
    """The bands of a layout as a row keeps them; None where they are what its scheme makes of its drives."""
    if layout.own_protection:
        return None
    if not layout.even:
        return all_bands(layout)
    laid = layout.scheme.lay(layout.scheme, layout.members, layout.division(len(layout.sets)))
    return None if laid.bands == layout.bands else all_bands(layout)


def all_bands(layout: Layout) -> list[Any]:
    """The bands of a layout as a row keeps them, whatever its scheme would make of its drives."""
    return [[b.start, b.rows, [[list(g.members), g.code.value, g.parity] for g in b.groups]] for b in layout.bands]


def _bands(kept: Sequence[Any]) -> tuple[Band, ...]:
    return tuple(
        Band(start, rows, tuple(Group(tuple(members), Code(code), parity) for members, code, parity in groups))
        for start, rows, groups in kept
    )


def is_synced(pool: PoolRow, layout: Layout) -> bool:
    """Whether all redundancy of a pool is in step; a spread pool's volumes see to their own."""
    return layout.own_protection or layout.scheme.survives == 0 or pool.synced_to >= layout.stripes


def designed_layout(pool: PoolRow, places: Sequence[PoolPlace], stripes: Sequence[StripedVolume] = ()) -> Layout:
    """The layout a pool has; a member's id is its slot. A spread pool's has its volumes' stripes; that of a pool that
    is being restriped has both layouts and the front."""
    members = sorted((p for p in places if p.slot is not None), key=lambda p: p.member)
    drives = [Drive(str(p.slot), p.size, Kind(p.kind), p.rate, p.shelf, p.host, p.site, link=p.link) for p in members]
    spread = scheme_of(pool.scheme).own_protection
    division = Division(pool.sets, domain=(pool.domain or "") if spread else "", volumes=tuple(stripes), built=True)
    goal = goal_of(pool)
    old = _laid(drives if goal is None else drives[: goal.members], pool.scheme, division, pool.bands)
    if goal is None:
        return old
    there = sorted((p.to_slot, d) for p, d in zip(members, drives, strict=True) if p.to_slot is not None)
    new = _laid([d for _, d in there], goal.scheme, Division(goal.sets, built=True), goal.bands)
    return restriping(Moving(old, new), pool.front or 0, upwards=goal.upwards, turned=pool.turned)


def _laid(drives: Sequence[Drive], scheme: str, division: Division, kept: Sequence[Any] | None) -> Layout:
    """As the scheme lays its drives, or with the bands that are kept."""
    if kept is None:
        return layout_of(drives, scheme, division)
    bands = _bands(kept)
    if len(drives) % (division.sets or 1) == 0:
        even = replace(layout_of(drives, scheme, division), bands=bands, known={})
        if division.sets == 1 or all(len({even.set_of(m) for m in g.members}) == 1 for b in bands for g in b.groups):
            return even
    # Sets that are not alike: whose stripes go over the same members is one.
    found = sorted({g.members for b in bands for g in b.groups})
    return Layout(scheme_of(scheme), tuple(tuple(drives[m] for m in one) for one in found), (), bands)

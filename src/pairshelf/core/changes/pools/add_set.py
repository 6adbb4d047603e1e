"""A set more."""

from __future__ import annotations

from dataclasses import dataclass

from pairshelf.core.changes.growing import Growing, Path, Step, alike, step_of
from pairshelf.core.changes.kind import ChangeKind, Context
from pairshelf.core.changes.later import Later, Opening
from pairshelf.core.changes.pools.relayout import (
    RelayoutPlan,
    closed,
    drives_to_add,
    named_after,
    pool_to_change,
    relayout,
)
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.estate import Estate
from pairshelf.core.domain.file_systems import DEFAULT_FILE_SYSTEM, FileSystem, file_system_of
from pairshelf.core.domain.units import format_size
from pairshelf.core.layouts import Layout
from pairshelf.core.layouts.grown import with_sets
from pairshelf.core.layouts.model import Family


def door(layout: Layout, _file_system: FileSystem) -> tuple[Opening, str]:
    """Whether a layout leaves it open."""
    if layout.scheme.own_protection:
        return Opening.CLOSED, "A spread pool has no sets; add drives instead."
    if layout.scheme.family is Family.STEPPED:
        return Opening.CLOSED, "A stepped pool is one set; add single drives instead."
    if layout.scheme.survives == 0:
        return Opening.CLOSED, "Without redundancy there are no sets to add."
    return Opening.OPEN, f"{layout.width} drives alike; their capacity is there at once."


def after(growing: Growing) -> Path:
    """Set by set; each brings its capacity at once."""
    layout = growing.found.layout
    name = f"one more set of {layout.width}"
    opening, why = door(layout, file_system_of(growing.file_system))
    if opening is Opening.CLOSED:
        return Path("add-set", name if layout.scheme.survives == 0 else "one more set", (), closed=why)
    found: list[Step] = []
    before = growing.found
    for number in range(1, growing.steps + 1):
        new = [alike(layout, (number - 1) * layout.width + i + 1) for i in range(layout.width)]
        after = growing.after(with_sets(before.layout, new))
        found.append(
            step_of(f"add a set of {layout.width} drives of {format_size(new[0].size)}", before, after, 0.0, "at once")
        )
        before = after
    return Path("add-set", name, tuple(found))


@dataclass(frozen=True, slots=True)
class AddSets:
    """Make a pool larger by one or several whole sets, as wide as those it has; their capacity is there at once."""

    pool: str
    drives: tuple[int, ...]


def plan(estate: Estate, request: AddSets) -> RelayoutPlan:
    """The sheet for adding these sets. Raises where they cannot be added, naming the field."""
    pool = pool_to_change(estate, request.pool)
    closed(door(pool.layout, file_system_of(DEFAULT_FILE_SYSTEM)))
    drives, findings = drives_to_add(estate, request.drives)
    after = with_sets(pool.layout, [named_after(d) for d in drives])
    count = len(after.sets) - len(pool.layout.sets)
    many = f"{count} sets" if count > 1 else "a set"
    return relayout(
        "add-sets", f"Add {many} of {pool.layout.width} drives to pool {pool.name}", pool, after, drives, findings
    )


def context(request: AddSets) -> Context:
    """What the plan is made on, and what is held while it is carried out."""
    return Context(pools=(request.pool,), drives=request.drives, read_drives=True)


KIND = ChangeKind("add-sets", Act.BUILD_POOLS, AddSets, context, plan)

LATER = Later("add-set", "add a set", door, after)

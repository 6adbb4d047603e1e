"""One more drive, or one more for each set."""

from __future__ import annotations

from dataclasses import dataclass

from pairshelf.core.changes.growing import Growing, Path, Step, alike, step_of
from pairshelf.core.changes.kind import ChangeKind, Context
from pairshelf.core.changes.later import AWAY, Later, Opening
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
from pairshelf.core.figures.durations import restripe
from pairshelf.core.layouts import Layout
from pairshelf.core.layouts.grown import with_drives
from pairshelf.core.layouts.model import Code, Family
from pairshelf.core.layouts.restripe import Moving


def door(layout: Layout, _file_system: FileSystem) -> tuple[Opening, str]:
    """Whether a layout leaves it open."""
    scheme, sets, width = layout.scheme, len(layout.sets), layout.width
    if scheme.own_protection:
        return Opening.OPEN, "Its capacity is there at once; what is written from then on is spread over it."
    if scheme.id == "span":
        return Opening.OPEN, "Its capacity is there at once."
    if scheme.id == "stripe":
        return Opening.CLOSED, f"A stripe cannot be widened. {AWAY}"
    if scheme.id == "single":
        return Opening.CLOSED, "A second drive makes it copies-2: safer, not larger. Convert it for that."
    if scheme.code is Code.COPIES:
        return Opening.CLOSED, f"Copies grow by whole sets of {width}; a single drive can only be a spare."
    if sets > 1:
        return (
            Opening.AT_A_COST,
            f"One drive for each of the {sets} sets, {sets} at once, or for one alone; everything is restriped.",
        )
    return Opening.AT_A_COST, "Everything is restriped; the capacity comes when that ends."


def grows_by_more_than_one(layout: Layout) -> str | None:
    """What is to be known of a layout that cannot grow by one drive; None where it can."""
    opening, why = door(layout, file_system_of(DEFAULT_FILE_SYSTEM))
    if opening is Opening.CLOSED:
        return f"It does not grow by one drive. {why}"
    if opening is Opening.AT_A_COST and (sets := len(layout.sets)) > 1:
        return f"It grows by {sets} drives at a time, one for each set; one alone leaves its sets unequal."
    return None


def after(growing: Growing) -> Path:
    """Drive by drive, restriped each time."""
    layout = growing.found.layout
    scheme, sets = layout.scheme, len(layout.sets)
    name = (
        "one more drive"
        if sets == 1 or scheme.family is Family.STEPPED
        else f"one more drive for each of the {sets} sets"
    )
    if scheme.id in ("stripe", "single") or scheme.code is Code.COPIES:
        return Path("add-drive", name, (), closed=door(layout, file_system_of(growing.file_system))[1])
    found: list[Step] = []
    before = growing.found
    for number in range(1, growing.steps + 1):
        grown = with_drives(before.layout, [alike(layout, (number - 1) * sets + i + 1) for i in range(sets)])
        after = growing.after(grown)
        at_once = scheme.id == "span"
        hours = 0.0 if at_once else growing.hours(restripe(Moving(before.layout, grown)).idle)
        added = format_size(alike(layout, 1).size)
        found.append(step_of(
            f"add {'a drive' if sets == 1 else f'{sets} drives'} of {added}", before, after, hours,
            "at once" if at_once else "when the restripe ends",
        ))  # fmt: skip
        before = after
    return Path("add-drive", name, tuple(found))


@dataclass(frozen=True, slots=True)
class AddDrives:
    """Make a pool larger by further drives in its sets: as many for each, dealt out set after set, or all for one."""

    pool: str
    drives: tuple[int, ...]
    #: The one set that gets them, from 1; None: as many for each.
    into: int | None = None


def plan(estate: Estate, request: AddDrives) -> RelayoutPlan:
    """The sheet for adding these drives. Raises where they cannot be added, naming the field."""
    pool = pool_to_change(estate, request.pool)
    closed(door(pool.layout, file_system_of(DEFAULT_FILE_SYSTEM)))
    drives, findings = drives_to_add(estate, request.drives)
    into = None if request.into is None else request.into - 1
    after = with_drives(pool.layout, [named_after(d) for d in drives], into)
    many = f"{len(drives)} drives" if len(drives) > 1 else "a drive"
    one = f"set {request.into} of " if into is not None and len(after.sets) > 1 else ""
    return relayout(
        "add-drives", f"Add {many} to {one}pool {pool.name}", pool, after, drives, findings, cautions=_uneven(after)
    )


def _uneven(after: Layout) -> tuple[str, ...]:
    """Sets that are not alike."""
    if after.even:
        return ()
    widest = " and ".join(str(i + 1) for i, one in enumerate(after.sets) if len(one) == after.width)
    return (
        f"Its sets will not be alike: {after.describe()}. Set {widest} takes longer to rebuild and is likelier to lose "
        "data than the others; a drive for each set keeps them alike.",
    )


def context(request: AddDrives) -> Context:
    """What the plan is made on, and what is held while it is carried out."""
    return Context(pools=(request.pool,), drives=request.drives, read_drives=True)


KIND = ChangeKind("add-drives", Act.BUILD_POOLS, AddDrives, context, plan)

LATER = Later("add-drive", "add one drive", door, after)

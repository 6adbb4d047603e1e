"""A share of flash drives held back for their endurance, or given back later: then a pool has it."""

from __future__ import annotations

from dataclasses import dataclass, replace

from pairshelf.core.changes.kind import ChangeKind, Context
from pairshelf.core.changes.pools.relayout import chosen_drives, pool_to_change, relayout
from pairshelf.core.changes.sheet import BeforeAfter, ChangeSheet, Figure, simple_sheet
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.drives import Kind, offered
from pairshelf.core.domain.estate import Estate, EstateDrive, EstatePool
from pairshelf.core.domain.words import counted
from pairshelf.core.errors import BadInput, NotPossible
from pairshelf.core.layouts import Layout
from pairshelf.core.layouts.grown import with_members

#: More than this is never held back.
MOST_HELD = 0.5


@dataclass(frozen=True, slots=True)
class HoldBack:
    """Hold a share of flash drives back, so that they last longer; or give it back: a pool grows by what it gets."""

    drives: tuple[int, ...]
    #: From 0 to 0.5.
    share: float


@dataclass(frozen=True, slots=True)
class HoldBackPlan:
    """The drives, and the pool's layout where they are members of one."""

    sheet: ChangeSheet
    drives: tuple[EstateDrive, ...]
    share: float
    pool: EstatePool | None = None
    after: Layout | None = None


def plan(estate: Estate, request: HoldBack) -> HoldBackPlan:
    """The sheet. Raises where a drive is no flash, or more would be held back of a member, naming the field."""
    share = request.share
    if not 0 <= share <= MOST_HELD:
        raise BadInput("Hold back a share from 0 to 0.5.", field="share")
    drives = _flash(estate, request)
    pools = {d.pool for d in drives}
    if len(pools) > 1:
        raise BadInput("Choose free drives, or drives of one pool.", field="drives")
    if all(d.held_share == share for d in drives):
        raise BadInput("That is held back of them already.", field="share")
    (name,) = pools
    if name is None:
        sheet = simple_sheet(
            "hold-back", f"Hold {share:.0%} of {counted(len(drives), 'flash drive')} back"
            if share else f"Give all of {counted(len(drives), 'flash drive')} free",
            "What is held back takes the place of worn cells: the drive lasts longer, and writes evenly for longer.",
            figures=tuple(
                BeforeAfter(f"{d.place} offers", Figure(bytes=d.offers), Figure(bytes=offered(d.size, share))) for d in drives
            ),
            steps=("Offer a pool that much less of them. It can be given back later, and a pool grows by it.",)
            if share else ("Offer a pool all they have.",),
        )  # fmt: skip
        return HoldBackPlan(sheet, drives, share)
    return _given_back(estate, name, drives, share)


def _flash(estate: Estate, request: HoldBack) -> tuple[EstateDrive, ...]:
    if not request.drives:
        raise BadInput("Choose the drives.", field="drives")
    found = chosen_drives(estate, request.drives)
    for drive in found:
        if drive.kind is Kind.HDD:
            raise NotPossible(
                f"{drive.place} ({drive.serial}) rotates; only flash is worn by writing.",
                code="not-flash",
                field="drives",
            )
        if drive.service != "in-use" and (reason := drive.why_not_offered()):
            raise NotPossible(f"{drive.place} ({drive.serial}): {reason}", code="drive-not-free", field="drives")
    return tuple(found)


def _given_back(estate: Estate, name: str, drives: tuple[EstateDrive, ...], share: float) -> HoldBackPlan:
    pool = pool_to_change(estate, name)
    if any(share > d.held_share for d in drives):
        raise NotPossible(
            "What a pool has cannot be held back any more: its drives were built in with less.", code="in-use", field="share"
        )  # fmt: skip
    slots = {p.drive.id: p.slot for p in pool.places if p.drive is not None}
    members = pool.layout.members
    larger = {
        slots[d.id]: replace(members[slots[d.id]], size=max(members[slots[d.id]].size, offered(d.size, share)))
        for d in drives if d.id in slots
    }  # fmt: skip
    after = with_members(pool.layout, larger)
    few = after.stock == pool.layout.stock
    planned = relayout(
        "hold-back", f"Give back what is held back of {counted(len(drives), 'drive')} of pool {pool.name}",
        pool, after, (), (),
        cautions=("It brings nothing until as much of the others of the set is given back.",) if few else (),
        fixed=("What a pool has been given is not held back again.",),
    )  # fmt: skip
    return HoldBackPlan(planned.sheet, drives, share, pool, after)


def context(request: HoldBack) -> Context:
    """What the plan is made on, and what is held while it is carried out."""
    return Context(drives=request.drives, pools_of_drives=True)


KIND = ChangeKind("hold-back", Act.BUILD_POOLS, HoldBack, context, plan)

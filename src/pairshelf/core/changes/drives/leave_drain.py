"""Draining left off: what has moved stays where it is, what has not stays where it was."""

from __future__ import annotations

from dataclasses import dataclass

from pairshelf.core.changes.kind import ChangeKind, Context
from pairshelf.core.changes.sheet import BeforeAfter, ChangeSheet, Figure, drives_leave, simple_sheet
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.estate import Estate, EstateDrain, EstateDrive
from pairshelf.core.errors import NotFound, NotPossible


@dataclass(frozen=True, slots=True)
class LeaveDrain:
    """Leave draining off: drives that are not empty yet stay in their pools, and spread pools fill them again."""

    drain: int


@dataclass(frozen=True, slots=True)
class LeaveDrainPlan:
    """The drain, and what becomes of what it moves just now."""

    sheet: ChangeSheet
    drain: EstateDrain
    #: Copies that end: (pool, slot).
    copies: tuple[tuple[int, int], ...]
    #: Spread pools whose members stay.
    pools: tuple[int, ...]


def plan(estate: Estate, request: LeaveDrain) -> LeaveDrainPlan:
    """The sheet. NotPossible where it has ended."""
    found = next((d for d in estate.drains if d.id == request.drain), None)
    if found is None:
        raise NotFound("drain", str(request.drain), field="drain")
    if not found.open:
        raise NotPossible("This draining has ended.", code="ended", field="drain")
    own = set(found.drives)
    copies, pools, stay = [], [], 0
    onto = list[EstateDrive]()
    for pool in estate.pools:
        mine = [p for p in pool.places if p.drive is not None and p.drive.id in own]
        stay += len(mine)
        beside = {slot for slot, _ in pool.copies}
        copies += [(pool.id, p.slot) for p in mine if p.slot in beside]
        onto += [drive for slot, drive in pool.copies if any(p.slot == slot for p in mine)]
        if any(p.draining for p in mine):
            pools.append(pool.id)
    names = sorted(p.name for p in estate.pools if p.id in pools)
    sheet = simple_sheet(
        "leave-drain", f"Leave draining {found.subject} off",
        f"{stay} drive{'s stay' if stay != 1 else ' stays'} where {'they are' if stay != 1 else 'it is'}; those that are empty already are free.",
        figures=(BeforeAfter("Drives that leave", Figure(text=str(len(found.drives))), Figure(text=str(len(found.drives) - stay))),),
        steps=(
            *(("End the copying of members; the drives they were copied onto are free again.",) if copies else ()),
            *((f"Let {' and '.join(names)} use the drives again, and even out what had been moved, gently.",) if names else ()),
            "Let new data be placed there again.",
        ),
        cautions=("Members that have handed their places over do not go back by this; replace them again for that.",) if copies else (),
        role="administrator", effect=drives_leave(onto),
    )  # fmt: skip
    return LeaveDrainPlan(sheet, found, tuple(copies), tuple(pools))


def context(request: LeaveDrain) -> Context:
    """What the plan is made on, and what is held while it is carried out."""
    return Context(drains=(request.drain,), pools_of_drives=True)


KIND = ChangeKind("leave-drain", Act.BUILD_POOLS, LeaveDrain, context, plan)

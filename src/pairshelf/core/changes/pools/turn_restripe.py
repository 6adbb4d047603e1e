"""The front of a restripe turned round: back to the layout it came from, or on again."""

from __future__ import annotations

from dataclasses import dataclass

from pairshelf.core.changes.kind import ChangeKind, Context
from pairshelf.core.changes.sheet import (
    BeforeAfter,
    ChangeSheet,
    Figure,
    Takes,
    drives_leave,
    pool_effect,
    simple_sheet,
    together,
)
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.estate import Estate, EstatePool
from pairshelf.core.domain.units import EXTENT
from pairshelf.core.domain.words import counted
from pairshelf.core.errors import NotPossible
from pairshelf.core.figures.durations import at_rate
from pairshelf.core.layouts import Layout
from pairshelf.core.layouts.restriping import Restriping


@dataclass(frozen=True, slots=True)
class TurnRestripe:
    """Turn the front of a pool that is being restriped round: it goes back, or, if it goes back already, on again."""

    pool: str


@dataclass(frozen=True, slots=True)
class TurnRestripePlan:
    """The pool, and which way its front goes then."""

    sheet: ChangeSheet
    pool: EstatePool
    #: Back to the layout it came from.
    back: bool


def plan(estate: Estate, request: TurnRestripe) -> TurnRestripePlan:
    """The sheet for turning round. NotPossible where nothing is restriped, or there is no way back."""
    pool = estate.pool_named(request.pool)
    layout = pool.layout
    if not isinstance(layout, Restriping):
        raise NotPossible(
            f"{pool.name} is not being restriped; there is no front to turn round.", code="no-front", field="pool"
        )
    back = not layout.turned
    if not layout.turned_round().walk.possible:
        raise NotPossible("From the new layout one front cannot lead back to the old one.", code="no-way", field="pool")
    goal = layout.both.old if back else layout.both.new
    # What is shown must not change while the front moves on.
    takes = at_rate(layout.both.seconds())
    stays = range(len(layout.both.old.members)) if back else layout.both.numbers
    left = [p for p in pool.places if p.slot not in stays]
    sheet = simple_sheet(
        "turn-restripe",
        f"Turn the restripe of pool {pool.name} round" if back else f"Let the restripe of pool {pool.name} go on again",
        f"The front goes {'back' if back else 'on'} to {goal.scheme.id}, {goal.describe()}.",
        figures=(BeforeAfter("Goes to", Figure(text=_named(layout.both.new if back else layout.both.old)), Figure(text=_named(goal))),),
        takes=(Takes.of("Restripe, at most", takes),),
        meanwhile=("Reading and writing go on, and protection does not drop. It can be turned round again.",),
        steps=(
            "Move what the front has passed back to where it was, extent by extent." if back
            else "Move extent after extent to its new place.",
            *((f"Let {counted(len(left), 'drive')} that {'came for it' if back else 'it does without'} go, free.",) if left else ()),
        ),
        fixed=tuple(f"{p.drive.named} leaves the pool {'again when the front is back' if back else 'when the front has arrived'}." for p in left if p.drive),
        effect=together(pool_effect(pool.spread, capacity=layout.turned_round().to_come * EXTENT), drives_leave(p.drive for p in left if p.drive)),
    )  # fmt: skip
    return TurnRestripePlan(sheet, pool, back)


def _named(layout: Layout) -> str:
    return f"{layout.scheme.id}, {layout.describe()}"


def context(request: TurnRestripe) -> Context:
    """What the plan is made on, and what is held while it is carried out."""
    return Context(pools=(request.pool,))


KIND = ChangeKind("turn-restripe", Act.BUILD_POOLS, TurnRestripe, context, plan)

"""What stands in a spread pool spread over its drives anew, so that all are filled alike."""

from __future__ import annotations

from dataclasses import dataclass

from pairshelf.core.changes.kind import ChangeKind, Context
from pairshelf.core.changes.pools.relayout import require_beside
from pairshelf.core.changes.sheet import BeforeAfter, ChangeSheet, Figure, Takes, simple_sheet
from pairshelf.core.changes.volumes.volume_plan import serving
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.estate import Estate, EstatePool
from pairshelf.core.domain.units import EXTENT, format_size
from pairshelf.core.errors import NotPossible
from pairshelf.core.figures.durations import at_rate
from pairshelf.core.layouts.spread import spread_of
from pairshelf.core.layouts.stripe_moves import uneven_extents, uneven_seconds


@dataclass(frozen=True, slots=True)
class EvenOut:
    """Spread what stands in a spread pool over all its drives, so that they are filled alike."""

    pool: str


@dataclass(frozen=True, slots=True)
class EvenOutPlan:
    """The pool, and how many extents have to move at least."""

    sheet: ChangeSheet
    pool: EstatePool
    extents: int


def plan(estate: Estate, request: EvenOut) -> EvenOutPlan:
    """The sheet. NotPossible where it is even already, or the pool is none that can be."""
    pool = estate.pool_named(request.pool)
    serving(pool)
    if not pool.spread:
        raise NotPossible(
            f"{pool.name} is no spread pool: its sets are even as they are.", code="not-spread", field="pool"
        )
    require_beside(pool, "even-out")
    layout = spread_of(pool.layout)
    closed = [p.slot for p in pool.places if p.closed]
    extents = uneven_extents(layout, closed)
    if not extents:
        raise NotPossible(f"The drives of {pool.name} are filled alike already.", code="even", field="pool")
    shares = [
        round(100 * used / drive.extents)
        for slot, (drive, used) in enumerate(zip(layout.members, layout.used_extents, strict=True)) if slot not in closed
    ]  # fmt: skip
    level = round(100 * sum(layout.used_extents) / layout.stock)
    sheet = simple_sheet(
        "even-out", f"Even out pool {pool.name}", f"About {format_size(extents * EXTENT)} move from fuller drives to emptier ones.",
        figures=(
            BeforeAfter("The emptiest drive is filled", Figure(text=f"{min(shares)} %"), Figure(text=f"about {level} %")),
            BeforeAfter("The fullest drive is filled", Figure(text=f"{max(shares)} %"), Figure(text=f"about {level} %")),
        ),
        takes=(Takes.of("Evening out", at_rate(uneven_seconds(layout, extents))),),
        meanwhile=(
            "Volumes stay in use, and protection does not drop.",
            "It goes gently unless made fast, and can be paused. Power may go off: it goes on where it stopped.",
        ),
        steps=("Move extent by extent, no two of a stripe into one failure domain.",),
        role="operator",
    )  # fmt: skip
    return EvenOutPlan(sheet, pool, extents)


def context(request: EvenOut) -> Context:
    """What the plan is made on, and what is held while it is carried out."""
    return Context(pools=(request.pool,))


KIND = ChangeKind("even-out", Act.MANAGE_VOLUMES, EvenOut, context, plan)

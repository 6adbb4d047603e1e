"""What the drives of a pool have more than it uses: after larger ones came into the places of failed ones."""

from __future__ import annotations

from dataclasses import dataclass

from pairshelf.core.changes.kind import ChangeKind, Context
from pairshelf.core.changes.pools.relayout import RelayoutPlan, pool_to_change, relayout
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.estate import Estate, EstatePool
from pairshelf.core.errors import NotPossible
from pairshelf.core.layouts import Layout
from pairshelf.core.layouts.grown import with_room


@dataclass(frozen=True, slots=True)
class UseRoom:
    """Give a pool what its drives have more than it uses, where larger ones have taken the places of smaller ones."""

    pool: str


def room_of(pool: EstatePool) -> Layout:
    """The pool as it would be if it used all of its drives: some may be larger than their places were made with."""
    return with_room(pool.layout, {p.slot: p.drive.offers for p in pool.places if p.drive is not None})


def plan(estate: Estate, request: UseRoom) -> RelayoutPlan:
    """The sheet. NotPossible where there is nothing more to use."""
    pool = pool_to_change(estate, request.pool)
    after = room_of(pool)
    if after.stock <= pool.layout.stock:
        raise NotPossible("Its drives have nothing more that it could use.", code="no-more-room", field="pool")
    return relayout("use-room", f"Use all that the drives of pool {pool.name} have", pool, after, (), ())


def context(request: UseRoom) -> Context:
    """What the plan is made on, and what is held while it is carried out."""
    return Context(pools=(request.pool,))


KIND = ChangeKind("use-room", Act.BUILD_POOLS, UseRoom, context, plan)

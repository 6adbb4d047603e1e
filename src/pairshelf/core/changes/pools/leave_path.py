"""A path of larger drives left before its end: what has come stays, the rest does not come."""

from __future__ import annotations

from dataclasses import dataclass

from pairshelf.core.changes.kind import ChangeKind, Context
from pairshelf.core.changes.sheet import BeforeAfter, ChangeSheet, Figure, simple_sheet
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.estate import Estate, EstatePool
from pairshelf.core.errors import NotPossible


@dataclass(frozen=True, slots=True)
class LeavePath:
    """Leave the path on which larger drives come to a pool: what has come stays."""

    pool: str


@dataclass(frozen=True, slots=True)
class LeavePathPlan:
    """The pool whose path ends."""

    sheet: ChangeSheet
    pool: EstatePool


def plan(estate: Estate, request: LeavePath) -> LeavePathPlan:
    """The sheet. NotPossible where there is no path."""
    pool = estate.pool_named(request.pool)
    if not pool.path:
        raise NotPossible(f"{pool.name} is on no path.", code="no-path", field="pool")
    done = sum(came for _, _, came in pool.path)
    sheet = simple_sheet(
        "leave-path", f"Leave the path of larger drives for pool {pool.name}",
        f"{done} of {len(pool.path)} have come and stay; the others do not come.",
        figures=(BeforeAfter("Steps to come", Figure(text=str(len(pool.path) - done)), Figure(text="0")),),
        steps=("Forget what was still to come; a new path can be planned at any time.",),
    )  # fmt: skip
    return LeavePathPlan(sheet, pool)


def context(request: LeavePath) -> Context:
    """What the plan is made on, and what is held while it is carried out."""
    return Context(pools=(request.pool,))


KIND = ChangeKind("leave-path", Act.BUILD_POOLS, LeavePath, context, plan)

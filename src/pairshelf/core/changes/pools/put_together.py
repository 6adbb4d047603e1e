"""A pool that was taken apart, put together again while nothing was written on its drives; or that given up."""

from __future__ import annotations

from dataclasses import dataclass

from pairshelf.core.changes.kind import ChangeKind, Context
from pairshelf.core.changes.sheet import BeforeAfter, ChangeSheet, Effect, Figure, pool_effect, simple_sheet, together
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.estate import Estate, FormerPool
from pairshelf.core.domain.units import EXTENT
from pairshelf.core.errors import NotFound, NotPossible


@dataclass(frozen=True, slots=True)
class PutTogether:
    """Put a pool together again that was taken apart."""

    former: int


@dataclass(frozen=True, slots=True)
class LetGo:
    """Give up that a pool can be put together again: its drives can be wiped and used from then on."""

    former: int


@dataclass(frozen=True, slots=True)
class FormerPlan:
    """The pool that was."""

    sheet: ChangeSheet
    former: FormerPool


def _former(estate: Estate, number: int) -> FormerPool:
    found = next((f for f in estate.former if f.id == number), None)
    if found is None:
        raise NotFound("former pool", str(number), field="former")
    if found.back:
        raise NotPossible(f"{found.name} has been put together again.", code="already-back", field="former")
    if found.over:
        raise NotPossible(
            f"The time in which {found.name} could be put together again is over.", code="too-late", field="former"
        )
    return found


def plan(estate: Estate, request: PutTogether) -> FormerPlan:
    """The sheet. NotPossible where something was written on one of its drives, too many are away, or time is over."""
    former = _former(estate, request.former)
    if former.name.lower() in estate.pool_names:
        raise NotPossible(
            f"There is a pool {former.name} now; rename or take that apart first.", code="name-taken", field="former"
        )
    if former.spoilt:
        raise NotPossible(
            f"{', '.join(former.spoilt)}: used, wiped or written on since. It cannot be put together again.",
            code="written-since", field="former",
        )  # fmt: skip
    if len(former.away) > former.survives:
        raise NotPossible(
            f"{', '.join(former.away)} {'is' if len(former.away) == 1 else 'are'} away; "
            f"{len(former.away) - former.survives} more of them must be there.", code="too-few", field="former",
        )  # fmt: skip
    sheet = simple_sheet(
        "put-together", f"Put pool {former.name} together again",
        f"Its {former.drives} drives and {former.volumes} volumes are as they were when it was taken apart.",
        figures=(
            BeforeAfter("Pool capacity", Figure(text="none"), Figure(bytes=former.extents * EXTENT)),
            BeforeAfter("Allocated to volumes", Figure(text="none"), Figure(bytes=former.taken * EXTENT)),
        ),
        steps=(
            "Look at every drive: its label is still that of the pool.",
            "Take the pool, its volumes and their files into the books again.",
        ),
        meanwhile=("Mounts, shares and targets are not made again by this; draw them up anew.",),
        cautions=tuple(f"{s} is away: the pool comes back without it." for s in former.away),
        effect=together(
            pool_effect(former.spread, capacity=former.extents * EXTENT, given=former.taken * EXTENT),
            Effect(in_use=former.drives, free=len(former.away) - former.drives),
        ),
    )  # fmt: skip
    return FormerPlan(sheet, former)


def plan_to_let_go(estate: Estate, request: LetGo) -> FormerPlan:
    """The sheet for giving up that it can come back."""
    former = _former(estate, request.former)
    sheet = simple_sheet(
        "let-go", f"No longer keep pool {former.name} for putting together again",
        "Its drives can be wiped and used from then on.",
        steps=("Forget what the pool was.", *(("Forget its key, too: what is encrypted on its drives stays so.",) if former.encrypted else ())),
        gives_up=(f"That {former.name} can be put together again.",), confirm=former.name,
    )  # fmt: skip
    return FormerPlan(sheet, former)


def context(request: PutTogether | LetGo) -> Context:
    """What the plan is made on, and what is held while it is carried out."""
    return Context(former=(request.former,))


KIND = ChangeKind("put-together", Act.BUILD_POOLS, PutTogether, context, plan)
LET_GO = ChangeKind("let-go", Act.BUILD_POOLS, LetGo, context, plan_to_let_go, approved_by=Act.LET_GO)

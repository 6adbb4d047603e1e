"""What volumes have of a pool moved together at its beginning, so that the rest is free in one stretch at its end: as
a pool needs that is to become smaller."""

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
from pairshelf.core.figures.speed import sequential_read, sequential_write
from pairshelf.core.layouts import Layout
from pairshelf.core.layouts.allocation import beyond, gaps


@dataclass(frozen=True, slots=True)
class MoveTogether:
    """Move what volumes have to the beginning of a pool, so that its end is free."""

    pool: str


@dataclass(frozen=True, slots=True)
class MoveTogetherPlan:
    """The pool, and how many extents are moved."""

    sheet: ChangeSheet
    pool: EstatePool
    extents: int


def stands_apart(pool: EstatePool) -> int:
    """Extents that would have to move for all to stand together; 0 where they do, or addresses are not the pool's."""
    if pool.spread or pool.table is not None:
        return 0
    return beyond(gaps(pool.capacity, pool.gaps))


def moving_seconds(layout: Layout, extents: int) -> float:
    """The drives' time to read so many extents and write them elsewhere."""
    return extents * EXTENT * (1 / sequential_read(layout) + 1 / sequential_write(layout))


def plan(estate: Estate, request: MoveTogether) -> MoveTogetherPlan:
    """The sheet. NotPossible where all stands together, or other work is under way."""
    pool = estate.pool_named(request.pool)
    serving(pool)
    require_beside(pool, "move-together")
    extents = stands_apart(pool)
    if not extents:
        raise NotPossible(f"What is in {pool.name} stands together already.", code="together", field="pool")
    end, whole = pool.reaches_to, pool.capacity - pool.free
    sheet = simple_sheet(
        "move-together", f"Move what is in pool {pool.name} together",
        f"{format_size(extents * EXTENT)} are moved; its last {format_size(pool.free * EXTENT)} are free then.",
        figures=(
            BeforeAfter("Volumes reach to", Figure(bytes=end * EXTENT), Figure(bytes=whole * EXTENT)),
            BeforeAfter("Free at its end", Figure(bytes=(pool.capacity - end) * EXTENT), Figure(bytes=pool.free * EXTENT)),
        ),
        takes=(Takes.of("Moving together", at_rate(moving_seconds(pool.layout, extents))),),
        meanwhile=(
            "Volumes stay in use, and protection does not drop: each extent is written in its new place before "
            "the old one is let go.",
            "It can be paused. Power may go off and the page may be closed: it goes on where it stopped.",
        ),
        steps=("Copy what stands last into the gaps before it, extent by extent.", "Let the old places go, free."),
        role="operator",
    )  # fmt: skip
    return MoveTogetherPlan(sheet, pool, extents)


def context(request: MoveTogether) -> Context:
    """What the plan is made on, and what is held while it is carried out."""
    return Context(pools=(request.pool,))


KIND = ChangeKind("move-together", Act.MANAGE_VOLUMES, MoveTogether, context, plan)

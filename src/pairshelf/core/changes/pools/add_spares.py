"""Drives that stand by for a pool that is there already, for each shelf they stand on, or for all pools."""

from __future__ import annotations

from dataclasses import dataclass

from pairshelf.core.changes.kind import ChangeKind, Context
from pairshelf.core.changes.pools.build_pool import SPARES_FOR
from pairshelf.core.changes.pools.relayout import drives_to_add
from pairshelf.core.changes.sheet import BeforeAfter, ChangeSheet, Erased, Figure, drives_come
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.estate import Estate, EstateDrive, EstatePool
from pairshelf.core.domain.words import listed
from pairshelf.core.errors import BadInput, NotPossible


@dataclass(frozen=True, slots=True)
class AddSpares:
    """Let drives stand by: each takes the place of a failed drive that it is large enough for, by itself."""

    pool: str
    drives: tuple[int, ...]
    #: What they stand by for: pool, shelf or all.
    spares_for: str = "pool"


@dataclass(frozen=True, slots=True)
class AddSparesPlan:
    """The pool, and its new spares."""

    sheet: ChangeSheet
    pool: EstatePool
    drives: tuple[EstateDrive, ...]
    spares_for: str


def plan(estate: Estate, request: AddSpares) -> AddSparesPlan:
    """The sheet. Raises where a drive cannot stand by, naming the field."""
    pool = estate.pool_named(request.pool)
    if request.spares_for not in SPARES_FOR:
        raise BadInput(f"Choose what spares stand by for: {listed(SPARES_FOR, 'or')}.", field="spares_for")
    if pool.table is not None:
        raise NotPossible(
            "It is one drive, divided into partitions; nothing can take its place.", code="divided", field="pool"
        )
    if pool.spread:
        raise NotPossible(
            "A spread pool has no spares: its other drives take over what a failed one held. Add the drive to it instead.",
            code="closed", field="pool",
        )  # fmt: skip
    drives, findings = drives_to_add(estate, request.drives)
    if not drives:
        raise BadInput("Choose the drives that are to stand by.", field="drives")
    needed = [pool.layout.needs(p.slot) for p in pool.places]
    for drive in drives:
        if request.spares_for == "pool" and drive.as_drive.extents < min(needed):
            raise NotPossible(
                f"{drive.named} is smaller than every drive of {pool.name}; it could take no place.", code="too-small",
                field="drives",
            )  # fmt: skip
    small = [d for d in drives if d.as_drive.extents < max(needed)]
    stand_by = {"pool": pool.name, "shelf": "every pool on its shelf", "all": "all pools"}[request.spares_for]
    many = len(drives) > 1
    cautions = [f"{d.named} is smaller than some of its drives, and cannot take the place of those." for d in small]
    if pool.layout.scheme.survives == 0:
        cautions.append(
            f"{pool.name} bears no failure: a spare helps only while a failing drive still reads and is copied onto it."
        )
    sheet = ChangeSheet(
        kind="add-spares",
        title=f"{'Let ' + str(len(drives)) + ' drives' if many else 'Let ' + drives[0].place} stand by for {stand_by}",
        why=f"{'Each takes' if many else 'It takes'} the place of a failed drive by itself, as soon as one fails.",
        figures=(
            BeforeAfter("Spares", Figure(text=str(len(pool.spares))), Figure(text=str(len(pool.spares) + len(drives)))),
        ),
        erases=tuple(Erased(d.id, d.place, d.serial, d.size, d.holds) for d in drives),
        takes=(),
        meanwhile=(),
        fixed=(),
        steps=(
            f"Check again that {'they are' if many else 'it is'} free, and {'answer' if many else 'answers'}.",
            f"Write the pool's label on {'them' if many else 'it'}.",
        ),
        findings=tuple(findings),
        effect=drives_come(drives),
        cautions=tuple(cautions),
        confirm=pool.name if any(d.holds for d in drives) else None,
        role="administrator",
    )  # fmt: skip
    return AddSparesPlan(sheet, pool, tuple(drives), request.spares_for)


def context(request: AddSpares) -> Context:
    """What the plan is made on, and what is held while it is carried out."""
    return Context(pools=(request.pool,), drives=request.drives, read_drives=True)


KIND = ChangeKind("add-spares", Act.BUILD_POOLS, AddSpares, context, plan)

"""A pool taken apart: what stands on it ends, its volumes go, its drives are free with old data readable."""

from __future__ import annotations

from dataclasses import dataclass

from pairshelf.core.changes.kind import NETWORK, PEOPLE, ChangeKind, Context
from pairshelf.core.changes.sheet import (
    BeforeAfter,
    ChangeSheet,
    Figure,
    drives_leave,
    pool_effect,
    simple_sheet,
    together,
)
from pairshelf.core.changes.volumes.volume_plan import backup_said, files_given_up
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.estate import Estate, EstateDrive, EstatePool, EstateVolume
from pairshelf.core.domain.units import EXTENT
from pairshelf.core.domain.words import counted
from pairshelf.core.errors import BadInput, Busy, NotPossible

#: Days that a pool can be put together again at most, and unless something else is said.
MOST_DAYS, USUAL_DAYS = 90, 7


@dataclass(frozen=True, slots=True)
class TakeApart:
    """Take a pool apart: its volumes go, its drives are free with old data readable."""

    pool: str
    #: Days in which it can be put together again, while nothing was written on its drives; 0: never.
    keep_days: int = USUAL_DAYS
    #: Though its data can be read, or will be once what is away is back.
    all_the_same: bool = False


#: Why a pool that is not whole is not taken apart without a second thought.
_NOT_IN_PANIC = {
    "degraded": "All its data can be read. A replacement is all that is missing.",
    "unprotected": "All its data can be read. A replacement is all that is missing.",
    "unreachable": "Nothing is lost: once what is away is back, it goes on where it was.",
}


@dataclass(frozen=True, slots=True)
class TakeApartPlan:
    """The pool with all that hangs on it."""

    sheet: ChangeSheet
    pool: EstatePool
    volumes: tuple[EstateVolume, ...]
    keep_days: int


def plan(estate: Estate, request: TakeApart) -> TakeApartPlan:
    """The sheet. Raises for a drive divided into partitions, for days that cannot be, and for a pool that is not whole and
    not lost, unless it is said that it goes all the same."""
    pool = estate.pool_named(request.pool)
    if pool.table is not None:
        raise NotPossible(
            "It is one drive, divided into partitions; delete them and write the empty table.",
            code="divided",
            field="pool",
        )
    if any(u.kind in ("move-volume", "move-in") for u in pool.under_way):
        raise Busy(
            f"A volume is being moved to {pool.name} or from it; wait for that, or leave it off.", job=None, kind="take-apart",
            code="busy",
        )  # fmt: skip
    if pool.state in _NOT_IN_PANIC and not request.all_the_same:
        raise NotPossible(
            f"{pool.name} is {pool.state}. {_NOT_IN_PANIC[pool.state]} If it is to go all the same, say so.",
            code="not-in-panic", field="all_the_same",
        )  # fmt: skip
    if not 0 <= request.keep_days <= MOST_DAYS:
        raise BadInput(f"It can be put together again for 0 to {MOST_DAYS} days.", field="keep_days")
    volumes = tuple(v for v in estate.volumes if v.pool == pool.name)
    refs = {v.ref for v in volumes}
    mounts = [m for m in estate.mounts if m.volume in refs]
    shares = [s for s in estate.shares if s.volume in refs]
    targets = [(t, [v for _, v in t.luns if v in refs]) for t in estate.targets if any(v in refs for _, v in t.luns)]
    applications = [a for a in estate.applications if a.volume in refs]
    people = sorted({p for s in shares for p, _ in s.rights})
    members = [p.drive for p in pool.places if p.drive is not None]
    drives: list[EstateDrive] = [*members, *pool.spares, *(d for _, d in pool.copies)]
    away = [d for d in drives if d.condition == "missing"]
    ruled = [v for v in volumes if v.keep_above is not None]
    files = sum(v.files for v in volumes)
    steps = (
        "End whatever job works on it.",
        *(f"Stop {a.name} on {a.host}: it writes to {a.volume}." for a in applications),
        *(f"End share {s.name} of {s.volume}." for s in shares),
        *(f"Take {', '.join(own)} out of target {t.iqn}." for t, own in targets),
        *(f"Unmount {m.volume} from {m.at} on {m.host}." for m in mounts),
        *(f"End the keep rule of {v.ref}." for v in ruled),
        *(f"Let volume {v.ref} go." for v in volumes),
        f"Let {counted(len(drives), 'drive')} go: free, old data readable.",
        *(("Forget its key.",) if pool.encrypted and not request.keep_days else ()),
    )  # fmt: skip
    kept = f"within {counted(request.keep_days, 'day')}" if request.keep_days else ""
    sheet = simple_sheet(
        "take-apart", f"Take pool {pool.name} apart",
        f"It is {pool.state}. Its drives become free; what is on them stays readable until they are wiped.",
        figures=(
            BeforeAfter("Pool", Figure(bytes=pool.holds), Figure(text="none")),
            BeforeAfter("Volumes", Figure(text=str(len(volumes))), Figure(text="0")),
            BeforeAfter("Files on them", Figure(text=str(files)), Figure(text="0")),
            BeforeAfter("Free drives", Figure(text="as now"), Figure(text=f"{len(drives)} more")),
        ),
        meanwhile=(
            f"Undo: {kept} it can be put together again, while nothing was written on its drives. Mounts, shares and targets "
            "have to be made anew then." if kept else "There is no undo.",
        ),
        gives_up=tuple(line for v in volumes for line in files_given_up(v)),
        cautions=(
            *(line for v in volumes for line in backup_said(estate, v)),
            *((f"{', '.join(people)} reach{'es' if len(people) == 1 else ''} files on it through shares.",) if people else ()),
            *((f"It is {pool.state}: what could still be got off it is given up, too.",) if pool.state in ("unreachable", "degraded", "unprotected") else ()),
            *(("Its files cannot be read while it is locked; nobody can look at them before.",) if pool.locked else ()),
        ),
        fixed=(
            *(f"{d.named} is away: it stays as it is, with its data, and says so when it is back." for d in away),
            "Nothing is wiped by this. To be sure that nobody reads it, wipe the drives afterwards.",
        ),
        steps=steps, confirm=pool.name,
        effect=together(
            pool_effect(pool.spread, capacity=-pool.holds, given=(pool.free - pool.capacity) * EXTENT),
            drives_leave(drives),
        ),
    )  # fmt: skip
    return TakeApartPlan(sheet, pool, volumes, request.keep_days)


def context(request: TakeApart) -> Context:
    """What the plan is made on, and what is held while it is carried out."""
    return Context(pools=(request.pool,), alone=(PEOPLE, NETWORK))


KIND = ChangeKind("take-apart", Act.BUILD_POOLS, TakeApart, context, plan, approved_by=Act.LET_GO, in_pairs=True)

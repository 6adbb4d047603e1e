"""What all changes have in common that lead a pool to another layout: what is looked at, and the sheet."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Sequence
from dataclasses import dataclass, replace

from pairshelf.core.changes.later import Opening
from pairshelf.core.changes.sheet import (
    BeforeAfter,
    ChangeSheet,
    Erased,
    Figure,
    Finding,
    Takes,
    drives_come,
    drives_leave,
    left_in_pool,
    pool_effect,
    together,
)
from pairshelf.core.domain.drives import Drive
from pairshelf.core.domain.estate import Estate, EstateDrive, EstatePlace, EstatePool
from pairshelf.core.domain.file_systems import DEFAULT_FILE_SYSTEM, file_system_of
from pairshelf.core.domain.units import EXTENT, format_size
from pairshelf.core.domain.words import counted, survives_any
from pairshelf.core.errors import BadInput, Busy, Gone, Locked, NotPossible, NotServing
from pairshelf.core.figures import durations
from pairshelf.core.figures.survival import Survival, survival
from pairshelf.core.layouts import Layout
from pairshelf.core.layouts.registry import trade_name
from pairshelf.core.layouts.restripe import Moving
from pairshelf.core.layouts.spread import spread_of
from pairshelf.core.layouts.stripe_moves import uneven_extents, uneven_seconds
from pairshelf.core.policies.beside import Under, refused
from pairshelf.core.policies.readiness import readiness, require_ready


@dataclass(frozen=True, slots=True)
class RelayoutPlan:
    """A pool, the layout it goes to, and the drives that come and go."""

    sheet: ChangeSheet
    pool: EstatePool
    #: Members that are there have their slot's number for an id, those that come their drive's: ``drive-7``.
    after: Layout
    added: tuple[EstateDrive, ...]
    freed: tuple[EstatePlace, ...]


def pool_to_change(estate: Estate, name: str) -> EstatePool:
    """The pool of that name. NotPossible while its layout cannot be changed: it is away, locked, not whole."""
    pool = estate.pool_named(name)
    if pool.table is not None:
        raise NotPossible("It is one drive, divided into partitions; it has no layout to change.", code="divided")
    if pool.state in ("lost", "unreachable"):
        raise NotServing(pool.name, pool.state, "nothing can be changed in it now")
    if pool.locked:
        raise Locked(pool.name)
    require_beside(pool, "add-sets")
    away = [p for p in pool.places if p.state not in ("active", "emptied")]
    if away:
        raise NotPossible(
            f"{len(away)} of its drives {'is' if len(away) == 1 else 'are'} away or being filled; "
            "replace what is missing first.", code="degraded",
        )  # fmt: skip
    return pool


def require_beside(pool: EstatePool, kind: str) -> None:
    """Busy where what is under way does not go with a change of the layout (at once, as sets are added, or by a restripe)."""
    found = refused(Under(kind), pool.under_way)
    if found is not None:
        raise Busy(found.said, job=None, kind=kind, code=found.code)


def chosen_drives(estate: Estate, ids: Sequence[int]) -> list[EstateDrive]:
    """The drives of these ids. Gone for one that is not there, BadInput for one named twice."""
    found = []
    for drive_id, count in Counter(ids).items():
        drive = estate.drive(drive_id)
        if drive is None:
            raise Gone("drive", drive_id, field="drives")
        if count > 1:
            raise BadInput(f"{drive.place} is chosen twice.", field="drives")
        found.append(drive)
    return found


def drives_to_add(estate: Estate, ids: Sequence[int]) -> tuple[list[EstateDrive], list[Finding]]:
    """Drives that come to a pool, and what was found of them. NotPossible with every reason where one cannot have a
    duty."""
    found = chosen_drives(estate, ids)
    if not found:
        return [], []
    findings = readiness(found, dict(estate.silent))
    require_ready(findings)
    return found, findings


def named_after(drive: EstateDrive) -> Drive:
    """A drive that comes to a pool, as the layout after the change names it."""
    return replace(drive.as_drive, id=f"drive-{drive.id}", serial=drive.serial)


def closed(opening: tuple[Opening, str]) -> None:
    """NotPossible where a layout leaves a door closed, with the way round."""
    if opening[0] is Opening.CLOSED:
        raise NotPossible(opening[1], code="closed", field="pool")


def relayout(
    kind: str, title: str, pool: EstatePool, after: Layout, added: Sequence[EstateDrive], findings: Sequence[Finding],
    *, freed: Collection[int] = (), cautions: Sequence[str] = (), fixed: Sequence[str] = (),
) -> RelayoutPlan:  # fmt: skip
    """The plan and its sheet. NotPossible where no front leads there, or what is stored would not fit."""
    before = pool.layout
    moving = Moving(before, after)
    copies = moving.only_copies
    at_once = moving.at_once
    require_beside(pool, "add-sets" if at_once or copies else "restripe")
    lost = before.stock - after.stock
    if lost > 0:
        _require_room(pool, after)
    walks = not (at_once or copies)
    if walks:
        moving.walk()
    leaving = [p for p in pool.places if p.slot in freed]
    now, then = survival(before), survival(after)
    takes = _takes(moving, at_once=at_once, copies=copies)
    evened = uneven_extents(spread_of(after)) if pool.spread and added else 0
    if evened:
        takes = (*takes, Takes.of("Evening out", durations.at_rate(uneven_seconds(spread_of(after), evened))))
    sheet = ChangeSheet(
        kind=kind,
        title=title,
        why=_why(pool, before, after, added, leaving),
        figures=(
            BeforeAfter("Capacity of its drives" if pool.spread else "Pool capacity",
                        Figure(bytes=before.stock * EXTENT), Figure(bytes=after.stock * EXTENT)),
            left_in_pool(pool, pool.free - lost),
            BeforeAfter("Drives", Figure(text=str(len(before.members))), Figure(text=str(len(after.members)))),
            *(() if pool.spread else (
                BeforeAfter("Layout", Figure(text=_named(before)), Figure(text=_named(after))),
                BeforeAfter("Failures survived, guaranteed", Figure(text=str(now.guaranteed)), Figure(text=str(then.guaranteed))),
                BeforeAfter("Failures survived, at best", Figure(text=str(now.best_case)), Figure(text=str(then.best_case))),
            )),
        ),
        erases=tuple(Erased(d.id, d.place, d.serial, d.size, d.holds) for d in added),
        effect=together(
            pool_effect(pool.spread, capacity=-lost * EXTENT), drives_come(added), drives_leave(p.drive for p in leaving if p.drive is not None)
        ),
        takes=takes,
        meanwhile=_evening(evened) if evened else _meanwhile(moving, takes, walks=walks, copies=copies, lost=lost),
        fixed=(
            *fixed,
            *(f"{p.drive.named} leaves the pool: free, its old data readable until it is wiped." for p in leaving if p.drive),
        ),
        steps=_steps(added, leaving, walks=walks, copies=copies, gained=lost < 0),
        cautions=(*cautions, *_fewer(now, then), *cautions_of(before, added), *_doors(before, after)),
        confirm=pool.name if added else None,
        role="administrator",
        findings=tuple(findings),
    )  # fmt: skip
    return RelayoutPlan(sheet, pool, after, tuple(added), tuple(leaving))


def _require_room(pool: EstatePool, after: Layout) -> None:
    """What volumes have must lie within the smaller capacity."""
    end, whole = pool.reaches_to, pool.capacity - pool.free
    would = f"It would have {format_size(after.stock * EXTENT)}, and"
    if whole > after.stock:
        raise NotPossible(
            f"{would} volumes have {format_size(whole * EXTENT)}. Shrink or delete volumes first, or add a drive.",
            code="does-not-fit", field="scheme",
        )  # fmt: skip
    if end > after.stock:
        raise NotPossible(
            f"{would} volumes reach to {format_size(end * EXTENT)}, with gaps before them. Move them together first: they "
            f"have {format_size(whole * EXTENT)}.", code="stands-apart", field="scheme",
        )  # fmt: skip


def _named(layout: Layout) -> str:
    named = trade_name(layout.scheme, len(layout.sets))
    return f"{layout.scheme.id}{f' ({named})' if named else ''}, {layout.describe()}"


def _why(
    pool: EstatePool, before: Layout, after: Layout, added: Sequence[EstateDrive], leaving: Sequence[EstatePlace]
) -> str:
    gain = (after.stock - before.stock) * EXTENT
    parts = []
    if added:
        parts.append(f"{counted(len(added), 'drive')} added")
    if leaving:
        parts.append(f"{len(leaving)} freed")
    size = (
        f"pool {pool.name} becomes {format_size(abs(gain))} {'larger' if gain > 0 else 'smaller'}"
        if gain
        else "its capacity stays"
    )
    said = "; ".join((", ".join(parts), size) if parts else (size,))
    return f"{said[0].upper()}{said[1:]}."


def _takes(moving: Moving, *, at_once: bool, copies: bool) -> tuple[Takes, ...]:
    old, new = moving.old, moving.new
    if copies:
        added = [i for i, n in enumerate(moving.numbers) if n >= len(old.members)]
        if not added:
            return ()
        return (Takes.of("Filling", durations.at_rate(max(new.rebuild_seconds(i, None, ()) for i in added))),)
    if at_once:
        more = None if new.own_protection else durations.fill_rows(new, old.stripes)
        return (Takes.of("First sync of what is new", more),) if more else ()
    return (Takes.of("Restripe", durations.restripe(moving)),)


def _meanwhile(moving: Moving, takes: Sequence[Takes], *, walks: bool, copies: bool, lost: int) -> tuple[str, ...]:
    if copies and takes:
        return (
            "Reading and writing go on. The further copy counts once it is whole; until then protection is as before.",
        )
    if not walks:
        return (
            *(("Its capacity is there at once.",) if lost < 0 else ()),
            "Nothing that stands on the drives is moved.",
        )
    least = moving.copies - 1
    arrives = (
        ("The new capacity is there when the front has arrived.",) if lost < 0
        else ("The smaller capacity holds from the start.",) if lost else ()
    )  # fmt: skip
    return (
        f"Reading and writing go on. Throughout, each set {survives_any(least)}.",
        *arrives,
        "If a drive fails or is taken out, the front stands still until it is back, or replaced and filled; the data "
        "stay in use. It is filled for both sides of the front.",
        "Power may go off and the page may be closed: it goes on where it stopped. It can be paused, and made gentle.",
        "Until it has arrived, the front can be turned round: then all is as it was.",
    )


def _evening(extents: int) -> tuple[str, ...]:
    return (
        "Its capacity is there at once, as far as stripes find room on enough drives; evened out, all of it can be used.",
        f"About {format_size(extents * EXTENT)} then move from fuller drives to emptier ones by themselves, gently: volumes stay in "
        "use, and protection does not drop. It can be paused or made fast.",
    )


def _steps(
    added: Sequence[EstateDrive], leaving: Sequence[EstatePlace], *, walks: bool, copies: bool, gained: bool
) -> tuple[str, ...]:
    found = (
        *(("Check again that every drive is free and answers.",
           "Write the pool's label on every drive; what was on it can no longer be reached.") if added else ()),
        *(("Move extent after extent to its new place, the first of them by way of a copy (restripe).",) if walks else ()),
        *(("Fill the new drives from those that are there.",) if copies and added else ()),
        *(("Give the whole of it to the pool.",) if gained and not walks and not copies else ()),
        *(("Let the drives go that are not needed any more.",) if leaving else ()),
    )  # fmt: skip
    return found or ("Write it into the books.",)


def _fewer(now: Survival, then: Survival) -> tuple[str, ...]:
    """That fewer failures are survived afterwards."""
    if then.guaranteed >= now.guaranteed:
        return ()
    return (f"Afterwards the pool {survives_any(then.guaranteed)}; now it {survives_any(now.guaranteed)}.",)


def cautions_of(before: Layout, added: Sequence[EstateDrive]) -> tuple[str, ...]:
    """What is to be known of drives that come to a pool: another kind, readings that warn."""
    kinds = {d.kind for d in before.members}
    found = [
        f"{d.place} ({d.serial}) is of another kind ({d.kind.value}) than its members; the slowest sets the pace."
        for d in added if d.kind not in kinds
    ]  # fmt: skip
    found += [
        f"{d.place} ({d.serial}) is failing by its own readings; it is a poor choice."
        for d in added if d.condition == "failing"
    ]  # fmt: skip
    return tuple(found)


def _doors(before: Layout, after: Layout) -> tuple[str, ...]:
    """Doors that the change closes."""
    if before.own_protection:
        return ()
    from pairshelf.core.changes.doors import LATER  # the changes that may come are these changes themselves

    system = file_system_of(DEFAULT_FILE_SYSTEM)
    found = []
    for later in LATER:
        was, will = later.door(before, system), later.door(after, system)
        if was[0] is not Opening.CLOSED and will[0] is Opening.CLOSED:
            found.append(f"Afterwards there is no way to {later.name}: {will[1]}")
    return tuple(found)

"""Put another drive in the place of one: rebuilt from the rest where it has failed or is missing, copied from it
where it still works."""

from __future__ import annotations

from dataclasses import dataclass, replace

from pairshelf.core.changes.kind import ChangeKind, Context
from pairshelf.core.changes.later import Later, Opening
from pairshelf.core.changes.pools.relayout import cautions_of
from pairshelf.core.changes.sheet import (
    BeforeAfter,
    ChangeSheet,
    Erased,
    Figure,
    Takes,
    drives_come,
    drives_leave,
    pool_effect,
    together,
)
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.drives import size_of
from pairshelf.core.domain.estate import Estate, EstateDrive, EstatePlace, EstatePool
from pairshelf.core.domain.file_systems import FileSystem
from pairshelf.core.domain.names import natural
from pairshelf.core.domain.units import EXTENT, format_duration, format_size
from pairshelf.core.errors import BadInput, Busy, Gone, NotPossible, NotServing, reason_of
from pairshelf.core.figures.durations import copy, rebuild, restripe
from pairshelf.core.figures.survival import after_failures, in_words
from pairshelf.core.layouts import Layout
from pairshelf.core.layouts.grown import with_room
from pairshelf.core.layouts.restripe import Moving
from pairshelf.core.policies.beside import Under, refused


@dataclass(frozen=True, slots=True)
class ReplaceDrive:
    """Put a drive in the place of another: rebuilt where that has failed or is missing, copied where it still works."""

    pool_id: int
    slot: int
    drive_id: int
    #: The drive that works, and leaves, stands by as a spare of its pool from then on.
    stands_by: bool = False


@dataclass(frozen=True, slots=True)
class ReplaceDrivePlan:
    """The place, the drive, and the sheet."""

    sheet: ChangeSheet
    request: ReplaceDrive
    drive: EstateDrive


def size_needed(pool: EstatePool, place: EstatePlace) -> int:
    """Bytes that a drive must have to take a place: what the layout uses of it, whatever drive had it last."""
    return size_of(pool.layout.needs(place.slot))


def why_too_small(pool: EstatePool, place: EstatePlace, drive: EstateDrive) -> str | None:
    """Why a drive cannot carry what the layout has in the place, or None if it can."""
    if drive.as_drive.extents >= pool.layout.needs(place.slot):
        return None
    return f"It is too small: {format_size(drive.size)}, and the place needs {format_size(size_needed(pool, place))}."


def why_elsewhere(pool: EstatePool, place: EstatePlace, drive: EstateDrive) -> str | None:
    """In a spread pool that keeps shelves, hosts or sites apart, a drive replaces one of the same; why not, or None."""
    if pool.layout.domain == "drive":
        return None
    wanted = place.designed.place(pool.layout.domain)
    if drive.as_drive.place(pool.layout.domain) == wanted:
        return None
    return f"It is not on {pool.layout.domain} {wanted}; the pool keeps its {pool.layout.domain}s apart."


def why_not(pool: EstatePool, place: EstatePlace, drive: EstateDrive) -> str | None:
    """Why a drive cannot take a place, or None if it can: a free one, or a spare of the pool."""
    if is_spare(pool, drive):
        drive = replace(drive, service="free", pool=None)
    return drive.why_not_offered() or why_too_small(pool, place, drive) or why_elsewhere(pool, place, drive)


def is_spare(pool: EstatePool, drive: EstateDrive) -> bool:
    """Whether a drive stands by as a spare of a pool."""
    return drive.id in {spare.id for spare in pool.spares}


def careful_order(place: EstatePlace, drive: EstateDrive) -> tuple[object, ...]:
    """Sorts drives that could take a place as a careful person would try them: the one put into the bay that the
    old one left; well before warning; of the right kind; the smallest that fits; near; then bay by bay."""
    old, known = place.drive, drive.as_drive
    bay = old and ((old.shelf, old.bay) if old.shelf is not None else old.left)
    return (
        drive.condition != "good",
        bay is None or (drive.shelf, drive.bay) != bay,
        drive.kind is not place.designed.kind,
        known.size,
        known.shelf != place.designed.shelf,
        known.host != place.designed.host,
        natural(drive.shelf or ""),
        drive.bay or 0,
        drive.id,
    )


def plan(estate: Estate, request: ReplaceDrive) -> ReplaceDrivePlan:
    """The sheet for this replacement. Raises where it is not possible, with the reason."""
    pool = estate.pool(request.pool_id)
    if pool is None:
        raise BadInput("There is no such pool.", field="pool_id")
    place = next((p for p in pool.places if p.slot == request.slot), None)
    if place is None:
        raise BadInput(f"{pool.name} has no place {request.slot + 1}.", field="slot")
    require_replaceable(pool, place)
    drive = _offered(estate, pool, place, request.drive_id)
    _in_order(pool, request)
    if request.stands_by:
        _require_can_stand_by(pool, place)
    if place.state == "active":
        sheet = _copy_sheet(pool, place, drive, stands_by=request.stands_by)
    else:
        sheet = _sheet(pool, place, drive)
    return ReplaceDrivePlan(sheet, request, drive)


#: Of a pool whose last spare goes.
NO_SPARE = "{pool} has no spare afterwards: a failed drive waits for a new one to be put in."
#: Of copying off a drive whose pool has no redundancy.
NOTHING_ELSE = "{pool} has no redundancy: nothing stands in for what its drive does not read, and if it fails first, the data are lost."


def may_stand_by(pool: EstatePool, place: EstatePlace) -> bool:
    """Whether the drive in a place, once another has it, could stand by."""
    works = place.state == "active" and place.drive is not None and place.drive.condition == "good"
    return works and not pool.spread and pool.table is None


def _require_can_stand_by(pool: EstatePool, place: EstatePlace) -> None:
    """BadInput where the drive that leaves is none that could stand by."""
    if pool.spread:
        raise BadInput("A spread pool has no spares: its other drives take over what one held.", field="stands_by")
    if not may_stand_by(pool, place):
        raise BadInput(
            "Only a drive that works, and of which nothing speaks against it, can stand by.", field="stands_by"
        )


def require_replaceable(pool: EstatePool, place: EstatePlace) -> None:
    """NotPossible where nothing is left to fill another drive from, or what is under way does not go with it."""
    if place.state == "rebuilding":
        raise NotPossible("The drive in this place is being rebuilt; wait for that.", code="nothing-to-replace")
    if place.state == "active":
        if pool.state in ("lost", "unreachable"):
            raise NotServing(pool.name, pool.state, "nothing can be copied from its drives now")
        if found := refused(Under("copy", slot=place.slot), pool.under_way):
            raise Busy(found.said, job=None, kind="copy", code=found.code)
        return
    if any(slot == place.slot for slot, _ in pool.copies):
        raise NotPossible(
            "A drive is being made its copy. Bring the missing drive back, or leave the copying off first.", code="busy"
        )
    gone = {p.designed.id for p in pool.places if p.state == "failed"}
    if not after_failures(pool.layout, gone).survives:
        raise NotPossible(
            f"{pool.name} has lost more drives than it survives; nothing is left to rebuild from.",
            code="data-lost",
        )
    if not after_failures(pool.layout, pool.absent).survives:
        raise NotPossible(
            f"Too many drives of {pool.name} are away to rebuild from the rest. Bring them back first.",
            code="unreachable",
        )


def why_not_replaceable(pool: EstatePool, place: EstatePlace) -> str | None:
    """Why no drive can take a place now, or None if one can."""
    return reason_of(require_replaceable, pool, place)


def _in_order(pool: EstatePool, request: ReplaceDrive) -> None:
    """BadInput where the drive is to come on the pool's path, and this is not its step or not its turn."""
    ahead = [(slot, drive) for slot, drive, came in pool.path if not came]
    if request.drive_id not in [drive for _, drive in ahead] or ahead[0] == (request.slot, request.drive_id):
        return
    slot, drive = ahead[0]
    raise BadInput(
        f"On the path of {pool.name}, drive {drive} comes into place {slot + 1} next. Take that step first, or leave the path.",
        code="out-of-order", field="slot" if drive == request.drive_id else "drive_id",
    )  # fmt: skip


def _offered(estate: Estate, pool: EstatePool, place: EstatePlace, drive_id: int) -> EstateDrive:
    drive = estate.drive(drive_id)
    if drive is None:
        raise Gone("drive", field="drive_id")
    if reason := why_not(pool, place, drive):
        raise NotPossible(f"{drive.place} ({drive.serial}): {reason}", code="drive-not-free", field="drive_id")
    return drive


def _sheet(pool: EstatePool, place: EstatePlace, drive: EstateDrive) -> ChangeSheet:
    absent = pool.absent
    takes = rebuild(pool.layout, place.designed.id, drive.as_drive, absent=absent)
    now = after_failures(pool.layout, absent)
    then = after_failures(pool.layout, absent - {place.designed.id})
    old = place.drive
    leaving = old.named if old else f"place {place.slot + 1}"
    cautions = []
    if place.state == "missing":
        cautions.append(
            f"{leaving} is missing, not failed. If it comes back first, only what changed meanwhile is at stake; "
            "once replaced, it is no longer part of the pool."
        )
    if drive.condition == "failing":
        cautions.append(f"{drive.named} is failing by its own readings; it is a poor choice.")
    if drive.as_drive.extents > place.designed.extents:
        cautions.append("The new drive is larger; what exceeds the place is not used.")
    return ChangeSheet(
        kind="replace-drive",
        title=f"Replace {leaving} in pool {pool.name}",
        why=f"{drive.place} ({drive.serial}) takes its place and is filled from the rest of its set.",
        figures=(
            BeforeAfter(f"Place {place.slot + 1} of {pool.name}", Figure(text=old.serial if old else "empty"), Figure(text=drive.serial)),
            *_spares(pool, drive, False),
            BeforeAfter("More failures survived, guaranteed", Figure(text=str(now.more_guaranteed)), Figure(text=str(then.more_guaranteed))),
            BeforeAfter("More failures survived, at best", Figure(text=str(now.more_best_case)), Figure(text=str(then.more_best_case))),
        ),
        erases=(Erased(drive.id, drive.place, drive.serial, drive.size, drive.holds),),
        takes=(Takes.of("Rebuild", takes),),
        effect=together(drives_come([drive]), drives_leave([old] if old else [])),
        meanwhile=(
            in_words(pool.layout, now),
            "Reading and writing go on; what was on the missing drive is computed from the others.",
            f"The rebuild may be paused, and goes on where it stopped after a power cut. "
            f"Undisturbed it takes {format_duration(takes.idle)}.",
        ),
        fixed=((f"{leaving} leaves the pool for good.",) if old else ()),
        steps=(
            f"Check again that {drive.place} is free, large enough, and answers.",
            "Write the pool's label on it.",
            "Compute what belongs on it from the rest of its set, and write it (rebuild).",
        ),
        cautions=tuple(cautions),
        confirm=drive.serial,
        role="operator",
    )  # fmt: skip


def _copy_sheet(pool: EstatePool, place: EstatePlace, drive: EstateDrive, *, stands_by: bool = False) -> ChangeSheet:
    old = place.drive
    assert old is not None
    before = pool.layout
    takes = [Takes.of("Copy", copy(before, place.slot, drive.as_drive))]
    offers = {p.slot: p.drive.offers for p in pool.places if p.drive is not None} | {place.slot: drive.offers}
    after = with_room(before, offers)
    gain = (after.stock - before.stock) * EXTENT
    moving = Moving(before, after)
    walks = after.bands != before.bands and not moving.at_once and not pool.spread
    if walks:
        takes.append(Takes.of("Restripe", restripe(moving)))
    now = after_failures(before, pool.absent)
    cautions = list(cautions_of(before, [drive]))
    redundant = before.scheme.survives > 0 or pool.spread
    if not redundant:
        cautions.append(NOTHING_ELSE.format(pool=pool.name))
    if is_spare(pool, drive) and len(pool.spares) == 1 and not stands_by:
        cautions.append(NO_SPARE.format(pool=pool.name))
    if drive.offers > place.designed.size and not gain:
        cautions.append("The new drive is larger. The pool can use that once enough others of its set are, too.")
    return ChangeSheet(
        kind="replace-drive",
        title=f"Replace {old.named} in pool {pool.name}",
        why=f"It still works: it is copied onto {drive.place} ({drive.serial}), which then takes its place.",
        figures=(
            BeforeAfter(f"Place {place.slot + 1} of {pool.name}", Figure(text=old.serial), Figure(text=drive.serial)),
            BeforeAfter("Pool capacity", Figure(bytes=before.stock * EXTENT), Figure(bytes=after.stock * EXTENT)),
            *_spares(pool, drive, stands_by),
            BeforeAfter("More failures survived meanwhile, guaranteed", Figure(text=str(now.more_guaranteed)), Figure(text=str(now.more_guaranteed))),
        ),
        erases=(Erased(drive.id, drive.place, drive.serial, drive.size, drive.holds),),
        takes=tuple(takes),
        effect=together(
            pool_effect(pool.spread, capacity=(after.stock - before.stock) * EXTENT), drives_come([drive]), drives_leave([] if stands_by else [old])
        ),
        meanwhile=(
            *((
                "Redundancy stays whole throughout: the old drive serves until its copy is complete, and what is written "
                "meanwhile is written to both.",
                "What cannot be read from it is computed from the others.",
                "If it fails first, what is still lacking is filled from the others, as after any failure. If the new "
                "drive fails or is taken out, the old one simply stays.",
            ) if redundant else (
                "The old drive serves until its copy is complete, and what is written meanwhile is written to both. If the new "
                "drive fails or is taken out, the old one simply stays.",
            )),
            "The copying can be paused or left off, and goes on where it stopped after a power cut.",
        ),
        fixed=() if stands_by else (f"{old.named} leaves the pool: free, its old data readable until it is wiped.",),
        steps=(
            f"Check again that {drive.place} is free, large enough, and answers.",
            f"Copy what stands on {old.serial} (copy).",
            "Give its place to the new drive, and write the pool's label on it.",
            *((f"Let {old.serial} stand by as a spare of the pool.",) if stands_by else ()),
            *(("Use what the larger drive brings: everything is restriped.",) if walks else ()),
            *(("Give what the larger drives bring to the pool.",) if gain > 0 and not walks else ()),
        ),
        cautions=tuple(cautions),
        confirm=drive.serial,
        role="operator",
    )  # fmt: skip


def _spares(pool: EstatePool, drive: EstateDrive, stands_by: bool) -> tuple[BeforeAfter, ...]:
    """How many spares the pool has, where that changes."""
    after = len(pool.spares) - is_spare(pool, drive) + stands_by
    if after == len(pool.spares):
        return ()
    return (BeforeAfter("Spares", Figure(text=str(len(pool.spares))), Figure(text=str(after))),)


def context(request: ReplaceDrive) -> Context:
    """What the plan is made on, and what is held while it is carried out."""
    return Context(pool_ids=(request.pool_id,), drives=(request.drive_id,))


def door(layout: Layout, _file_system: FileSystem) -> tuple[Opening, str]:
    """Whether a layout leaves it open."""
    if layout.scheme.survives == 0:
        return Opening.CLOSED, "A failed drive takes the data with it; only one that still reads can be copied."
    return Opening.OPEN, "Rebuilt from the others, while the data can be used."


KIND = ChangeKind("replace-drive", Act.REPLACE_DRIVES, ReplaceDrive, context, plan)


LATER = Later("replace-failed", "replace a failed drive", door)

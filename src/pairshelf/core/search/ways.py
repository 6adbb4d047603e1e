"""Ways to grow: what would make this very pool larger with these very drives, side by side, one of them suggested.

Each way is asked of the change that would do it: its figures are those of the sheet that would be approved, and why
it is not possible is what drawing that sheet up would say.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from pairshelf.core.changes.drives import hold_back
from pairshelf.core.changes.later import AWAY, Opening
from pairshelf.core.changes.pools import add_drive, add_set, change_scheme
from pairshelf.core.changes.pools.larger_drives import PathStep, gains_after, one_by_one
from pairshelf.core.changes.pools.move_together import KIND as MOVE_TOGETHER
from pairshelf.core.changes.pools.use_room import room_of
from pairshelf.core.domain.estate import Estate, EstateDrive, EstatePool
from pairshelf.core.domain.file_systems import DEFAULT_FILE_SYSTEM, file_system_of
from pairshelf.core.domain.names import natural
from pairshelf.core.domain.units import EXTENT, format_duration, format_size
from pairshelf.core.errors import PairShelfError
from pairshelf.core.figures.survival import survival
from pairshelf.core.layouts import Layout
from pairshelf.core.layouts.grown import needed
from pairshelf.core.layouts.model import Code
from pairshelf.core.layouts.registry import scheme_of, trade_name
from pairshelf.core.layouts.restripe import Moving


@dataclass(frozen=True, slots=True)
class Way:
    """One way to make a pool larger."""

    id: str
    name: str
    #: Drives it would take, by id; those that were picked, or its own choice among the free ones.
    drives: tuple[int, ...] = ()
    #: Bytes of capacity that it brings, and that the pool has then.
    gain: int = 0
    capacity: int = 0
    #: Hours of the drives' time until the capacity is there: 0 at once.
    hours: float = 0.0
    #: Failures survived, whichever they are, until then and afterwards.
    meanwhile: int = 0
    afterwards: int = 0
    #: Price of its drives where it is known of all of them.
    price: float | None = None
    currency: str | None = None
    cautions: tuple[str, ...] = ()
    #: Where it comes in several steps.
    steps: tuple[PathStep, ...] = ()
    #: The kind of change, and what its sheet is drawn up of; None: it is not a sheet of ours.
    kind: str | None = None
    request: dict[str, Any] = field(default_factory=dict)
    #: Why it is not possible, and the way round.
    why_not: str | None = None
    way_round: str | None = None
    #: The kind of change that makes it possible, drawn up for the pool alone.
    first: str | None = None
    #: Why it is the one suggested.
    suggested: str | None = None
    #: The layout it leads to.
    after: Layout | None = None


def free_drives(estate: Estate) -> list[EstateDrive]:
    """Drives that could be given a duty, as a careful person would look at them: new ones are taken in on the way."""
    found = [d for d in estate.drives if why_not_free(d) is None]
    return sorted(found, key=lambda d: (d.condition != "good", d.size, natural(d.shelf or ""), d.bay or 0, d.id))


def why_not_free(drive: EstateDrive) -> str | None:
    """Why a drive cannot be picked, or None; one that is new can: taking it in is part of the way."""
    return (replace(drive, service="free") if drive.service == "new" else drive).why_not_offered()


def ways(estate: Estate, pool: EstatePool, picked: Sequence[int] = ()) -> tuple[Way, ...]:
    """Every way for this pool, with the drives that were picked, or, where none was, with those each way would take
    of the free ones. The one that is suggested says why."""
    taken_in, free = _looked_at(estate)
    found = [
        _added(taken_in, pool, picked or _for_each_set(pool, free)),
        _one_set(taken_in, pool, picked, free),
        _sets(taken_in, pool, picked or _whole_set(pool, free)),
        _larger(taken_in, pool, picked, free),
        _room(pool),
        _held_back(taken_in, pool),
        _other_pool(pool, picked, free),
    ]
    told = _suggest([w for w in found if w is not None])
    return tuple(sorted(told, key=lambda w: (w.why_not is not None, w.suggested is None, w.kind is None)))


def _looked_at(estate: Estate) -> tuple[Estate, list[EstateDrive]]:
    """The estate once its new drives are taken in, and the free ones that are well."""
    drives = tuple(replace(d, service="free") if d.service == "new" else d for d in estate.drives)
    return replace(estate, drives=drives), [d for d in free_drives(estate) if d.condition == "good"]


def conversions(estate: Estate, pool: EstatePool, picked: Sequence[int] = ()) -> tuple[Way, ...]:
    """Every scheme that this pool can become, each with the drives it takes or frees; and, where there is none, why."""
    taken_in, free = _looked_at(estate)
    layout, sets = pool.layout, len(pool.layout.sets)
    found = []
    for to in change_scheme.targets(layout):
        least, most = change_scheme.drives_a_set(layout, to)
        need = max(0, least) * sets
        drives = tuple(picked[: max(0, most) * sets]) if picked and most > 0 else _high_enough(pool, free, need)
        named = trade_name(scheme_of(to), sets)
        if need and not drives:
            short = f"It takes {need} more drive{'s' if need > 1 else ''} of {format_size(min(d.size for d in layout.members))} or more; there are not so many free."
            found.append(
                Way(f"convert-{to}", f"to {to}{f' ({named})' if named else ''}", kind="convert-pool", why_not=short)
            )
            continue
        frees = f", {-most * sets} drive{'s' if -most * sets > 1 else ''} freed" if most < 0 else ""
        adds = f", {len(drives)} drive{'s' if len(drives) != 1 else ''} added" if drives else ""
        way = _asked(
            taken_in, pool, f"convert-{to}", f"to {to}{f' ({named})' if named else ''}{adds}{frees}", "convert-pool",
            lambda to=to, drives=drives: change_scheme.plan(taken_in, change_scheme.ConvertPool(pool.name, to, drives)),  # type: ignore[misc]
            drives,
        )  # fmt: skip
        found.append(replace(way, request={"pool": pool.name, "scheme": to, "drives": list(drives)}))
    return tuple(found)


def why_no_conversion(pool: EstatePool) -> str | None:
    """Why its scheme cannot be changed, with the way round; None where it can."""
    if pool.table is not None:
        return "It is one drive, divided into partitions; it has no layout to change."
    if change_scheme.targets(pool.layout):
        return None
    return change_scheme.door(pool.layout, file_system_of(DEFAULT_FILE_SYSTEM))[1]


def way_round(pool: EstatePool) -> tuple[str, ...]:
    """Where a pool can become nothing else: the steps there are instead, with the capacity that each needs."""
    if why_no_conversion(pool) is None or pool.spread or pool.table is not None:
        return ()
    held = format_size((pool.capacity - pool.free) * EXTENT)
    return (
        f"Build another pool under the scheme wanted, with at least {held} left for volumes.",
        f"Make its volumes there and copy what is on those of {pool.name} ({held}); compare checksums.",
        "Let mounts, shares and targets name the new volumes.",
        f"Take {pool.name} apart: its {len(pool.layout.members)} drives are free, their old data readable until wiped.",
    )


def remark_on(pool: EstatePool, drive: EstateDrive) -> str | None:
    """What is to be known of a drive that could be picked for a pool; None where nothing is."""
    layout, extents = pool.layout, drive.as_drive.extents
    if reason := why_not_free(drive):
        return reason
    if drive.condition == "failing":
        return "Its own readings warn; a poor choice."
    if extents < min(needed(layout, i) for i in range(len(layout.sets))):
        return f"It is smaller than its sets need ({format_size(min(d.size for d in layout.members))}); it can be part of a new one."
    if drive.kind not in {d.kind for d in layout.members}:
        return f"It is of another kind ({drive.kind.value}) than the pool's drives."
    return f"It holds {drive.holds}: that will be gone." if drive.holds else None


def _high_enough(pool: EstatePool, free: Sequence[EstateDrive], count: int) -> tuple[int, ...]:
    """The smallest drives that reach as high as every set."""
    layout = pool.layout
    least = max(needed(layout, i) for i in range(len(layout.sets)))
    found = tuple(d.id for d in _like(pool, free) if d.as_drive.extents >= least)
    return found[:count] if len(found) >= count else ()


def _like(pool: EstatePool, free: Sequence[EstateDrive]) -> list[EstateDrive]:
    kinds = {d.kind for d in pool.layout.members}
    return [d for d in free if d.kind in kinds]


def _for_each_set(pool: EstatePool, free: Sequence[EstateDrive]) -> tuple[int, ...]:
    """One drive for each set: the smallest that reaches high enough."""
    left, chosen = _like(pool, free), []
    for number in range(len(pool.layout.sets)):
        fitting = next((d for d in left if d.as_drive.extents >= needed(pool.layout, number)), None)
        if fitting is None:
            return ()
        left.remove(fitting)
        chosen.append(fitting.id)
    return tuple(chosen)


def _whole_set(pool: EstatePool, free: Sequence[EstateDrive]) -> tuple[int, ...]:
    """As many as a set has, of which the smallest is the largest there is."""
    width, left = pool.layout.width, _like(pool, free)
    return tuple(d.id for d in left[len(left) - width :]) if len(left) >= width else ()


def _asked(
    estate: Estate, pool: EstatePool, way: str, name: str, kind: str, plan: Callable[[], Any], drives: Sequence[int]
) -> Way:
    """A way that is one sheet, with the figures of that sheet."""
    request = {"pool": pool.name, "drives": list(drives)}
    try:
        planned = plan()
    except PairShelfError as error:
        first = MOVE_TOGETHER.id if error.code == "stands-apart" else None
        return Way(way, name, tuple(drives), kind=kind, request=request, why_not=error.message, first=first)
    sheet, before, after = planned.sheet, pool.layout, planned.after
    walks = any(t.job == "Restripe" for t in sheet.takes)
    price, currency = _price(estate, drives)
    return Way(
        way, name, tuple(drives), (after.stock - before.stock) * EXTENT, after.stock * EXTENT,
        max(t.hours for t in sheet.takes) if walks else 0.0,
        min(survival(before).guaranteed, survival(after).guaranteed), survival(after).guaranteed,
        price, currency, sheet.cautions, kind=kind, request=request, after=after,
    )  # fmt: skip


def _price(estate: Estate, drives: Sequence[int]) -> tuple[float | None, str | None]:
    known = [d.as_drive for i in drives if (d := estate.drive(i)) is not None]
    currencies = {d.currency for d in known}
    if not known or any(d.price is None for d in known) or len(currencies) != 1:
        return None, None
    return sum(d.price or 0.0 for d in known), known[0].currency


_PUT_IN = "Put drives into bays; they appear here."


def _none_fits(pool: EstatePool) -> str | None:
    """Said where no free drive could be one more in each set; None where a drive is not what is lacking."""
    system = file_system_of(DEFAULT_FILE_SYSTEM)
    if add_drive.door(pool.layout, system)[0] is Opening.CLOSED:
        return None
    sets = len(pool.layout.sets)
    kinds = " or ".join(sorted({d.kind.value for d in pool.layout.members}))
    size = format_size(min(d.size for d in pool.layout.members))
    return f"There {'is' if sets == 1 else 'are'} not {'a' if sets == 1 else sets} free {kinds} drive{'s' if sets > 1 else ''} of {size} or more."


def _few(count: int, sets: int) -> str:
    return (
        f"one more drive for each of its {sets} sets"
        if sets > 1
        else "one more drive"
        if count < 2
        else f"{count} more drives"
    )


def _added(estate: Estate, pool: EstatePool, drives: Sequence[int]) -> Way:
    name = _few(len(drives), len(pool.layout.sets))
    if not drives and (short := _none_fits(pool)):
        return Way("add-drives", name, kind="add-drives", why_not=short, way_round=_round(pool) or _PUT_IN)
    way = _asked(estate, pool, "add-drives", name, "add-drives",
                 lambda: add_drive.plan(estate, add_drive.AddDrives(pool.name, tuple(drives))), drives)  # fmt: skip
    if way.why_not is None:
        return way
    return replace(way, way_round=_round(pool))


def _one_set(estate: Estate, pool: EstatePool, picked: Sequence[int], free: Sequence[EstateDrive]) -> Way | None:
    """Drives for one of its sets alone, the narrowest that they reach high enough for."""
    layout = pool.layout
    if len(layout.sets) < 2 or layout.scheme.code is not Code.PARITY:
        return None
    drives = [d for i in picked if (d := estate.drive(i)) is not None] if picked else _like(pool, free)
    for number in sorted(range(len(layout.sets)), key=lambda n: (len(layout.sets[n]), n)):
        fitting = [d.id for d in drives if d.as_drive.extents >= needed(layout, number)]
        chosen = tuple(picked) if picked and len(fitting) == len(picked) else tuple(fitting[:1]) if not picked else ()
        if chosen:
            break
    else:
        return None
    many = "one more drive" if len(chosen) == 1 else f"{len(chosen)} more drives"
    request = add_drive.AddDrives(pool.name, chosen, number + 1)
    way = _asked(estate, pool, "add-to-one-set", f"{many} for set {number + 1} alone", "add-drives",
                 lambda: add_drive.plan(estate, request), chosen)  # fmt: skip
    return replace(way, request=way.request | {"into": number + 1})


def _round(pool: EstatePool) -> str | None:
    to = change_scheme.targets(pool.layout)
    if pool.layout.scheme.code.value == "copies" and len(pool.layout.sets) == 1:
        return f"Convert it to {' or '.join(t for t in to if t.startswith('parity'))}: then it grows drive by drive."
    if pool.layout.scheme.id in ("stripe", "single"):
        return AWAY
    return None


def _sets(estate: Estate, pool: EstatePool, drives: Sequence[int]) -> Way:
    width = pool.layout.width
    count = max(1, len(drives) // width)
    name = f"{count} more sets of {width}" if count > 1 else f"one more set of {width}"
    way = _asked(estate, pool, "add-sets", name, "add-sets",
                 lambda: add_set.plan(estate, add_set.AddSets(pool.name, tuple(drives))), drives)  # fmt: skip
    short = width - len(drives)
    if way.why_not and not pool.spread and 0 < short < width:
        return replace(way, way_round=f"{short} more of that kind make it a set.")
    return way


def _larger(estate: Estate, pool: EstatePool, picked: Sequence[int], free: Sequence[EstateDrive]) -> Way:
    """Larger drives in the place of the smallest, one by one: as many as there are, or as a set takes."""
    way, name = "larger-drives", "larger drives in the place of smaller ones"
    layout = pool.layout
    if gains_after(layout) is None:
        return Way(way, name, why_not="A stripe stays as wide and as high as it is.", way_round=AWAY)
    smallest = min(d.size for d in layout.members)
    chosen = [d for i in picked if (d := estate.drive(i)) is not None] if picked else _like(pool, free)
    larger = sorted((d for d in chosen if d.offers > smallest), key=lambda d: -d.offers)
    if not larger:
        return Way(way, name, why_not=f"No {'picked' if picked else 'free'} drive is larger than {format_size(smallest)}.",
                   way_round="Put larger drives into bays; they appear here.")  # fmt: skip
    steps, gain, hours = one_by_one(layout, larger)
    used = [s.drive for s in steps]
    price, currency = _price(estate, [d.id for d in used])
    if not gain:
        first = gains_after(layout) or layout.width
        return Way(
            way, name, tuple(d.id for d in used), why_not=f"It takes {first} larger drives before it grows; "
            f"there {'is' if len(larger) == 1 else 'are'} {len(larger)}.", way_round="The first of them can be put in now; it grows with the last.",
            steps=tuple(steps),
        )  # fmt: skip
    now = survival(layout).guaranteed
    return Way(
        way, f"{len(used)} larger drive{'s' if len(used) > 1 else ''} in the place of smaller ones, one by one",
        tuple(d.id for d in used), gain, layout.stock * EXTENT + gain, hours, now, now, price, currency,
        ("Redundancy stays whole throughout: each is copied while the old one still works.",), tuple(steps),
        kind="replace-larger", request={"pool": pool.name, "drives": [d.id for d in used]},
    )  # fmt: skip


def _room(pool: EstatePool) -> Way | None:
    """What its drives have more than it uses, as after a failed one was replaced by a larger."""
    after = room_of(pool)
    gain = (after.stock - pool.layout.stock) * EXTENT
    if gain <= 0:
        return None
    moving = Moving(pool.layout, after)
    now = survival(pool.layout).guaranteed
    hours = 0.0 if moving.at_once else moving.seconds() / 3600
    return Way("use-room", "what its drives have more than it uses", (), gain, after.stock * EXTENT, hours, now, now,
               kind="use-room", request={"pool": pool.name}, after=after)  # fmt: skip


def _held_back(estate: Estate, pool: EstatePool) -> Way | None:
    """What is held back of its flash drives, given to it."""
    drives = [p.drive for p in pool.places if p.drive is not None and p.drive.held_share > 0]
    if not drives:
        return None
    request = hold_back.HoldBack(tuple(d.id for d in drives), 0.0)
    whole = replace(estate, drives=(*drives, *(d for d in estate.drives if d.id not in request.drives)))
    way = _asked(whole, pool, "hold-back", "what is held back of its flash drives, given back", "hold-back",
                 lambda: hold_back.plan(whole, request), ())  # fmt: skip
    return replace(way, request={"drives": list(request.drives), "share": 0.0})


def _other_pool(pool: EstatePool, picked: Sequence[int], free: Sequence[EstateDrive]) -> Way:
    drives = tuple(picked) or tuple(d.id for d in free)
    if not drives:
        return Way("other-pool", "another pool instead", why_not="There are no free drives.",
                   way_round="Put drives into bays, or compare what to buy.")  # fmt: skip
    return Way("other-pool", "another pool instead", drives,
               cautions=("It has its own volumes: what is there stays where it is. Compare layouts for these drives.",))  # fmt: skip


def _suggest(found: Sequence[Way]) -> list[Way]:
    """Of those that bring something, the one that brings most for each drive; of equals, what is there sooner."""
    able = [w for w in found if w.why_not is None and w.gain > 0]
    if not able:
        return list(found)
    best = max(able, key=lambda w: (round(w.gain / max(1, len(w.drives)) / 10**11), -w.hours, w.gain))
    each = best.gain // max(1, len(best.drives))
    when = "at once" if not best.hours else f"after {format_duration(best.hours * 3600)}"
    why = f"It brings {format_size(best.gain)} {when}"
    if len(able) > 1 and best.drives:
        why += f", {format_size(each)} for each drive: the most of what is possible"
    return [replace(w, suggested=f"{why}.") if w is best else w for w in found]

"""Another scheme for a pool that stands."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass

from pairshelf.core.changes.kind import ChangeKind, Context
from pairshelf.core.changes.later import AWAY, Later, Opening
from pairshelf.core.changes.pools.relayout import (
    RelayoutPlan,
    closed,
    drives_to_add,
    named_after,
    pool_to_change,
    relayout,
)
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.estate import Estate, EstatePool
from pairshelf.core.domain.file_systems import DEFAULT_FILE_SYSTEM, FileSystem, file_system_of
from pairshelf.core.domain.words import as_sentence, counted
from pairshelf.core.errors import BadInput, NotPossible
from pairshelf.core.layouts import SCHEMES, Layout, scheme_of
from pairshelf.core.layouts.grown import converted
from pairshelf.core.layouts.model import Code, Family


def scheme_changes(scheme: str) -> tuple[str, ...]:
    """Schemes that a pool of this one can become."""
    found = SCHEMES.get(scheme)
    return found.becomes if found else ()


def targets(layout: Layout) -> tuple[str, ...]:
    """What this very layout can become: many sets of copies can only have more copies, or fewer."""
    found = scheme_changes(layout.scheme.id)
    if len(layout.sets) > 1:
        found = tuple(to for to in found if _code(to) == _code(layout.scheme.id) or "single" in (to, layout.scheme.id))
    return found


def _code(scheme: str) -> str:
    return SCHEMES[scheme].code.value


def drives_a_set(layout: Layout, to: str) -> tuple[int, int]:
    """How many drives a set gets or gives (below zero) on the way to a scheme: the least, and the most that make
    sense; a stepped pool may take any number."""
    before, after = layout.scheme, scheme_of(to)
    if after.family is Family.STEPPED:
        return 0, 8
    if after.least == after.most:
        return after.least - layout.width, after.least - layout.width
    if before.code is after.code:
        change = after.survives - before.survives
        return change, change
    least = max(1, after.least - layout.width)
    return least, max(least, 8)


def door(layout: Layout, _file_system: FileSystem) -> tuple[Opening, str]:
    """Whether a layout leaves it open."""
    to = targets(layout)
    if layout.scheme.own_protection:
        return (
            Opening.CLOSED,
            "Each volume of a spread pool has its own protection; make another volume and move to it.",
        )
    if not to:
        return Opening.CLOSED, f"It can become nothing else. {AWAY}"
    if layout.scheme.id == "stepped-1":
        return Opening.AT_A_COST, "To stepped-2: it shrinks by one drive, or one is added."
    copied = [t for t in to if Code.PARITY not in (scheme_of(t).code, layout.scheme.code)]
    walked = [t for t in to if t not in copied]
    own = layout.scheme.least
    ways = [f"to {t}, {'by filling further drives' if scheme_of(t).least > own else 'freeing drives'}" for t in copied]
    ways += [f"to {' or '.join(walked)}, with drives added or freed; everything is restriped"] if walked else []
    if layout.scheme.code is Code.COPIES and not walked:
        ways.append("to parity only as one set")
    return Opening.AT_A_COST, as_sentence(f"{'; '.join(ways)}.")


@dataclass(frozen=True, slots=True)
class ConvertPool:
    """Change the scheme of a pool, with drives added or freed as it needs; the data stay and stay in use."""

    pool: str
    scheme: str
    #: Drives that come, as many for each set, dealt out set after set.
    drives: tuple[int, ...] = ()
    #: Drives that leave, where some do; none named: the last of each set.
    free: tuple[int, ...] = ()


def plan(estate: Estate, request: ConvertPool) -> RelayoutPlan:
    """The sheet for converting. Raises where it cannot be converted, naming the field."""
    pool = pool_to_change(estate, request.pool)
    layout = pool.layout
    closed(door(layout, file_system_of(DEFAULT_FILE_SYSTEM)))
    to = scheme_of(request.scheme)
    if to.id == layout.scheme.id:
        raise BadInput(f"{pool.name} is {to.id} already.", field="scheme")
    if to.id not in targets(layout):
        raise NotPossible(
            f"{layout.scheme.id} with {layout.describe()} can become {', '.join(targets(layout))}, not {to.id}. {AWAY}",
            code="closed", field="scheme",
        )  # fmt: skip
    least, most = drives_a_set(layout, to.id)
    sets = len(layout.sets)
    drives, findings = drives_to_add(estate, request.drives)
    _right_number(len(drives), sets, least, most, to.id)
    freed = _freed(pool, request, -least if most < 0 else 0)
    after = converted(layout, to.id, [named_after(d) for d in drives], freed)
    return relayout(
        "convert-pool", f"Convert pool {pool.name} from {layout.scheme.id} to {to.id}", pool, after, drives, findings,
        freed=freed,
    )  # fmt: skip


def _right_number(given: int, sets: int, least: int, most: int, to: str) -> None:
    low, high = max(0, least) * sets, max(0, most) * sets
    if low <= given <= high and given % sets == 0:
        return
    number = f"{low}" if low == high else f"{low} to {high}"
    a_set = f", as many for each of its {sets} sets" if sets > 1 and high else ""
    what = (
        "no drives are added"
        if not high
        else f"{number} drive{'s' if high != 1 else ''} {'are' if high != 1 else 'is'} added{a_set}"
    )
    raise BadInput(f"On the way to {to} {what}; {given} {'is' if given == 1 else 'are'} chosen.", field="drives")


def _freed(pool: EstatePool, request: ConvertPool, a_set: int) -> tuple[int, ...]:
    """The slots whose drives leave, so many of each set."""
    if not a_set:
        if request.free:
            raise BadInput("No drive is freed by this conversion.", field="free")
        return ()
    layout = pool.layout
    if not request.free:
        # Those that warn go first, then the last.
        found: list[int] = []
        for number in range(len(layout.sets)):
            own = [p for p in pool.places if layout.set_of(p.slot) == number]
            own.sort(key=lambda p: (p.drive is None or p.drive.condition == "failing", p.slot))
            found += [p.slot for p in own[-a_set:]]
        return tuple(sorted(found))
    slots = {p.drive.id: p.slot for p in pool.places if p.drive is not None}
    for drive in request.free:
        if drive not in slots:
            raise BadInput(f"Drive {drive} is not in pool {pool.name}.", field="free")
    chosen = tuple(sorted(slots[d] for d in request.free))
    leaving = Counter(layout.set_of(slot) for slot in chosen)
    if len(set(chosen)) != len(request.free) or any(leaving[i] != a_set for i in range(len(layout.sets))):
        raise BadInput(
            f"{counted(a_set, 'drive')} of each set {'leaves' if a_set == 1 else 'leave'}; choose exactly {'that' if a_set == 1 else 'those'}.",
            field="free",
        )
    return chosen


def context(request: ConvertPool) -> Context:
    """What the plan is made on, and what is held while it is carried out."""
    return Context(pools=(request.pool,), drives=request.drives, read_drives=True)


KIND = ChangeKind("convert-pool", Act.BUILD_POOLS, ConvertPool, context, plan)

LATER = Later("change-scheme", "change the scheme", door)

"""Everything off drives, a shelf or a host while it stays protected: members of sets are copied onto free drives,
extents of spread pools go to the drives that stay."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace

from pairshelf.core.changes.drives.replace_drive import NO_SPARE, NOTHING_ELSE, size_needed, why_too_small
from pairshelf.core.changes.kind import ChangeKind, Context
from pairshelf.core.changes.later import Later, Opening
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
from pairshelf.core.domain.estate import Estate, EstateDrive, EstatePlace, EstatePool
from pairshelf.core.domain.file_systems import FileSystem
from pairshelf.core.domain.names import natural
from pairshelf.core.domain.units import EXTENT, format_size
from pairshelf.core.domain.words import counted, listed
from pairshelf.core.errors import BadInput, Busy, NotPossible, NotServing
from pairshelf.core.figures.durations import at_rate, copy, in_lanes
from pairshelf.core.figures.survival import after_failures
from pairshelf.core.layouts import Layout
from pairshelf.core.layouts.spread import spread_of
from pairshelf.core.layouts.stripe_moves import room_without, without_slots
from pairshelf.core.policies.beside import Under, refused


@dataclass(frozen=True, slots=True)
class Drain:
    """Empty drives, or all drives of shelves or hosts, while everything stays protected; then they are free."""

    drives: tuple[int, ...] = ()
    #: By name; where several sites have one of a name, as site/shelf.
    shelves: tuple[str, ...] = ()
    hosts: tuple[str, ...] = ()
    #: Free drives that members of sets are copied onto; chosen carefully where left out.
    onto: tuple[int, ...] = ()


@dataclass(frozen=True, slots=True)
class CopyOf:
    """A member of a set, and the drive it is copied onto."""

    pool: EstatePool
    place: EstatePlace
    old: EstateDrive
    onto: EstateDrive

    @property
    def seconds(self) -> float:
        """The drives' time of this copy by itself."""
        return copy(self.pool.layout, self.place.slot, self.onto.as_drive).idle


@dataclass(frozen=True, slots=True)
class Emptied:
    """A spread pool, and its slots that everything is moved off."""

    pool: EstatePool
    slots: tuple[int, ...]

    @property
    def extents(self) -> int:
        """What stands there."""
        return sum(self.pool.layout.used_extents[s] for s in self.slots)

    @property
    def seconds(self) -> float:
        """Until the slowest is through: a drive that is read, those that are written together, a link between."""
        layout = self.pool.layout
        used, members = layout.used_extents, layout.members
        staying = [d for i, d in enumerate(members) if i not in self.slots]
        reading = max((used[s] * EXTENT / members[s].mean_rate for s in self.slots), default=0.0)
        writing = self.extents * EXTENT / sum(d.mean_rate for d in staying)
        links = [
            sum(used[s] for s in self.slots if members[s].shelf == d.shelf) * EXTENT / d.link
            for d in {members[s].shelf: members[s] for s in self.slots}.values() if d.link
        ]  # fmt: skip
        return max(reading, writing, *links)


@dataclass(frozen=True, slots=True)
class DrainPlan:
    """What is emptied, and how."""

    sheet: ChangeSheet
    subject: str
    drives: tuple[EstateDrive, ...]
    copies: tuple[CopyOf, ...]
    emptied: tuple[Emptied, ...]
    #: Spares that simply leave: (pool, drive).
    spares: tuple[tuple[EstatePool, EstateDrive], ...]
    #: How many copies their shelves' links bear at once.
    at_once: int

    @property
    def held(self) -> dict[int, int]:
        """What stands on each drive that is in use, extents."""
        found = {c.old.id: c.pool.layout.used_extents[c.place.slot] for c in self.copies}
        for one in self.emptied:
            places = {p.slot: p.drive for p in one.pool.places}
            found |= {d.id: one.pool.layout.used_extents[s] for s in one.slots if (d := places[s]) is not None}
        return found


def subject_of(estate: Estate, request: Drain) -> tuple[str, tuple[EstateDrive, ...]]:
    """What is to be emptied, in words, and its drives. BadInput where a name is none, or nothing is there."""
    by_id = {d.id: d for d in estate.drives}
    found: dict[int, EstateDrive] = {}
    for drive_id in request.drives:
        if drive_id not in by_id:
            raise BadInput(f"There is no drive {drive_id}.", field="drives")
        found[drive_id] = by_id[drive_id]
    words = []
    if found:
        words.append(next(iter(found.values())).named if len(found) == 1 else f"{len(found)} drives")
    for what, field, names in (("shelf", "shelves", request.shelves), ("host", "hosts", request.hosts)):
        for name in names:
            own = [d for d in estate.drives if _stands_in(d, what, name.strip())]
            if not own:
                raise BadInput(f"There is no {what} {name or 'without a name'} with drives in it.", field=field)
            # What the host starts from holds nothing of a pool, and stays.
            found.update({d.id: d for d in own if d.service == "in-use" or not d.starts_host})
            words.append(f"{what} {own[0].shelf if what == 'shelf' else own[0].host}")
    if not found and not words:
        raise BadInput("Choose the drives, the shelf or the host that is to be emptied.", field="drives")
    return " and ".join(words), tuple(found.values())


def _stands_in(drive: EstateDrive, what: str, name: str) -> bool:
    if what == "host":
        return drive.host == name and drive.shelf is not None
    site = drive.as_drive.site
    return drive.shelf is not None and name in (drive.shelf, f"{site}/{drive.shelf}")


def choose(estate: Estate, request: Drain) -> Drain:
    """The same with drives to copy onto, where none are named: as a careful person would choose them."""
    if request.onto:
        return request
    _, drives = subject_of(estate, request)
    copies, _ = _assigned(_places(estate, drives), _free(estate, drives))
    return replace(request, onto=tuple(c.onto.id for c in copies))


def _free(estate: Estate, drives: Sequence[EstateDrive]) -> list[EstateDrive]:
    own = {d.id for d in drives}
    silent = dict(estate.silent)
    return [d for d in estate.drives if d.id not in own and not d.why_not_offered() and d.id not in silent]


def _places(estate: Estate, drives: Sequence[EstateDrive]) -> list[tuple[EstatePool, EstatePlace]]:
    """The places of sets that stand on these drives."""
    own = {d.id for d in drives}
    return [
        (pool, place) for pool in estate.pools if not pool.spread
        for place in pool.places if place.drive is not None and place.drive.id in own
    ]  # fmt: skip


Places = Sequence[tuple[EstatePool, EstatePlace]]


def _assigned(places: Places, free: Sequence[EstateDrive]) -> tuple[list[CopyOf], list[tuple[EstatePool, EstatePlace]]]:
    """Each place with the drive it is copied onto, and the places for which there is none. The largest first, each onto
    the drive that suits it best of those that are left: so as many as can be have one."""
    # Drives of which one is as good as another stand together, in the order of their bays.
    alike: dict[object, list[tuple[int, EstateDrive]]] = {}
    for number, d in enumerate(sorted(free, key=lambda d: (natural(d.shelf or ""), d.bay or 0, d.id), reverse=True)):
        alike.setdefault(
            (d.shelf, d.host, d.condition, d.holds is None, d.kind, d.offers, d.size, d.sector_size), []
        ).append((-number, d))
    leaving = {(pool.id, place.slot) for pool, place in places}
    crowds = {pool.id: _crowds(pool, leaving) for pool, _ in places}
    found, without = [], []
    for pool, place in sorted(places, key=lambda p: (-p[0].layout.needs(p[1].slot), p[0].name, p[1].slot)):
        fitting = {k: own[-1] for k, own in alike.items() if own and _fits(pool, place, own[-1][1])}
        if not fitting or place.drive is None:
            without.append((pool, place))
            continue
        one, crowd = pool.layout.set_of(place.slot), crowds[pool.id]
        most = max(1, pool.layout.scheme.survives)

        def careful(
            item: tuple[object, tuple[int, EstateDrive]], place: EstatePlace = place, one: int = one,
            crowd: Counter[object] = crowd, most: int = most,
        ) -> tuple[object, ...]:  # fmt: skip
            """Well before warning; on a shelf and host that hold no more of its set than it can do without; blank; of the
            right kind; the smallest; near; then bay by bay."""
            number, d = item[1]
            crowded = sum(crowd[one, unit] >= most for unit in _units(d))
            designed = place.designed
            return (
                d.condition != "good", crowded, d.holds is not None, d.kind is not designed.kind, d.offers,
                d.shelf != designed.shelf, d.host != designed.host, number,
            )  # fmt: skip

        which, (_, best) = min(fitting.items(), key=careful)
        alike[which].pop()
        crowd.update((one, unit) for unit in _units(best))
        found.append(CopyOf(pool, place, place.drive, best))
    return found, without


def _fits(pool: EstatePool, place: EstatePlace, drive: EstateDrive) -> bool:
    """Whether a drive can take a place: of one that is divided, with every sector of every partition where it was."""
    if pool.table is None or place.drive is None:
        return not why_too_small(pool, place, drive)
    return drive.size >= place.drive.size and (drive.sector_size or 512) == pool.table.sector


def _units(drive: EstateDrive) -> Iterator[tuple[str, str]]:
    if drive.shelf is not None:
        yield "shelf", drive.shelf
    if drive.host is not None:
        yield "host", drive.host


def _crowds(pool: EstatePool, leaving: set[tuple[int, int]]) -> Counter[object]:
    """For each set, how many of its members that stay stand in each shelf and host."""
    return Counter(
        (pool.layout.set_of(p.slot), unit)
        for p in pool.places if p.drive is not None and (pool.id, p.slot) not in leaving
        for unit in _units(p.drive)
    )  # fmt: skip


def plan(estate: Estate, request: Drain) -> DrainPlan:
    """The sheet. Raises where something of it cannot be placed again, with what is missing, and for what must stay."""
    subject, drives = subject_of(estate, request)
    own = {d.id for d in drives}
    _require_drainable(estate, drives, request.drives)
    for drive_id in request.onto:
        target = estate.drive(drive_id)
        if target is None or drive_id in own:
            raise BadInput(f"Drive {drive_id} cannot be copied onto: it is to be emptied itself." if target else f"There is no drive {drive_id}.", field="onto")  # fmt: skip
        if reason := target.why_not_offered():
            raise NotPossible(f"{target.named}: {reason}", code="drive-not-free", field="onto")
        if drive_id in dict(estate.silent):
            raise NotPossible(f"{target.named}: {dict(estate.silent)[drive_id]}.", code="drive-silent", field="onto")
    onto = [d for d in estate.drives if d.id in request.onto]
    places = _places(estate, drives)
    copies, without = _assigned(places, onto)
    emptied = tuple(
        Emptied(pool, slots) for pool in estate.pools if pool.spread
        if (slots := tuple(p.slot for p in pool.places if p.drive is not None and p.drive.id in own))
    )  # fmt: skip
    spares = tuple((pool, d) for pool in estate.pools for d in pool.spares if d.id in own)
    if not (places or emptied or spares):
        raise NotPossible(f"Nothing of a pool stands on {subject}: it is empty already.", code="empty", field="drives")
    _require_room(without, emptied)
    bears = at_once(copies)
    sheet = _sheet(subject, drives, copies, emptied, spares, bears)
    return DrainPlan(sheet, subject, drives, tuple(copies), emptied, spares, bears)


def _require_drainable(estate: Estate, drives: Sequence[EstateDrive], named: Sequence[int]) -> None:
    own = {d.id for d in drives}
    for drive in drives:
        if drive.draining:
            raise Busy(
                f"{drive.named} is being emptied already: {drive.draining}.", job=None, kind="drain", code="busy"
            )
        if drive.starts_host:
            raise NotPossible(
                f"{drive.named}: {drive.host or 'its host'} starts from it, so it stays.",
                code="starts-host",
                field="drives",
            )
        if drive.service == "wiping" and drive.id in named:
            raise NotPossible(f"{drive.named} is being wiped; wait for that, or stop it.", code="busy", field="drives")
    for pool in estate.pools:
        mine = [p for p in pool.places if p.drive is not None and p.drive.id in own]
        if any(d.id in own for _, d in pool.copies):
            raise Busy(f"A drive of it is being made a copy for {pool.name}; wait for that, or leave it off.", job=None,
                       kind="copy", code="busy")  # fmt: skip
        if not mine:
            continue
        if pool.state in ("lost", "unreachable"):
            raise NotServing(pool.name, pool.state, "nothing can be moved off its drives now")
        kind = "drain" if pool.spread else "copy"
        for place in mine:
            if found := refused(Under(kind, slot=place.slot), pool.under_way):
                raise Busy(f"{pool.name}: {found.said}", job=None, kind=kind, code=found.code)
            if place.state != "active" and not (pool.spread and place.state == "emptied"):
                raise NotPossible(
                    f"{place.drive.named if place.drive else 'A drive'} of {pool.name} is {place.state}; replace it first, "
                    "or wait until it has been filled.", code="degraded", field="drives",
                )  # fmt: skip


def _require_room(without: Places, emptied: Sequence[Emptied]) -> None:
    """NotPossible with everything that is missing, to be bought and put in first."""
    missing = []
    for pool in {p.id: p for p, _ in without}.values():
        sizes = Counter(
            place.drive.size if pool.table is not None and place.drive else size_needed(pool, place)
            for own, place in without if own.id == pool.id
        )  # fmt: skip
        missing += [
            f"{counted(n, 'free drive')} of {format_size(size)} or more"
            f"{f', with sectors of {pool.table.sector} bytes,' if pool.table is not None else ''} for {pool.name}"
            for size, n in sorted(sizes.items(), reverse=True)
        ]
    for one in emptied:
        layout = spread_of(one.pool.layout)
        closed = [p.slot for p in one.pool.places if p.closed]
        if len(layout.members) - len(one.slots) < layout.scheme.least:
            raise NotPossible(
                f"That would leave no pool of {one.pool.name}. Take the pool apart instead.", code="needed", field="drives"
            )  # fmt: skip
        extents = room_without(layout, one.slots, closed)
        if not extents:
            continue
        domain = layout.domain
        staying = {
            layout.pool.domain_of[s] for s in range(len(layout.members)) if s not in one.slots and s not in closed
        }
        widest = max((v.protection.width for v in layout.volumes), default=0)
        if len(staying) < widest:
            missing.append(
                f"{counted(widest - len(staying), f'further {domain}')} for {one.pool.name}: its stripes go over {widest} "
                f"{domain}s, and {len(staying)} would be left"
            )
        else:
            typical = max(layout.members[s].extents for s in one.slots)
            drives = -(-extents // typical)
            missing.append(
                f"{format_size(extents * EXTENT)} elsewhere in {one.pool.name}, such as {counted(drives, 'drive')} of "
                f"{format_size(typical * EXTENT)}"
            )
    if missing:
        raise NotPossible(
            f"There is no room for all that stands there. Missing: {'; '.join(missing)}. Put that in first, then drain.",
            code="no-room", field="drives",
        )  # fmt: skip


def at_once(copies: Sequence[CopyOf]) -> int:
    """How many of these copies may run at once before a shelf's link is what they wait for."""
    found = max(1, len(copies))
    links = {d.shelf: d.as_drive.link for c in copies for d in (c.old, c.onto) if d.as_drive.link}
    for shelf, link in links.items():
        ends = [
            min(c.old.as_drive.mean_rate, c.onto.as_drive.mean_rate)
            * ((c.old.shelf == shelf) + (c.onto.shelf == shelf))
            for c in copies
        ]
        found = min(found, max(1, link // max(ends))) if link else found
    return found


def copying_seconds(copies: Sequence[CopyOf], bears: int) -> float:
    """Until all are done, so many side by side, the longest first."""
    return in_lanes([c.seconds for c in copies], bears)


def _sheet(
    subject: str, drives: Sequence[EstateDrive], copies: Sequence[CopyOf], emptied: Sequence[Emptied],
    spares: Sequence[tuple[EstatePool, EstateDrive]], bears: int,
) -> ChangeSheet:  # fmt: skip
    in_use = [d for d in drives if d.service == "in-use"]
    pools = {p.id: p for p in [*(c.pool for c in copies), *(e.pool for e in emptied)]}
    takes = []
    if copies:
        takes.append(Takes.of("Copying", at_rate(copying_seconds(copies, bears))))
    takes += [Takes.of(f"Moving stripes of {e.pool.name}", at_rate(e.seconds)) for e in emptied if e.extents]
    moved = sum(c.pool.layout.used_extents[c.place.slot] for c in copies) + sum(e.extents for e in emptied)
    figures = [
        BeforeAfter("Drives in use there", Figure(text=str(len(in_use))), Figure(text="0")),
        BeforeAfter("Stands there", Figure(bytes=moved * EXTENT), Figure(bytes=0)),
    ]
    for one in emptied:
        after = _stock_without(one)
        figures += [
            BeforeAfter(f"Capacity of the drives of {one.pool.name}", Figure(bytes=one.pool.capacity * EXTENT), Figure(bytes=after * EXTENT)),
            BeforeAfter(f"Left in {one.pool.name}", Figure(bytes=one.pool.free * EXTENT),
                        Figure(bytes=(one.pool.free - one.pool.capacity + after) * EXTENT)),
        ]  # fmt: skip
    for pool in pools.values():
        now = after_failures(pool.layout, pool.absent)
        said = Figure(text=str(now.more_guaranteed))
        figures.append(BeforeAfter(f"More failures {pool.name} survives meanwhile, guaranteed", said, said))
    # Spares stand idle, and go at once.
    moves = bool(copies or emptied)
    steps = ["Place nothing new there from now on."] if moves else []
    if copies:
        at = f", {bears} at a time as the shelves' links bear" if bears < len(copies) else ""
        steps.append(
            f"Copy {counted(len(copies), 'member')} onto free drives{at}; each hands its place over when its copy is whole."
        )
        steps += [f"{c.old.named} of {c.pool.name} onto {c.onto.named}" for c in copies]
    divided = [c for c in copies if c.pool.table is not None]
    steps += [
        f"Write the table of {c.old.serial} onto {c.onto.serial}; what is mounted stays so, and its partitions are called by the "
        "new drive's serial."
        for c in divided
    ]
    for one in emptied:
        steps.append(
            f"Move {format_size(one.extents * EXTENT)} of {one.pool.name} stripe by stripe onto its other drives, no two of a "
            f"stripe {'on' if one.pool.layout.domain == 'drive' else 'in'} one {one.pool.layout.domain}."
        )
    for pool, drive in spares:
        steps.append(f"{drive.named} leaves {pool.name} at once: it stands idle.")
    if moves:
        steps.append("Let each drive go when it is empty.")
    return ChangeSheet(
        kind="drain",
        title=f"Drain {subject}",
        why=_why(copies, emptied),
        figures=tuple(figures),
        effect=together(
            *(pool_effect(one.pool.spread, capacity=(_stock_without(one) - one.pool.capacity) * EXTENT) for one in emptied),
            drives_come(c.onto for c in copies), drives_leave(in_use),
        ),
        erases=tuple(Erased(c.onto.id, c.onto.place, c.onto.serial, c.onto.size, c.onto.holds) for c in copies),
        takes=tuple(takes),
        meanwhile=() if not moves else (
            "Everything can be used; reading and writing are slower, little when it goes gently.",
            "Protection does not drop: an old place is let go once what stood there stands in its new one.",
            *(("If a drive that is being emptied fails, what it lacks is computed from the others, as after any failure.",)
              if emptied or any(c.pool.layout.scheme.survives for c in copies) else ()),
            "It begins gently, can be made fast or paused, and left off: then what has moved stays where it is, and the rest stays where it "
            "was. Power may go off; it goes on where it stopped.",
        ),
        fixed=(f"{counted(len(in_use), 'drive')}: free in the end, old data readable until wiped.",),
        steps=tuple(steps),
        cautions=tuple(_cautions(copies, spares)),
        confirm=_typed(subject, drives) if copies else None,
        role="administrator",
    )  # fmt: skip


def _typed(subject: str, drives: Sequence[EstateDrive]) -> str:
    """What is typed to approve it: the name of the shelf or host, or a serial."""
    for word in ("shelf ", "host "):
        if word in subject:
            return subject[subject.index(word) :].removeprefix(word).split(" and ")[0]
    return drives[0].serial


def _stock_without(one: Emptied) -> int:
    """The extents of the drives that stay in a spread pool."""
    layout = spread_of(one.pool.layout)
    return without_slots(replace(layout, volumes=()), one.slots).stock


def _why(copies: Sequence[CopyOf], emptied: Sequence[Emptied]) -> str:
    touched = sorted({c.pool.name for c in copies} | {e.pool.name for e in emptied})
    if not touched:
        return "Only spares stand there."
    return (
        f"What stands there of {listed(touched)} is placed again elsewhere, and stays as protected as it is throughout."
    )


def _cautions(copies: Sequence[CopyOf], spares: Sequence[tuple[EstatePool, EstateDrive]]) -> Iterator[str]:
    for c in copies:
        if c.onto.condition == "failing":
            yield f"{c.onto.named} is failing by its own readings; it is a poor choice."
        if c.onto.kind is not c.place.designed.kind:
            yield f"{c.onto.named} is of another kind ({c.onto.kind.value}) than the drive it comes for; the slowest sets the pace."
    for pool in {c.pool.id: c.pool for c in copies}.values():
        if any(c.onto.offers > c.place.designed.size for c in copies if c.pool.id == pool.id):
            yield f"Some are larger than the places of {pool.name}; what exceeds them is there to be used later."
        new = {c.place.slot: c.onto for c in copies if c.pool.id == pool.id}
        for what in ("shelf", "host"):
            if crowded := _now_crowded(pool, new, what):
                yield (
                    f"Afterwards {what} {listed(crowded)} holds more drives of a set of {pool.name} than it can do "
                    f"without; before, no {what} did."
                )
    for pool in {c.pool.id: c.pool for c in copies}.values():
        if not pool.layout.scheme.survives:
            yield NOTHING_ELSE.format(pool=pool.name)
    for pool in {p.id: p for p, _ in spares}.values():
        if len([1 for p, _ in spares if p.id == pool.id]) == len(pool.spares):
            yield NO_SPARE.format(pool=pool.name)


def _now_crowded(pool: EstatePool, new: dict[int, EstateDrive], what: str) -> list[str]:
    """Shelves or hosts that would hold more of a set than it survives, where none did before."""
    if not pool.layout.scheme.survives:
        return []

    def crowded(drives: dict[int, EstateDrive | None]) -> set[str]:
        counts = Counter(
            (pool.layout.set_of(slot), unit)
            for slot, d in drives.items() if d is not None and (unit := getattr(d, what)) is not None
        )  # fmt: skip
        return {unit for (_, unit), n in counts.items() if n > pool.layout.scheme.survives}

    before: dict[int, EstateDrive | None] = {p.slot: p.drive for p in pool.places}
    return [] if crowded(before) else sorted(crowded({**before, **new}))


def context(request: Drain) -> Context:
    """What the plan is made on, and what is held while it is carried out."""
    return Context(
        drives=tuple(dict.fromkeys((*request.drives, *request.onto))), shelves=request.shelves,
        drives_of_hosts=request.hosts, pools_of_drives=True, free_drives=not request.onto, read_drives=bool(request.onto),
    )  # fmt: skip


KIND = ChangeKind("drain", Act.BUILD_POOLS, Drain, context, plan, choose=choose)


def door(layout: Layout, _file_system: FileSystem) -> tuple[Opening, str]:
    """Whether a layout leaves it open."""
    if layout.own_protection:
        return (
            Opening.OPEN,
            "What stands on it goes to the other drives, where they have room; the pool is smaller then.",
        )
    if layout.scheme.survives == 0:
        return Opening.AT_A_COST, "By copying a drive onto another; nothing can be left out."
    return Opening.AT_A_COST, "A member leaves only when another drive takes its place."


LATER = Later("drain", "take a drive out for another", door)

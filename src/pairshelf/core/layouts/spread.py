"""Spread layouts: a stock of extents on all drives, each volume with its own protection (rules: layouts).

Every stripe takes its w extents from w different failure domains. With c_d free extents in domain d
the greatest number of stripes is the largest T with sum over d of min(c_d, T) >= w x T. Whether
stripes of several widths fit together is the Gale-Ryser condition (D. Gale, 1957; H. J. Ryser, 1957).
"""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property

import numpy as np
import numpy.typing as npt

from pairshelf.core.drives import DOMAINS, Drive, require_usable
from pairshelf.core.errors import BadInput, NoRoom, NotPossible
from pairshelf.core.layouts.model import Code, Family, Layout, Scheme
from pairshelf.core.patience import still_wanted
from pairshelf.core.units import EXTENT, format_size, parse_size

#: More stripes than this in one question take minutes to place.
MOST_STRIPES = 2_000_000
MOST_VOLUMES = 200
_KINDS = {"copies-2": 1, "copies-3": 2, "parity-1": 1, "parity-2": 2}
#: Among more domains than this not every pair is weighed for every stripe.
_WEIGHED_PAIRS = 160
#: A stripe of parity spans at most so many domains.
MOST_WIDE = 257


@dataclass(frozen=True, slots=True)
class Protection:
    """How a volume of a spread pool is protected: copies, or parity of a width of its own."""

    scheme: str
    #: Extents of a stripe, each in a domain of its own.
    width: int

    @property
    def survives(self) -> int:
        """Extents a stripe can do without."""
        return _KINDS[self.scheme]

    @property
    def data(self) -> int:
        """Extents of data in a stripe."""
        return 1 if self.copies else self.width - self.survives

    @property
    def copies(self) -> bool:
        """Whether every extent of a stripe holds the same."""
        return self.scheme.startswith("copies")

    @property
    def name(self) -> str:
        """As it is typed: copies-3, parity-2:8."""
        return self.scheme if self.copies else f"{self.scheme}:{self.width}"


def parse_protection(text: str, *, field: str = "volume") -> Protection:
    """``copies-2``, ``copies-3``, ``parity-1:WIDTH`` or ``parity-2:WIDTH``."""
    match = re.fullmatch(r"\s*([a-z]+-\d)(?:\s*:\s*(\d{1,4}))?\s*", text)
    if not match or match[1] not in _KINDS:
        raise BadInput(
            f"“{text}” is not a protection; use copies-2, copies-3, or parity with its width such as parity-2:8.",
            field=field,
        )
    scheme, least = match[1], _KINDS[match[1]] + 2
    if scheme.startswith("copies"):
        width = int(scheme[-1])
        if match[2] and int(match[2]) != width:
            raise BadInput(f"{scheme} is {width} wide; leave the width out.", field=field)
        return Protection(scheme, width)
    if not match[2]:
        raise BadInput(f"Give {scheme} its width, such as {scheme}:{least + 4}.", field=field)
    if not least <= int(match[2]) <= MOST_WIDE:
        raise BadInput(f"A {scheme} volume is {least} to {MOST_WIDE} wide, not {match[2]}.", field=field)
    return Protection(scheme, int(match[2]))


@dataclass(frozen=True, slots=True)
class Wanted:
    """A volume asked for: bytes, and how it is protected."""

    size: int
    protection: Protection
    name: str = ""

    @property
    def stripes(self) -> int:
        """Stripes it takes: ceil(size / k extents)."""
        return -(-self.size // (self.protection.data * EXTENT))

    @property
    def pool_use(self) -> int:
        """Bytes it takes on the drives, redundancy included: stripes x w extents."""
        return self.stripes * self.protection.width * EXTENT


def parse_volume(text: str, *, field: str = "volume") -> Wanted:
    """A volume such as ``40GiB:copies-3`` or ``10TiB:parity-2:8``."""
    size_text, _, protection = text.partition(":")
    if not protection:
        raise BadInput(f"“{text}” names no protection; write for example 40GiB:copies-3.", field=field)
    size = parse_size(size_text, field=field)
    if size == 0:
        raise BadInput(f"“{text}” is a volume of size zero.", field=field)
    return Wanted(size, parse_protection(protection, field=field))


def stripes_max(capacities: Sequence[int], width: int) -> int:
    """The largest T with sum of min(c_d, T) >= w x T."""
    low, high = 0, sum(capacities) // width
    while low < high:
        middle = (low + high + 1) // 2
        if sum(min(c, middle) for c in capacities) >= width * middle:
            low = middle
        else:
            high = middle - 1
    return low


def fits(capacities: Sequence[int], stripes: Sequence[tuple[int, int]]) -> bool:
    """Whether stripes, given as (count, width), can all be placed: Gale-Ryser, at the ends of each width."""
    count = extents = 0
    for number, width in sorted(stripes, key=lambda s: -s[1]):
        count += number
        extents += number * width
        if sum(min(c, count) for c in capacities) < extents:
            return False
    return True


@dataclass(frozen=True)
class SpreadPool:
    """Drives grouped into failure domains of one kind."""

    drives: tuple[Drive, ...]
    domain: str

    @cached_property
    def domains(self) -> tuple[str, ...]:
        """Names of the domains, in the listed order."""
        return tuple(dict.fromkeys(d.place(self.domain) for d in self.drives))

    @cached_property
    def domain_of(self) -> tuple[int, ...]:
        """For each drive, the number of its domain."""
        number = {name: i for i, name in enumerate(self.domains)}
        return tuple(number[d.place(self.domain)] for d in self.drives)

    @cached_property
    def capacities(self) -> tuple[int, ...]:
        """Extents of each domain."""
        found = [0] * len(self.domains)
        for drive, domain in zip(self.drives, self.domain_of, strict=True):
            found[domain] += drive.extents
        return tuple(found)

    def stripes_max(self, protection: Protection) -> int:
        """Most stripes of one protection in the empty pool."""
        return stripes_max(self.capacities, protection.width)

    def without(self, domain: int) -> tuple[int, ...]:
        """The capacities once a domain is gone."""
        return tuple(c for i, c in enumerate(self.capacities) if i != domain)

    def stripes_with_repair(self, protection: Protection) -> int:
        """Most stripes that can all be placed again whichever domain is taken away."""
        return min(
            (stripes_max(self.without(i), protection.width) for i in range(len(self.domains))), default=0
        ) if len(self.domains) > protection.width else 0  # fmt: skip

    def self_repair_fails_without(self, volumes: Sequence[Wanted]) -> tuple[str, ...]:
        """Domains after whose loss not every stripe could be placed again; none: self-repair holds."""
        stripes = [(v.stripes, v.protection.width) for v in volumes]
        return tuple(name for i, name in enumerate(self.domains) if not fits(self.without(i), stripes))


def spread_pool(drives: Sequence[Drive], domain: str) -> SpreadPool:
    """A spread pool over these drives; BadInput for a domain that is none."""
    require_usable(drives)
    if domain not in DOMAINS:
        raise BadInput(f"“{domain}” cannot be a failure domain; use {', '.join(DOMAINS)}.", field="domain")
    if domain != "drive" and (missing := next((d for d in drives if getattr(d, domain) is None), None)):
        raise BadInput(
            f"Drive {missing.id} has no {domain}; give the drives as a list with a column for it, "
            "or take drives as failure domains.",
            field="domain",
        )
    return SpreadPool(tuple(drives), domain)


Placed = npt.NDArray[np.int32]
Progress = Callable[[int, int], None]


def place(pool: SpreadPool, volumes: Sequence[Wanted], *, progress: Progress | None = None) -> list[Placed]:
    """For each volume its stripes, as rows of drive numbers. Raises NotPossible when one does not fit.

    A stripe takes the w domains with the most free extents; among equals those that have shared
    stripes least with the ones taken already; last, the listed order. Inside a domain the drive is
    chosen by the same rules.
    """
    if len(volumes) > MOST_VOLUMES:
        raise BadInput(f"More than {MOST_VOLUMES} volumes; ask about them in smaller groups.", field="volume")
    total = sum(v.stripes for v in volumes)
    placer = _Placer(pool)
    for volume in volumes:
        if len(pool.domains) < volume.protection.width:
            raise NotPossible(
                f"{volume.protection.name} needs {volume.protection.width} {pool.domain}s; there are {len(pool.domains)}.",
                code="too-few-domains", field="volume",
            )  # fmt: skip
    room = sum(pool.capacities)
    if total > MOST_STRIPES and sum(v.pool_use for v in volumes) <= room * EXTENT:
        raise BadInput(
            f"{total:,} stripes are more than are placed in one question ({MOST_STRIPES:,}).", field="volume"
        )
    done = 0
    found = []
    for volume in volumes:
        rows = np.empty((min(volume.stripes, room), volume.protection.width), np.int32)
        for i in range(volume.stripes):
            if not i % 64:
                still_wanted()
            stripe = placer.next(volume.protection.width)
            if stripe is None:
                placed = i * volume.protection.data * EXTENT
                raise NotPossible(
                    f"The volume of {format_size(volume.size)} as {volume.protection.name} does not fit: "
                    f"{format_size(placed)} of it do, {format_size(volume.size - placed)} are missing.",
                    code="volume-does-not-fit", field="volume",
                )  # fmt: skip
            rows[i] = stripe
            done += 1
            if progress and done % 5000 == 0:
                progress(done, total)
        found.append(rows)
    return found


#: Stands for a count of shared stripes that is never the least.
_NEVER = 2**40


class _Placer:
    """Chooses the drives of one stripe after another."""

    def __init__(self, pool: SpreadPool, placed: Sequence[Placed] = (), closed: Collection[int] = ()) -> None:
        """``placed`` are the stripes that stand there; on the ``closed`` drives nothing may be put."""
        domain_of = np.array(pool.domain_of)
        self._alone = pool.domain == "drive"
        self._shared = _unshared(len(pool.domains))
        self._drive_free = np.array([d.extents for d in pool.drives], np.int64)
        self._drive_shared = _unshared(0 if self._alone else len(pool.drives))
        for stripes in placed:
            self._drive_free -= np.bincount(stripes.ravel(), minlength=len(pool.drives))
            _share(self._shared, domain_of[stripes])
            if not self._alone:
                _share(self._drive_shared, stripes)
        self._drive_free[list(closed)] = 0
        self._free = np.bincount(domain_of, self._drive_free, len(pool.domains)).astype(np.int64)
        self._inside = [np.flatnonzero(domain_of == n) for n in range(len(pool.domains))]

    def next(self, width: int) -> list[int] | None:
        """The drives of the next stripe, or None when there are not ``width`` domains with room."""
        free = self._free
        least = int(np.partition(free, -width)[-width]) if len(free) >= width else 0
        if least <= 0:
            return None
        chosen = (free > least).nonzero()[0].tolist()
        equal = (free == least).nonzero()[0]
        if len(equal) == width - len(chosen):
            chosen += equal.tolist()
        elif not chosen and width > 1:
            chosen = self._least_shared_pair(equal)
        if len(chosen) < width:
            score = self._shared[equal][:, chosen].sum(axis=1)
            while len(chosen) < width:
                best = int(equal[score.argmin()])
                chosen.append(best)
                score += self._shared[equal, best]
        _note(free, self._shared, chosen)
        return chosen if self._alone else self._drives(chosen)

    def _least_shared_pair(self, equal: npt.NDArray[np.int64]) -> list[int]:
        """Two of the domains that have shared least: taken first, so that no pair is left out for good.

        Among very many domains only the first one's partners are weighed.
        """
        if len(equal) > _WEIGHED_PAIRS:
            return [int(equal[0])]
        return _least_shared(self._shared, equal, equal)

    def _drives(self, domains: list[int]) -> list[int]:
        """Inside each domain the drive with the most free extents; among equals those that have shared
        stripes least, the first two weighed together."""
        equal = []
        for domain in domains:
            inside = self._inside[domain]
            free = self._drive_free[inside]
            equal.append(inside[free == free.max()])
        chosen = _least_shared(self._drive_shared, equal[0], equal[1])
        for some in equal[2:]:
            shared = self._drive_shared[some][:, chosen].sum(axis=1)
            chosen.append(int(some[shared.argmin()]))
        _note(self._drive_free, self._drive_shared, chosen)
        return chosen


def _unshared(count: int) -> npt.NDArray[np.int64]:
    """Nobody has shared a stripe yet; nothing is its own partner."""
    shared = np.zeros((count, count), np.int64)
    np.fill_diagonal(shared, _NEVER)
    return shared


def _least_shared(
    shared: npt.NDArray[np.int64], rows: npt.NDArray[np.int64], columns: npt.NDArray[np.int64]
) -> list[int]:
    """One of each that have shared least with one another; among equals the first."""
    first, second = divmod(int(shared[rows][:, columns].argmin()), len(columns))
    return [int(rows[first]), int(columns[second])]


def _share(shared: npt.NDArray[np.int64], stripes: Placed) -> None:
    """Count each two that stand in a stripe together."""
    for one in range(stripes.shape[1]):
        for other in range(stripes.shape[1]):
            if one != other:
                np.add.at(shared, (stripes[:, one], stripes[:, other]), 1)


def _note(free: npt.NDArray[np.int64], shared: npt.NDArray[np.int64], chosen: list[int]) -> None:
    """One extent less on each, one stripe more between each two."""
    index = np.array(chosen)
    free[index] -= 1
    shared[index[:, None], index] += 1


# -- a spread pool that is built ------------------------------------------------------------------------

SPREAD = Scheme(
    "spread", "", Family.SPREAD, Code.PARITY, 0, 2, None,
    "A stock of extents on all drives; each volume has its own protection.",
)  # fmt: skip

#: int32 [stripes, width, 2]: the slot and the row of each extent, data columns first, then P and Q.
Spots = npt.NDArray[np.int32]


@dataclass(frozen=True)
class PlacedVolume:
    """The stripes of one volume of a built spread pool."""

    volume: int
    protection: Protection
    spots: Spots

    @property
    def slots(self) -> Placed:
        """The drives of each stripe."""
        return self.spots[:, :, 0]


@dataclass(frozen=True)
class SpreadLayout(Layout):
    """A built spread pool: its members, what may fail as one, and the stripes of its volumes."""

    domain: str = "drive"
    volumes: tuple[PlacedVolume, ...] = field(default=(), compare=False)

    @cached_property
    def pool(self) -> SpreadPool:
        """The same as the comparison sees it."""
        return SpreadPool(self.members, self.domain)

    @cached_property
    def used_extents(self) -> tuple[int, ...]:
        """For each member, how many of its extents stripes use."""
        used = np.zeros(len(self.members), np.int64)
        for volume in self.volumes:
            used += np.bincount(volume.slots.ravel(), minlength=len(self.members))
        return tuple(used.tolist())

    @property
    def stock(self) -> int:
        """Extents of all drives together."""
        return sum(d.extents for d in self.members)

    @property
    def free_extents(self) -> int:
        """Extents that no stripe uses."""
        return self.stock - sum(self.used_extents)

    @property
    def data_extents(self) -> int:
        """Extents of data that its volumes have places for."""
        return sum(len(v.spots) * v.protection.data for v in self.volumes)

    def room_for(self, protection: Protection, closed: Collection[int] = ()) -> int:
        """Extents of data that a further volume of this protection could have."""
        free = [0] * len(self.pool.domains)
        for slot, (drive, used) in enumerate(zip(self.members, self.used_extents, strict=True)):
            if slot not in closed:
                free[self.pool.domain_of[slot]] += drive.extents - used
        if len(free) < protection.width:
            return 0
        return stripes_max(free, protection.width) * protection.data

    def more(self, protection: Protection, stripes: int, closed: Collection[int] = ()) -> Spots:
        """Places for so many more stripes; NotPossible when they do not fit. ``closed`` drives take none.

        Each stripe's columns are turned by one, so that parity is spread over all drives.
        """
        if len(self.pool.domains) < protection.width:
            raise NotPossible(
                f"{protection.name} needs {protection.width} {self.domain}s; there are {len(self.pool.domains)}.",
                code="too-few-domains", field="protection",
            )  # fmt: skip
        placer = _Placer(self.pool, [v.slots for v in self.volumes], closed)
        rows = [_free_rows(self, slot) for slot in range(len(self.members))]
        found = np.empty((stripes, protection.width, 2), np.int32)
        turn = sum(len(v.spots) for v in self.volumes)
        for i in range(stripes):
            if not i % 64:
                still_wanted()
            chosen = placer.next(protection.width)
            if chosen is None:
                raise NoRoom(
                    f"The pool has room for {i} more stripes of {protection.name}; {stripes} are needed.",
                    needed=stripes, left=i,
                )  # fmt: skip
            cut = (turn + i) % protection.width
            for column, slot in enumerate(chosen[cut:] + chosen[:cut]):
                found[i, column] = slot, rows[slot].pop()
        return found

    def volume(self, volume: int) -> PlacedVolume:
        """The stripes of a volume."""
        return next(v for v in self.volumes if v.volume == volume)

    def another_spot(self, volume: int, stripe: int, column: int, closed: Collection[int]) -> tuple[int, int] | None:
        """A free extent (slot, row) that can take a stripe's column, in a domain the stripe does not use
        otherwise: on the drive with the most free extents, first in the listed order. None if there is none."""
        slots = self.volume(volume).slots[stripe]
        used = {self.pool.domain_of[int(s)] for c, s in enumerate(slots) if c != column}
        best: tuple[int, int] | None = None
        for slot, (drive, taken) in enumerate(zip(self.members, self.used_extents, strict=True)):
            free = drive.extents - taken
            if slot not in closed and self.pool.domain_of[slot] not in used and free > (best[0] if best else 0):
                best = (free, slot)
        return (best[1], _free_rows(self, best[1])[-1]) if best else None

    def with_spot(self, volume: int, stripe: int, column: int, spot: tuple[int, int]) -> SpreadLayout:
        """The same with one extent of a stripe elsewhere."""
        have = self.volume(volume)
        spots = have.spots.copy()
        spots[stripe, column] = spot
        return self.with_volume(PlacedVolume(volume, have.protection, spots))

    def with_volume(self, volume: PlacedVolume) -> SpreadLayout:
        """The same with a volume's stripes in the place of those it had."""
        rest = tuple(v for v in self.volumes if v.volume != volume.volume)
        return replace(self, volumes=(*rest, volume), scheme=_scheme((*rest, volume)))


def spread_layout(members: Sequence[Drive], domain: str, volumes: Sequence[PlacedVolume] = ()) -> SpreadLayout:
    """A built spread pool. What all of it survives is what its least protected volume does."""
    return SpreadLayout(_scheme(volumes), (tuple(members),), (), (), domain, tuple(volumes))


def _scheme(volumes: Sequence[PlacedVolume]) -> Scheme:
    return replace(SPREAD, survives=min((v.protection.survives for v in volumes), default=1))


def _free_rows(layout: SpreadLayout, slot: int) -> list[int]:
    """Rows of a member that no stripe uses, the lowest last."""
    taken = np.zeros(layout.members[slot].extents, bool)
    for volume in layout.volumes:
        taken[volume.spots[:, :, 1][volume.slots == slot]] = True
    return [int(row) for row in np.flatnonzero(~taken)[::-1]]

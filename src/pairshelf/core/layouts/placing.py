"""Placing stripes on drives, their extents in different failure domains (rules: layouts).

Every stripe takes its w extents from w different failure domains. With c_d free extents in domain d
the greatest number of stripes is the largest T with sum over d of min(c_d, T) >= w x T. Whether
stripes of several widths fit together is the Gale-Ryser condition (D. Gale, 1957; H. J. Ryser, 1957).
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import numpy.typing as npt

from pairshelf.core.domain.drives import DOMAINS, Drive, require_usable
from pairshelf.core.domain.units import EXTENT, format_size, parse_size
from pairshelf.core.errors import BadInput, NotPossible
from pairshelf.core.layouts.protections import Protection, parse_protection
from pairshelf.core.patience import still_wanted

#: More stripes than this in one question take minutes to place.
MOST_STRIPES = 2_000_000


MOST_VOLUMES = 200


#: Among more domains than this not every pair is weighed for every stripe.
_WEIGHED_PAIRS = 160


@dataclass(frozen=True, slots=True)
class WantedVolume:
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


def parse_volume(text: str, *, field: str = "volume") -> WantedVolume:
    """A volume such as ``40GiB:copies-3`` or ``10TiB:parity-2:8``."""
    size_text, _, protection = text.partition(":")
    if not protection:
        raise BadInput(f"“{text}” names no protection; write for example 40GiB:copies-3.", field=field)
    size = parse_size(size_text, field=field)
    if size == 0:
        raise BadInput(f"“{text}” is a volume of size zero.", field=field)
    return WantedVolume(size, parse_protection(protection, field=field))


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

    def repairs_a_domain(self, protection: Protection) -> bool:
        """Whether the loss of a whole domain can be repaired at all: with as many columns as there are domains, none is
        left to take what was lost. The loss of a drive is then repaired inside its domain, where that has room."""
        return len(self.domains) > protection.width

    def stripes_with_repair(self, protection: Protection) -> int:
        """Most stripes that can all be placed again whichever domain is taken away; all there can be where no domain's
        loss can be repaired, as nothing is kept for what cannot be."""
        if not self.repairs_a_domain(protection):
            return self.stripes_max(protection)
        return min(stripes_max(self.without(i), protection.width) for i in range(len(self.domains)))

    def self_repair_fails_without(self, volumes: Sequence[WantedVolume]) -> tuple[str, ...]:
        """Domains after whose loss not every stripe could be placed again; none: self-repair holds."""
        stripes = [(v.stripes, v.protection.width) for v in volumes]
        return tuple(name for i, name in enumerate(self.domains) if not fits(self.without(i), stripes))


def widest_domain(drives: Sequence[Drive], width: int) -> str:
    """The widest failure domain that all of these drives say they stand in and of which there are enough for stripes of
    this width: what is proposed where nobody chose one."""
    domains: tuple[str, ...] = DOMAINS[1:]
    for domain in reversed(domains):
        if all(getattr(d, domain) is not None for d in drives) and len({d.place(domain) for d in drives}) >= max(
            2, width
        ):
            return domain
    return "drive"


def spread_pool(drives: Sequence[Drive], domain: str, width: int = 2) -> SpreadPool:
    """A spread pool over these drives; BadInput for a domain that is none. Without one, the widest that stripes of this
    width can be spread over."""
    require_usable(drives)
    domain = domain or widest_domain(drives, width)
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


def place(pool: SpreadPool, volumes: Sequence[WantedVolume], *, progress: Progress | None = None) -> list[Placed]:
    """For each volume its stripes, as rows of drive numbers. Raises NotPossible when one does not fit.

    A stripe takes the w domains with the most free extents; among equals those that have shared
    stripes least with the ones taken already; last, the listed order. Inside a domain the drive is
    chosen by the same rules.
    """
    if len(volumes) > MOST_VOLUMES:
        raise BadInput(f"More than {MOST_VOLUMES} volumes; ask about them in smaller groups.", field="volume")
    total = sum(v.stripes for v in volumes)
    placer = Placer(pool)
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


class Placer:
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

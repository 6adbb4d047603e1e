"""Spread layouts: a stock of extents on all drives, each volume with its own protection (rules: layouts).

Every stripe takes its w extents from w different failure domains. With c_d free extents in domain d
the greatest number of stripes is the largest T with sum over d of min(c_d, T) >= w x T. Whether
stripes of several widths fit together is the Gale-Ryser condition (D. Gale, 1957; H. J. Ryser, 1957).
"""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import numpy.typing as npt

from pairshelf.core.drives import DOMAINS, Drive, require_usable
from pairshelf.core.errors import BadInput, NotPossible
from pairshelf.core.units import EXTENT, format_size, parse_size

#: More stripes than this in one question take minutes to place.
MOST_STRIPES = 2_000_000
MOST_VOLUMES = 200
_KINDS = {"copies-2": 1, "copies-3": 2, "parity-1": 1, "parity-2": 2}
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


class _Placer:
    """Chooses the drives of one stripe after another."""

    def __init__(self, pool: SpreadPool) -> None:
        self._free = np.array(pool.capacities, np.int64)
        self._shared = np.zeros((len(pool.domains),) * 2, np.int64)
        self._drive_free = np.array([d.extents for d in pool.drives], np.int64)
        self._alone = pool.domain == "drive"
        self._drive_shared = None if self._alone else np.zeros((len(pool.drives),) * 2, np.int64)
        self._inside = [np.array([i for i, d in enumerate(pool.domain_of) if d == n]) for n in range(len(pool.domains))]
        #: Larger than any count of shared stripes, so that free extents decide first.
        self._weight = int(self._drive_free.sum()) * MOST_WIDE + 1

    def next(self, width: int) -> list[int] | None:
        """The drives of the next stripe, or None when there are not ``width`` domains with room."""
        score = self._free * -self._weight
        chosen: list[int] = []
        for _ in range(width):
            best = int(score.argmin())
            if self._free[best] <= 0 or best in chosen:
                return None
            chosen.append(best)
            score += self._shared[best]
            score[best] = np.iinfo(np.int64).max // 2
        self._free[chosen] -= 1
        self._shared[np.ix_(np.array(chosen), np.array(chosen))] += 1
        return chosen if self._alone else self._drives(chosen)

    def _drives(self, domains: list[int]) -> list[int]:
        """Inside each domain the drive with the most free extents; among equals the one that has shared
        stripes least with the drives taken already and with those the other domains may give."""
        assert self._drive_shared is not None
        chosen: list[int] = []
        for position, domain in enumerate(domains):
            inside = self._inside[domain]
            score = self._drive_free[inside] * -self._weight
            others = [*chosen, *(d for later in domains[position + 1 :] for d in self._inside[later])]
            if others:
                score = score + self._drive_shared[inside][:, others].sum(axis=1)
            chosen.append(int(inside[int(score.argmin())]))
        self._drive_free[chosen] -= 1
        self._drive_shared[np.ix_(np.array(chosen), np.array(chosen))] += 1
        return chosen

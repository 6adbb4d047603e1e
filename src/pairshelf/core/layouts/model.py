"""The values a layout is made of.

Every layout, of whatever family, comes down to *bands*: stretches of rows, one extent high, laid
over one or more groups of members. The figures, the drawing and the engine all read bands, so what
is promised and what is built cannot differ.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass, field
from enum import StrEnum
from functools import cached_property
from operator import attrgetter
from typing import Any, ClassVar

from pairshelf.core.domain.drives import Drive
from pairshelf.core.domain.units import EXTENT
from pairshelf.core.layouts.links import link_share


class Family(StrEnum):
    """The ways a pool can be built on drives."""

    #: Drives divided into sets, each protecting itself.
    SETS = "sets"
    #: Drives of different sizes cut into bands where the sizes step.
    STEPPED = "stepped"
    #: A stock of extents; each volume chooses its own protection.
    SPREAD = "spread"


class Code(StrEnum):
    """How the redundancy of a group is computed."""

    #: Nothing is added.
    NONE = "none"
    #: Every member holds the same.
    COPIES = "copies"
    #: P, Q, R over GF(2^8).
    PARITY = "parity"


@dataclass(frozen=True, slots=True)
class Division:
    """How drives are to be divided: sets and spares, or, of a spread pool, what may fail as one and its volumes."""

    #: None: one set, or as many as come out whole for copies.
    sets: int | None = None
    spares: int = 0
    domain: str = ""
    #: Stripes of the volumes of a built spread pool.
    volumes: tuple[Any, ...] = ()
    #: Of a pool that stands: its drives are where they are, and are not looked at anew.
    built: bool = False


@dataclass(frozen=True, slots=True)
class AfterFailures:
    """What a given selection of failed members leaves."""

    survives: bool
    #: How many more may fail, whichever they are.
    more_guaranteed: int
    #: How many more may fail, if they are the right ones.
    more_best_case: int
    #: Failures in each set.
    failed_by_set: tuple[int, ...]
    #: Sets that have lost more than they survive.
    lost_sets: tuple[int, ...]


@dataclass(frozen=True, slots=True)
class Scheme:
    """A way to protect: its id, the trade's name, how many drives a set takes, what a set survives."""

    id: str
    trade_name: str
    family: Family
    code: Code
    #: Failures a set survives.
    survives: int
    least: int
    #: Most drives in a set, or None.
    most: int | None
    about: str
    #: Lays drives out in their listed order; the drives are usable and the division makes sense.
    lay: Callable[[Scheme, Sequence[Drive], Division], Layout] = field(compare=False, repr=False)
    #: The trade's name of several sets of it, where there is one.
    several: str = ""
    #: Schemes that a pool of this one can be changed into.
    becomes: tuple[str, ...] = ()
    #: One drive after the other: never faster than one of them.
    one_after_another: bool = False

    @property
    def one_set(self) -> bool:
        """Whether all its drives are one set."""
        return self.family is not Family.SETS

    @property
    def own_protection(self) -> bool:
        """Whether each volume has a protection of its own."""
        return self.family is Family.SPREAD

    @property
    def divided(self) -> bool:
        """Whether drives are divided into sets, so that layouts of it can be compared before any volume is made."""
        return self.family is not Family.SPREAD

    def data_columns(self, members: int) -> int:
        """Extents of data in one row over ``members`` drives."""
        if self.code is Code.COPIES:
            return 1
        return members - self.survives


@dataclass(frozen=True, slots=True)
class Group:
    """Members (by index in ``Layout.members``) that protect one another within a band."""

    members: tuple[int, ...]
    code: Code
    #: Failures it survives; for copies, the number of copies less one.
    parity: int

    @property
    def data(self) -> int:
        """Extents of data in one row."""
        return 1 if self.code is Code.COPIES else len(self.members) - self.parity


@dataclass(frozen=True, slots=True)
class Band:
    """Rows ``start`` to ``start + rows`` on every member of its groups; data is striped over the groups."""

    start: int
    rows: int
    groups: tuple[Group, ...]

    @property
    def data(self) -> int:
        """Extents of data in one row over all groups."""
        return sum(group.data for group in self.groups)

    @property
    def width(self) -> int:
        """Extents in one row over all groups."""
        return sum(len(group.members) for group in self.groups)

    @property
    def capacity(self) -> int:
        """Extents of data in the whole band."""
        return self.rows * self.data


_RATE = attrgetter("mean_rate")


@dataclass(frozen=True)
class Layout:
    """Drives divided into sets under one scheme, with spares that belong to no set."""

    scheme: Scheme
    sets: tuple[tuple[Drive, ...], ...]
    spares: tuple[Drive, ...]
    bands: tuple[Band, ...]
    #: What may fail as one: drive, shelf, host or site.
    domain: str = "drive"
    #: What is the same however these drives are divided; layouts of the same members and spares share it.
    known: dict[str, Any] = field(default_factory=dict, compare=False, repr=False)

    #: Whether each volume has a protection of its own, and its own stripes.
    own_protection: ClassVar[bool] = False
    #: What part of it loses data when too many of its drives fail.
    part: ClassVar[str] = "set"

    @cached_property
    def members(self) -> tuple[Drive, ...]:
        """All member drives, set after set."""
        return tuple(drive for one in self.sets for drive in one)

    def same(self, name: str, work: Callable[[], Any]) -> Any:
        """What does not depend on how the drives are divided, worked out once."""
        if name not in self.known:
            self.known[name] = work()
        return self.known[name]

    @cached_property
    def width(self) -> int:
        """Drives in a set; in the widest, where one has been given more than the others."""
        return max(len(one) for one in self.sets)

    @property
    def even(self) -> bool:
        """Whether all sets are as wide."""
        return all(len(one) == self.width for one in self.sets)

    def members_of(self, number: int) -> range:
        """The members of a set, by index."""
        first = sum(len(one) for one in self.sets[:number])
        return range(first, first + len(self.sets[number]))

    @cached_property
    def data_extents(self) -> int:
        """Extents of data the pool holds."""
        return sum(band.capacity for band in self.bands)

    @cached_property
    def used_extents(self) -> tuple[int, ...]:
        """For each member, how many of its extents some band uses."""
        used = [0] * len(self.members)
        for band in self.bands:
            for group in band.groups:
                for member in group.members:
                    used[member] += band.rows
        return tuple(used)

    @property
    def operations(self) -> int:
        """Small operations a second of the slowest member."""
        found: int = self.same("operations", lambda: min(d.operations for d in self.members))
        return found

    @cached_property
    def seconds_through(self) -> float:
        """Until every member's extents in use have been gone through once, all at the same time: the slowest counts."""
        return max(used * EXTENT / drive.mean_rate for drive, used in zip(self.members, self.used_extents, strict=True))

    def set_of(self, member: int) -> int:
        """Index of the set the member belongs to."""
        return self._sets_of[member]

    @cached_property
    def _sets_of(self) -> tuple[int, ...]:
        return tuple(number for number, one in enumerate(self.sets) for _ in one)

    @property
    def stock(self) -> int:
        """Extents that volumes are taken from."""
        return self.data_extents

    @property
    def stripes(self) -> int:
        """Stripes in the whole pool."""
        return sum(band.rows * len(band.groups) for band in self.bands)

    @property
    def drawn(self) -> Sequence[Band]:
        """The bands as they are drawn."""
        return self.bands

    def division(self, sets: int) -> Division:
        """How its drives would be divided into so many sets, all else as it is; spares not among them."""
        return Division(sets, built=True)

    def describe(self) -> str:
        """In words: ``2 sets of 6, 1 spare``."""
        sets = len(self.sets)
        widths = " and ".join(map(str, sorted({len(one) for one in self.sets})))
        text = f"{sets} sets of {widths}" if sets > 1 else f"1 set of {widths}"
        held = len(self.spares)
        return f"{text}, {held} spare{'s' if held > 1 else ''}" if held else text

    def left(self, gaps: Sequence[tuple[int, int]]) -> int:
        """Extents that no volume has yet; ``gaps`` are the free stretches of its addresses."""
        return sum(count for _, count in gaps)

    def largest(self, protection: str, gaps: Sequence[tuple[int, int]], closed: Collection[int]) -> int:
        """Extents of the largest volume that can be made now. ``protection`` is of spread pools; ``closed`` members
        take no new extents."""
        del protection, closed
        return self.left(gaps)

    def without_volume(self, volume: int) -> Layout:
        """The same once a volume is gone."""
        del volume
        return self

    def striped(self, volume: int) -> Any:
        """The stripes of a volume that has its own; None without."""
        del volume

    def rows_of(self, slot: int) -> list[tuple[int, int]]:
        """Where something stands on a member: (first row, rows), from its first row on."""
        found: list[tuple[int, int]] = []
        for first, rows in sorted((b.start, b.rows) for b in self.bands for g in b.groups if slot in g.members):
            if found and sum(found[-1]) == first:
                found[-1] = (found[-1][0], found[-1][1] + rows)
            else:
                found.append((first, rows))
        return found

    def needs(self, slot: int) -> int:
        """Extents that a drive must have to take a member's place: as far as something of the layout reaches on it,
        whatever larger drive has had the place."""
        return max(1, max((first + rows for first, rows in self.rows_of(slot)), default=1))

    def stripes_below(self, slot: int, row: int) -> int:
        """The number of the first stripe that has not all of a member's rows below one of them: what is below is
        there, if those rows are."""
        number = 0
        for band in self.bands:
            for group in band.groups:
                if slot in group.members and band.start + band.rows > row:
                    return number + max(0, row - band.start)
                number += band.rows
        return number

    def filled(self, slot: int) -> int:
        """In how many steps of a stripe a drive at a slot is filled."""
        del slot
        return self.stripes

    def after_failures(self, gone: Collection[str]) -> AfterFailures:
        """What is left once the members with these ids have failed; other ids are ignored."""
        tolerance = self.scheme.survives
        by_set = tuple(sum(d.id in gone for d in one) for one in self.sets)
        lost = tuple(i for i, count in enumerate(by_set) if count > tolerance)
        if lost:
            return AfterFailures(False, 0, 0, by_set, lost)
        left = [tolerance - count for count in by_set]
        return AfterFailures(True, min(left), sum(left), by_set, ())

    def lost_in_words(self, after: AfterFailures) -> str:
        """Where data are lost, in a sentence."""
        names = " and ".join(str(i + 1) for i in after.lost_sets)
        many = len(after.lost_sets) > 1
        where = f"set{'s' if many else ''} {names}" if len(self.sets) > 1 else "the set"
        return (
            f"The data are lost: {where} {'have' if many else 'has'} lost more drives than "
            f"{'they' if many else 'it'} can do without."
        )

    @property
    def data_drives(self) -> float:
        """Drives' worth of data: copies N/c, parity N - m x p, otherwise N."""
        members = len(self.members)
        return (
            members / self.width if self.scheme.code is Code.COPIES else members - len(self.sets) * self.scheme.survives
        )

    @property
    def _slowest(self) -> float:
        found: float = self.same("slowest rate", lambda: min(d.mean_rate for d in self.members))
        return found

    def stream_write(self) -> float:
        """Bytes a second of one long write: d x r; one drive after the other gives r (rules: speed)."""
        rate = self._slowest
        return rate if self.scheme.one_after_another else self.data_drives * rate

    def stream_read(self) -> float:
        """Bytes a second of one long read: copies N x r, parity d x r; one drive after the other gives r."""
        rate = self._slowest
        if self.scheme.one_after_another:
            return rate
        return (len(self.members) if self.scheme.code is Code.COPIES else self.data_drives) * rate

    def rebuild_seconds(self, index: int, new: Drive | None, absent: Collection[str]) -> float:
        """The drives' time to rebuild a member onto a new drive (default: one alike), from the rest of its set.

        bytes = the member's extents in use; rate = min(write rate of the new drive, read rate of the
        slowest source still there, share of each link with sources + 1 streams on it).
        """
        drive = self.members[index]
        sources = [d for d in self.sets[self.set_of(index)] if d.id != drive.id and d.id not in absent]
        streams = [new or drive, *sources]
        rate = min(min(d.mean_rate for d in streams), link_share(streams))
        return self.used_extents[index] * EXTENT / rate

    def slowest_rebuild_seconds(self, network: int | None) -> float:
        """The longest rebuild any one member could need, onto a drive alike."""
        return max(self.rebuild_seconds_by_set(network))

    def rebuild_seconds_by_set(self, network: int | None) -> list[float]:
        """The same of each set by itself."""
        used = self.used_extents
        found, first = [], 0
        for one in self.sets:
            rate = min(min(map(_RATE, one)), link_share(one, network))
            found.append(max(used[first : first + len(one)]) * EXTENT / rate)
            first += len(one)
        return found

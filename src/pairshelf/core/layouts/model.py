"""The values a layout is made of.

Every layout, of whatever family, comes down to *bands*: stretches of rows, one extent high, laid
over one or more groups of members. The figures, the drawing and the engine all read bands, so what
is promised and what is built cannot differ.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from enum import StrEnum
from functools import cached_property

from pairshelf.core.drives import Drive


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


@dataclass(frozen=True)
class Layout:
    """Drives divided into sets under one scheme, with spares that belong to no set."""

    scheme: Scheme
    sets: tuple[tuple[Drive, ...], ...]
    spares: tuple[Drive, ...]
    bands: tuple[Band, ...]

    @cached_property
    def members(self) -> tuple[Drive, ...]:
        """All member drives, set after set."""
        return tuple(drive for one in self.sets for drive in one)

    @property
    def width(self) -> int:
        """Drives in a set."""
        return len(self.sets[0])

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

    def set_of(self, member: int) -> int:
        """Index of the set the member belongs to."""
        return member // self.width


Cutter = Callable[[Scheme, Sequence[Sequence[Drive]]], tuple[Band, ...]]

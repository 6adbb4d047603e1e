"""Where each extent of a pool lies: from a pool address to members and rows, and back.

Pool addresses count data extents from 0. Bands follow one another; within a band addresses run row
by row, over the groups in turn and over each group's data columns. Parity moves by one member each
row, so every member carries its share.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Sequence
from dataclasses import dataclass

from pairshelf.core.errors import BadInput
from pairshelf.core.layouts.model import Band, Code, Group


@dataclass(frozen=True, slots=True)
class Stripe:
    """One row of one group: the unit of parity. ``columns`` lists the member of each column,
    data first (in member order), then P, Q, R. For copies every column holds the same."""

    band: int
    group: int
    row: int
    columns: tuple[int, ...]


@dataclass(frozen=True, slots=True)
class Spot:
    """A data extent: its stripe and its data column."""

    stripe: Stripe
    column: int


def columns_of(group: Group, row: int) -> tuple[int, ...]:
    """Members of a group in column order at a row: data columns first, then P, Q, R."""
    if group.code is not Code.PARITY:
        return group.members
    n = len(group.members)
    first = (n - 1 - row) % n
    checks = [group.members[(first + j) % n] for j in range(group.parity)]
    return (*(m for m in group.members if m not in checks), *checks)


class Placement:
    """The map of one layout, worked out once."""

    def __init__(self, bands: Sequence[Band]) -> None:
        self.bands = tuple(bands)
        #: Of each band, the extents of data in one row: asked for of every column that is moved.
        self.steps = tuple(band.data for band in self.bands)
        self._first_address = [0]
        for band in self.bands:
            self._first_address.append(self._first_address[-1] + band.capacity)

    @property
    def capacity(self) -> int:
        """Data extents in the pool."""
        return self._first_address[-1]

    def spot(self, address: int) -> Spot:
        """Where the data extent at a pool address lies."""
        if not 0 <= address < self.capacity:
            raise BadInput(f"Address {address} is outside the pool of {self.capacity} extents.")
        index = bisect_right(self._first_address, address) - 1
        band = self.bands[index]
        row, rest = divmod(address - self._first_address[index], band.data)
        for number, group in enumerate(band.groups):
            if rest < group.data:
                stripe = Stripe(index, number, band.start + row, columns_of(group, band.start + row))
                return Spot(stripe, rest)
            rest -= group.data
        raise AssertionError("a row's data columns add up to its groups'")  # pragma: no cover

    def runs(self, start: int, most: int) -> list[tuple[int, int, int, int]]:
        """From stripe number ``start`` at most ``most`` stripes, as (band, group, first row, rows).

        Stripes are numbered band after band, group after group, row after row, so that a run is a
        contiguous piece of every member it touches.
        """
        runs: list[tuple[int, int, int, int]] = []
        number = 0
        for b, band in enumerate(self.bands):
            for g in range(len(band.groups)):
                if start < number + band.rows and most > 0:
                    skip = max(0, start - number)
                    take = min(band.rows - skip, most)
                    runs.append((b, g, band.start + skip, take))
                    most -= take
                    start += take
                number += band.rows
        return runs

    def stripe_number(self, band: int, group: int, row: int) -> int:
        """The number of a stripe in the order of ``runs``."""
        before = sum(b.rows * len(b.groups) for b in self.bands[:band])
        return before + group * self.bands[band].rows + row - self.bands[band].start

"""A restripe: one front over one address space (rules: how a pool may change).

A pool's data extents have addresses that never change; only their places do, from one layout of the same drives to
another. The front moves upwards where the new layout holds at least as much per row as the old one, downwards
otherwise: behind it extents stand as the new layout says, before it as the old one does. The new layout is written
row by row. A row may be written in its place only where no stripe of the old layout that is still needed stands;
where one does, rows go by way of a copy, which stays until they stand in their place.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import numpy.typing as npt

from pairshelf.core.domain.drives import Drive
from pairshelf.core.domain.units import EXTENT
from pairshelf.core.errors import NotPossible
from pairshelf.core.layouts.model import Band, Code, Group, Layout

Numbers = npt.NDArray[np.int64]

#: Beyond every row of every drive.
_NOWHERE = 2**62
#: Most rows in one copy: what a copy holds must fit into the room held back on a drive.
COPIED_ROWS = 16


def renumbered(bands: Sequence[Band], numbers: Sequence[int]) -> tuple[Band, ...]:
    """Bands whose members have other numbers: member i of before is ``numbers[i]``."""
    return tuple(
        Band(b.start, b.rows, tuple(Group(tuple(numbers[m] for m in g.members), g.code, g.parity) for g in b.groups))
        for b in bands
    )


def capacity_of(bands: Sequence[Band]) -> int:
    """Extents of data that bands hold."""
    return sum(b.capacity for b in bands)


def in_common(old: Sequence[Band], new: Sequence[Band]) -> int:
    """How many of the first addresses stand in the same places under both."""
    count = 0
    for a, b in zip(old, new, strict=False):
        if (a.start, a.groups) != (b.start, b.groups):
            break
        count += min(a.rows, b.rows) * a.data
        if a.rows != b.rows:
            break
    return count


@dataclass(frozen=True, slots=True)
class Window:
    """Addresses ``low`` to ``high`` that are moved together; all of their rows under the new layout are written."""

    low: int
    high: int
    by_copy: bool


class _Tracks:
    """Where the rows of each drive stand in the addresses of a layout."""

    def __init__(self, bands: Sequence[Band]) -> None:
        #: Of each drive, by rising rows and addresses: (first address, per row, offset, data, first row, rows).
        self.of: dict[int, list[tuple[int, int, int, int, int, int]]] = {}
        first = 0
        for band in bands:
            offset = 0
            for group in band.groups:
                for member in group.members:
                    self.of.setdefault(member, []).append((first, band.data, offset, group.data, band.start, band.rows))
                offset += group.data
            first += band.capacity

    def first_at_or_after(self, drive: int, address: Numbers) -> Numbers:
        """The first row of a drive in whose stripe stands an address not below these."""
        found = np.full(address.shape, _NOWHERE)
        for first, step, offset, data, start, rows in reversed(self.of.get(drive, [])):
            index = np.maximum(0, -((first + offset + data - 1 - address) // step))
            found = np.where(index < rows, start + index, found)
        return found

    def last_before(self, drive: int, address: Numbers) -> Numbers:
        """The last row of a drive in whose stripe stands an address below these; -1 where there is none."""
        found = np.full(address.shape, -1)
        for first, step, offset, _, start, rows in self.of.get(drive, []):
            index = np.minimum(rows, -((first + offset - address) // step)) - 1
            found = np.where(index >= 0, start + index, found)
        return found


class Walk:
    """The front's way from one layout to another. Both number the same drives; ``stored`` is how many of the first
    addresses hold anything (default: what both have)."""

    def __init__(self, old: Sequence[Band], new: Sequence[Band], *, upwards: bool, stored: int | None = None) -> None:
        self.old, self.new, self.upwards = tuple(old), tuple(new), upwards
        least = min(capacity_of(old), capacity_of(new))
        self.stored = least if stored is None else min(stored, least)
        #: Addresses at which a row of the new layout begins, and where it ends.
        starts, ends = [], []
        first = 0
        for band in self.new:
            at = first + np.arange(band.rows, dtype=np.int64) * band.data
            starts.append(at)
            ends.append(at + band.data)
            first += band.capacity
        self.starts: Numbers = np.concatenate(starts) if starts else np.zeros(0, np.int64)
        self.ends: Numbers = np.concatenate(ends) if ends else np.zeros(0, np.int64)
        #: What stands in the same places under both is not touched.
        self.common = in_common(self.old, self.new)
        self.capacity = first
        #: Where the front begins, and where it has arrived.
        self.begins = self.common if upwards else self.capacity
        self.arrives = self.capacity if upwards else self.common
        self._before, self._after = _Tracks(self.old), _Tracks(self.new)

    @cached_property
    def _rows(self) -> tuple[list[Numbers], list[Numbers], list[Numbers]]:
        """Of each drive that both use, turned so that the front always rises: the row that writing a row of the new
        layout reaches at most; the first row the old one needs from the row's near edge on; and from its far edge."""
        reach, near, far = [], [], []
        # Beyond what is stored the old layout needs nothing.
        starts, ends = np.minimum(self.starts, self.stored), np.minimum(self.ends, self.stored)
        for drive in sorted(self._before.of.keys() & self._after.of.keys()):
            if self.upwards:

                def needed(address: Numbers, drive: int = drive) -> Numbers:
                    found = self._before.first_at_or_after(drive, address)
                    return np.where(address >= self.stored, _NOWHERE, found)

                reach.append(self._after.last_before(drive, self.ends))
                near.append(needed(starts))
                far.append(needed(ends))
            else:
                reach.append(-self._after.first_at_or_after(drive, self.starts))
                near.append(-self._before.last_before(drive, ends))
                far.append(-self._before.last_before(drive, starts))
        return reach, near, far

    @cached_property
    def straight(self) -> npt.NDArray[np.bool_]:
        """Of each row of the new layout, whether it can be written in its place while the old one stands as it did."""
        reach, near, _ = self._rows
        found = np.ones(len(self.starts), bool)
        for r, n in zip(reach, near, strict=True):
            found &= r < n
        return found

    @cached_property
    def safe(self) -> npt.NDArray[np.bool_]:
        """Of each row, whether nothing is lost that has not been moved once it stands in its place."""
        reach, _, far = self._rows
        found = np.ones(len(self.starts), bool)
        for r, n in zip(reach, far, strict=True):
            found &= r < n
        return found

    @property
    def possible(self) -> bool:
        """Whether the front can go all the way."""
        return bool(self.safe[self._to_move].all())

    @property
    def _to_move(self) -> npt.NDArray[np.bool_]:
        """Rows that do not stand where they will already."""
        return self.starts >= self.common

    def entered(self, front: int) -> int:
        """Where a front that is turned round into this way stands. Beyond what this layout has there is nothing to
        lead back, and its rows will be written over: they are not counted as the other layout's any more."""
        return front if self.upwards else min(front, self.capacity)

    def next(self, front: int, most: int) -> Window | None:
        """What is moved next: the largest window that is safe, of at most so many rows; None when the front has
        arrived. A front in the middle of a row (it was turned round there) takes that row first, by a copy."""
        if (front >= self.arrives) if self.upwards else (front <= self.arrives):
            return None
        front = self.entered(front)
        row = int(np.searchsorted(self.ends, front, "right" if self.upwards else "left"))
        edge = int(self.starts[row] if self.upwards else self.ends[row])
        if not self.safe[row]:
            raise NotPossible("The front cannot go on here.", code="no-way")
        if edge != front or not self.straight[row]:
            return self._copied(row, whole=edge != front, most=max(1, min(most, COPIED_ROWS)))
        reach, near, _ = self._rows
        if self.upwards:
            last = min(len(self.starts), row + max(1, most)) - 1
            for r, n in zip(reach, near, strict=True):
                last = min(last, int(np.searchsorted(r[: last + 1], n[row], "left")) - 1)
            return Window(int(self.starts[row]), int(self.ends[last]), False)
        first = max(int(np.searchsorted(self.starts, self.common, "left")), row - max(1, most) + 1)
        for r, n in zip(reach, near, strict=True):
            # Reversed, what is reached rises.
            held = int(np.searchsorted(r[first : row + 1][::-1], n[row], "left"))
            first = max(first, row - held + 1)
        return Window(int(self.starts[first]), int(self.ends[row]), False)

    def _copied(self, row: int, *, whole: bool, most: int) -> Window:
        """Rows that go by way of a copy: up to the next that needs none, as many as are safe together."""
        step = 1 if self.upwards else -1
        end = last = row
        for other in range(row, row + step * (1 if whole else most), step):
            if not 0 <= other < len(self.starts) or self.starts[other] < self.common:
                break
            if other != row and self.straight[other]:
                break
            last = other
            if self.safe[last]:
                end = last
        low, high = min(row, end), max(row, end)
        return Window(int(self.starts[low]), int(self.ends[high]), True)

    def extents_moved(self, drives: int, copies: int) -> npt.NDArray[np.float64]:
        """Of each drive, extents read and written by the whole walk: the data as they lay, all rows of the new layout,
        and what goes by way of copies (each kept ``copies`` times, on the drives in turn)."""
        moved = np.zeros(drives)
        first = 0
        for band in self.old:
            low, high = max(first, self.common), min(first + band.capacity, self.stored)
            if low < high:
                for group in band.groups:
                    for member in group.members:
                        moved[member] += (high - low) / band.data * group.data / len(group.members)
            first += band.capacity
        first = 0
        for band in self.new:
            rows = (first + band.capacity - max(first, self.common)) / band.data
            if rows > 0:
                for group in band.groups:
                    for member in group.members:
                        moved[member] += rows
            first += band.capacity
        ahead = self._to_move & ~self.straight
        copied = int(
            np.minimum(self.ends, self.stored)[ahead].sum() - np.minimum(self.starts, self.stored)[ahead].sum()
        )
        return moved + copied * copies / max(1, drives)


def walk_between(old: Sequence[Band], new: Sequence[Band], *, stored: int | None = None) -> Walk:
    """The way from one layout to another: upwards if that can be, else downwards. NotPossible where neither can."""
    for upwards in (True, False):
        walk = Walk(old, new, upwards=upwards, stored=stored)
        if walk.possible:
            return walk
    raise NotPossible(
        "One front cannot lead from the one layout to the other; do it in two steps.", code="no-way", field="drives"
    )


@dataclass(frozen=True)
class Moving:
    """Two layouts of one pool over one list of drives: first those of the old layout in its order, then those that
    only the new one has."""

    old: Layout
    new: Layout

    @cached_property
    def numbers(self) -> tuple[int, ...]:
        """The number in the list of each member of the new layout; who has the id of a member of the old one is it."""
        place = {d.id: i for i, d in enumerate(self.old.members)}
        for drive in self.new.members:
            place.setdefault(drive.id, len(place))
        return tuple(place[d.id] for d in self.new.members)

    @cached_property
    def drives(self) -> tuple[Drive, ...]:
        """All drives of both."""
        have = len(self.old.members)
        added = {n: d for n, d in zip(self.numbers, self.new.members, strict=True) if n >= have}
        return (*self.old.members, *(added[n] for n in sorted(added)))

    @cached_property
    def new_bands(self) -> tuple[Band, ...]:
        """The bands of the new layout, over the list."""
        return renumbered(self.new.bands, self.numbers)

    @property
    def copies(self) -> int:
        """How often a copy is kept: once more than failures are survived meanwhile."""
        return min(self.old.scheme.survives, self.new.scheme.survives) + 1

    def walk(self) -> Walk:
        """The way from the one to the other. NotPossible where there is none."""
        return walk_between(self.old.bands, self.new_bands)

    @property
    def at_once(self) -> bool:
        """Whether all there is stands in the same places under both: nothing has to be moved."""
        if self.old.own_protection:
            return True
        held = capacity_of(self.old.bands)
        return in_common(self.old.bands, self.new_bands) >= held

    @property
    def only_copies(self) -> bool:
        """Whether one has no more than further copies of what the other has, each in the same rows: nothing is moved,
        drives are filled or leave."""
        old, new = self.old, self.new
        kinds = {g.code for b in (*old.bands, *new.bands) for g in b.groups}
        rows = [[(b.start, b.rows, len(b.groups)) for b in layout.bands] for layout in (old, new)]
        sets = [[{d.id for d in one} for one in layout.sets] for layout in (old, new)]
        return (
            bool(old.bands) and Code.PARITY not in kinds and rows[0] == rows[1] and len(sets[0]) == len(sets[1])
            and old.scheme.id != new.scheme.id
            and all(a <= b or a >= b for a, b in zip(*sets, strict=True))
        )  # fmt: skip

    def seconds(self) -> float:
        """The drives' time of the whole restripe: the drive with the most extents moved over its rate counts."""
        return float(max(self._moved() / np.array([d.mean_rate for d in self.drives]))) * EXTENT

    def _moved(self) -> npt.NDArray[np.float64]:
        return self.walk().extents_moved(len(self.drives), self.copies)

"""Extents of a spread pool's stripes put elsewhere: off drives that leave, and evenly over all that stay.

Stripes are moved extent by extent, and never weakened on the way: a stripe's extents stay in different failure domains.
Where the only room is in domains that a stripe uses already, another stripe makes room for it first: the shortest such
chain (augmenting paths of bipartite matching; C. Berge, 1957). So whatever can be placed at all (``room_without``) is.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt

from pairshelf.core.domain.units import EXTENT
from pairshelf.core.layouts.spread import SpreadLayout, StripedVolume, free_rows

Spot = tuple[int, int]

#: Differences below this are rounding.
_EVEN = 1e-9


@dataclass(frozen=True, slots=True)
class Move:
    """An extent of a stripe goes from one (slot, row) to another."""

    volume: int
    stripe: int
    column: int
    source: Spot
    to: Spot


class StripeMoves:
    """The next moves in a pool, none of which goes where another of them came from: all of them may be written before
    any is noted in the books."""

    def __init__(self, layout: SpreadLayout, closed: Collection[int]) -> None:
        """``closed`` slots take no new extents."""
        self._layout = layout
        self._domain_of = np.array(layout.pool.domain_of)
        self._slots = {v.volume: v.slots.copy() for v in layout.volumes}
        self._sizes = np.array([d.extents for d in layout.members])
        free = self._sizes - np.array(layout.used_extents)
        free[list(closed)] = 0
        self._open = np.ones(len(layout.members), bool)
        self._open[list(closed)] = False
        self._free = free
        #: Of these, what no move of these has left: where one came from nothing may go yet.
        self._usable = free.copy()
        self._rows: dict[int, list[int]] = {}

    def off(self, leaving: Collection[int], most: int) -> list[Move]:
        """Up to so many moves off the leaving slots, which are closed; none where nothing stands there any more, or
        there is no room."""
        found: list[Move] = []
        for volume in sorted(self._layout.volumes, key=lambda v: v.volume):
            for stripe, column in np.argwhere(np.isin(volume.slots, list(leaving))).tolist():
                if len(found) == most:
                    return found
                slot = self._best(volume.volume, stripe, column)
                if slot is not None:
                    found.append(self._take(volume, stripe, column, slot))
                elif not found and (first := self._make_room(volume.volume, stripe, column)) is not None:
                    return [first]
        return found

    def evenly(self, most: int) -> list[Move]:
        """Up to so many moves after which the domains, and inside each its drives, are filled more alike; none where
        they are filled as alike as can be: the sum of used^2 / size is at its least."""
        found: list[Move] = []
        while len(found) < most:
            move = self._level_domains() or self._level_drives()
            if move is None:
                return found
            found.append(move)
        return found

    # -- the workings --------------------------------------------------------------------------

    def _used(self, volume: int, stripe: int, column: int) -> npt.NDArray[np.bool_]:
        """The domains that a stripe's other extents stand in."""
        used = np.zeros(len(self._layout.pool.domains), bool)
        used[np.delete(self._domain_of[self._slots[volume][stripe]], column)] = True
        return used

    def _free_of_domains(self) -> npt.NDArray[np.int64]:
        return np.bincount(self._domain_of, self._free, len(self._layout.pool.domains)).astype(np.int64)

    def _best(self, volume: int, stripe: int, column: int) -> int | None:
        """The drive that takes an extent: in the domain with the most room of those the stripe does not use."""
        room = self._free_of_domains()
        room[self._used(volume, stripe, column)] = 0
        domain = int(room.argmax())
        return self._roomiest(domain) if room[domain] > 0 else None

    def _roomiest(self, domain: int) -> int:
        """Inside a domain the drive with the most room, first in the listed order."""
        return int(np.where((self._domain_of == domain) & (self._usable > 0), self._free, -1).argmax())

    def _take(self, volume: StripedVolume, stripe: int, column: int, slot: int) -> Move:
        source = volume.spots[stripe, column].tolist()
        if slot not in self._rows:
            self._rows[slot] = free_rows(self._layout, slot)
        self._free[slot] -= 1
        self._usable[slot] -= 1
        self._slots[volume.volume][stripe, column] = slot
        return Move(volume.volume, stripe, column, (source[0], source[1]), (slot, self._rows[slot].pop()))

    def _make_room(self, volume: int, stripe: int, column: int) -> Move | None:
        """The move with which a chain of them begins, at whose end this extent has a place. One at a time: the room
        that it makes is there once it has been noted."""
        start = ~self._used(volume, stripe, column)
        room = self._free_of_domains()
        # Breadth first, from the domains that the stripe may use to one with room.
        queue = np.flatnonzero(start).tolist()
        came = set(queue)
        for domain in queue:
            for other, row, place in self._standing_in(domain):
                onto = (~self._used(other.volume, row, place)).nonzero()[0].tolist()
                for to in onto:
                    if to in came:
                        continue
                    if room[to] > 0:
                        return self._take(other, row, place, self._roomiest(to))
                    came.add(to)
                    queue.append(to)
                if len(came) == len(room):
                    break
        return None

    def _standing_in(self, domain: int) -> Iterator[tuple[StripedVolume, int, int]]:
        """Extents in a domain, on drives that stay."""
        for volume in self._layout.volumes:
            slots = self._slots[volume.volume]
            there = (self._domain_of[slots] == domain) & self._open[slots]
            for row, column in np.argwhere(there).tolist():
                yield volume, row, column

    def _level_domains(self) -> Move | None:
        count = len(self._layout.pool.domains)
        sizes = np.bincount(self._domain_of, np.where(self._open, self._sizes, 0), count)
        used = sizes - self._free_of_domains()
        open_ones = np.flatnonzero(sizes)
        less, more = (2 * used[open_ones] - 1) / sizes[open_ones], (2 * used[open_ones] + 1) / sizes[open_ones]
        for to in np.argsort(more, kind="stable").tolist():
            for source in np.argsort(-less, kind="stable").tolist():
                if less[source] <= more[to] + _EVEN or used[open_ones[source]] == 0:
                    break
                move = None if to == source else self._between(int(open_ones[source]), int(open_ones[to]))
                if move is not None:
                    self._free[move.source[0]] += 1
                    return move
        return None

    def _between(self, source: int, to: int) -> Move | None:
        """An extent of one domain that may go to another, from the fullest drive that has one: the first of a stripe
        that does not use it."""
        taker = self._roomiest(to)
        if self._usable[taker] <= 0:
            return None
        inside = np.flatnonzero((self._domain_of == source) & self._open)
        for slot in inside[np.argsort(self._free[inside], kind="stable")].tolist():
            for volume in self._layout.volumes:
                slots = self._slots[volume.volume]
                stands = self._unmoved(volume, slot)
                stripes = np.flatnonzero(stands.any(axis=1) & ~(self._domain_of[slots] == to).any(axis=1))
                if len(stripes):
                    stripe = int(stripes[0])
                    return self._take(volume, stripe, int(stands[stripe].argmax()), taker)
        return None

    def _unmoved(self, volume: StripedVolume, slot: int) -> npt.NDArray[np.bool_]:
        """Where extents stand on a slot that are not among these moves already."""
        found: npt.NDArray[np.bool_] = (self._slots[volume.volume] == slot) & (volume.slots == slot)
        return found

    def _level_drives(self) -> Move | None:
        for domain in range(len(self._layout.pool.domains)):
            inside = np.flatnonzero((self._domain_of == domain) & self._open)
            if len(inside) < 2:
                continue
            used, sizes = self._sizes[inside] - self._free[inside], self._sizes[inside]
            less, more = (2 * used - 1) / sizes, (2 * used + 1) / sizes
            source, to = inside[less.argmax()], inside[more.argmin()]
            if less.max() <= more.min() + _EVEN or not self._usable[to]:
                continue
            for volume in self._layout.volumes:
                if len(found := np.argwhere(self._unmoved(volume, int(source)))):
                    self._free[source] += 1
                    return self._take(volume, int(found[0][0]), int(found[0][1]), int(to))
        return None


def moved(layout: SpreadLayout, moves: Sequence[Move]) -> SpreadLayout:
    """The layout once they have been made."""
    for volume in layout.volumes:
        own = [m for m in moves if m.volume == volume.volume]
        if own:
            spots = volume.spots.copy()
            spots[[m.stripe for m in own], [m.column for m in own]] = [m.to for m in own]
            layout = layout.with_volume(StripedVolume(volume.volume, volume.protection, spots))
    return layout


def room_without(layout: SpreadLayout, leaving: Collection[int], closed: Collection[int] = ()) -> int:
    """How many extents are missing for all stripes to be placed without the leaving slots (and those that are closed);
    0: all can be (Gale-Ryser, as ``placing.fits``)."""
    stripes = [(len(v.spots), v.protection.width) for v in layout.volumes]
    capacities = [0] * len(layout.pool.domains)
    for slot, drive in enumerate(layout.members):
        if slot not in leaving and slot not in closed:
            capacities[layout.pool.domain_of[slot]] += drive.extents
    missing = count = extents = 0
    for number, width in sorted(stripes, key=lambda s: -s[1]):
        count, extents = count + number, extents + number * width
        missing = max(missing, extents - sum(min(c, count) for c in capacities))
    return missing


def without_slots(layout: SpreadLayout, leaving: Collection[int]) -> SpreadLayout:
    """The layout without slots on which nothing stands; those that stay are renumbered in their order."""
    stay = [s for s in range(len(layout.members)) if s not in leaving]
    number = np.full(len(layout.members), -1, np.int32)
    number[stay] = np.arange(len(stay))
    volumes = []
    for v in layout.volumes:
        spots = v.spots.copy()
        spots[:, :, 0] = number[v.slots]
        assert (spots[:, :, 0] >= 0).all(), "something stands there still"
        volumes.append(StripedVolume(v.volume, v.protection, spots))
    return replace(layout, sets=(tuple(layout.members[s] for s in stay),), volumes=tuple(volumes))


def uneven_extents(layout: SpreadLayout, closed: Collection[int] = ()) -> int:
    """Extents that would have to move for all open domains to be filled alike. That stripes keep their extents apart
    may leave some where they are."""
    used, sizes = np.zeros(len(layout.pool.domains), np.int64), np.zeros(len(layout.pool.domains), np.int64)
    for slot, (drive, own) in enumerate(zip(layout.members, layout.used_extents, strict=True)):
        if slot not in closed:
            used[layout.pool.domain_of[slot]] += own
            sizes[layout.pool.domain_of[slot]] += drive.extents
    used, sizes = used[sizes > 0], sizes[sizes > 0]
    if len(sizes) < 2:
        return 0
    # Whole shares of all that is there, and what is left over where it makes the least difference.
    best = used.sum() * sizes // sizes.sum()
    for _ in range(int(used.sum() - best.sum())):
        best[((2 * best + 1) / sizes).argmin()] += 1
    if (used**2 / sizes).sum() <= (best**2 / sizes).sum() + _EVEN:
        return 0
    return int(np.maximum(used - best, 0).sum())


def uneven_seconds(layout: SpreadLayout, extents: int) -> float:
    """The drives' time to move so many: read together, written together."""
    return 2 * extents * EXTENT / sum(d.mean_rate for d in layout.members)

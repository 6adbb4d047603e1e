"""Spread layouts: a stock of extents on all drives, each volume with its own protection (rules: layouts)."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import ClassVar

import numpy as np
import numpy.typing as npt

from pairshelf.core.domain.drives import Drive
from pairshelf.core.domain.units import EXTENT
from pairshelf.core.errors import NoRoom, NotPossible
from pairshelf.core.layouts.model import AfterFailures, Band, Code, Division, Family, Group, Layout, Scheme
from pairshelf.core.layouts.placing import Placed, Placer, SpreadPool, spread_pool, stripes_max
from pairshelf.core.layouts.protections import Protection, parse_protection
from pairshelf.core.layouts.repairs import Held, repair_seconds
from pairshelf.core.patience import still_wanted

#: int32 [stripes, width, 2]: the slot and the row of each extent, data columns first, then P and Q.
Spots = npt.NDArray[np.int32]


#: Shares of a drive's used extents are drawn in so many parts.
_PARTS = 240


@dataclass(frozen=True)
class StripedVolume:
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

    volumes: tuple[StripedVolume, ...] = field(default=(), compare=False)

    own_protection: ClassVar[bool] = True
    part: ClassVar[str] = "place"

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

    @property
    def stripes(self) -> int:
        """Stripes of all volumes."""
        return sum(len(v.spots) for v in self.volumes)

    @property
    def drawn(self) -> Sequence[Band]:
        """On each drive what is used, data and redundancy in their shares of all."""
        used = sum(self.used_extents)
        data = round(self.data_extents / used * _PARTS) if used else 0
        return [
            Band(0, own, (Group((i,) * _PARTS, Code.PARITY, _PARTS - data),))
            for i, own in enumerate(self.used_extents) if own
        ]  # fmt: skip

    def describe(self) -> str:
        """In words."""
        apart = f", their {self.domain}s kept apart" if self.domain != "drive" else ""
        return f"{len(self.members)} drives{apart}"

    def left(self, gaps: Sequence[tuple[int, int]]) -> int:
        """Extents of its drives that no stripe uses."""
        del gaps
        return self.free_extents

    def largest(self, protection: str, gaps: Sequence[tuple[int, int]], closed: Collection[int]) -> int:
        """Extents of data that a further volume of this protection could have."""
        del gaps
        return self.room_for(parse_protection(protection, field="protection"), closed)

    def striped(self, volume: int) -> StripedVolume | None:
        """The stripes of a volume, None while it has none."""
        return next((v for v in self.volumes if v.volume == volume), None)

    def rows_of(self, slot: int) -> list[tuple[int, int]]:
        """Where extents of its volumes stand on a member."""
        rows = np.unique(np.concatenate([np.zeros(0, int), *(v.spots[:, :, 1][v.slots == slot] for v in self.volumes)]))
        if not len(rows):
            return []
        edges = np.flatnonzero(np.diff(rows, prepend=-2) != 1)
        ends = np.append(edges[1:], len(rows))
        return [(int(rows[e]), int(n - e)) for e, n in zip(edges, ends, strict=True) if n > e]

    def needs(self, slot: int) -> int:
        """All that its drive gives: it is stock of the pool."""
        return self.members[slot].extents

    def stripes_below(self, slot: int, row: int) -> int:
        """Its stripes do not follow the rows: one that is being filled is filled from the start."""
        del slot, row
        return 0

    def division(self, sets: int) -> Division:
        """Its volumes keep their stripes."""
        del sets
        return Division(domain=self.domain, volumes=self.volumes, built=True)

    def filled(self, slot: int) -> int:
        """A drive is filled extent by extent."""
        return self.used_extents[slot]

    def after_failures(self, gone: Collection[str]) -> AfterFailures:
        """Every stripe bears what its protection does. The best case goes on failing the drive that hurts
        least, and is so at least that good."""
        drives = len(self.members)
        left = np.array([d.id not in gone for d in self.members])
        rows, bears = [np.zeros((0, drives), bool)], [np.zeros(0, int)]
        for volume in self.volumes:
            for slots in np.unique(np.sort(volume.slots, axis=1), axis=0):
                row = np.zeros((1, drives), bool)
                row[0, slots] = True
                rows.append(row)
                bears.append(np.array([volume.protection.survives]))
        stands = np.concatenate(rows)
        spare = np.concatenate(bears) - (stands & ~left).sum(axis=1)
        count = (len(set(gone) & {d.id for d in self.members}),)
        if (spare < 0).any():
            return AfterFailures(False, 0, 0, count, (0,))
        sure = int(spare.min()) if len(spare) else int(left.sum())
        best = 0
        while left.any():
            hurt = np.where(left, (stands & (spare == 0)[:, None]).sum(axis=0) * 10**6 + stands.sum(axis=0), 2**60)
            drive = int(hurt.argmin())
            if (stands[:, drive] & (spare == 0)).any():
                break
            spare -= stands[:, drive]
            left[drive] = False
            best += 1
        return AfterFailures(True, sure, max(sure, best), count, ())

    def lost_in_words(self, after: AfterFailures) -> str:
        """Where data are lost, in a sentence."""
        del after
        return "Data are lost: some stripes have lost more drives than they can do without."

    def _stream(self, moved: Sequence[int]) -> float:
        """All data of the volumes, over the time of the drive that has most to do: its extents over its rate."""
        longest = max(used * EXTENT / d.mean_rate for d, used in zip(self.members, moved, strict=True))
        slowest = min(d.mean_rate for d in self.members)
        return self.data_extents * EXTENT / longest if longest else len(self.members) * slowest

    def stream_write(self) -> float:
        """A stream lasts as long as the busiest drive is at work."""
        return self._stream(self.used_extents)

    def stream_read(self) -> float:
        """The same; only data are read, of copies the first."""
        data = np.zeros(len(self.members), np.int64)
        for volume in self.volumes:
            data += np.bincount(volume.slots[:, : volume.protection.data].ravel(), minlength=len(self.members))
        return self._stream(data.tolist())

    def _held(self) -> Held:
        drives = len(self.members)
        return [(v.protection, np.bincount(v.slots.ravel(), minlength=drives)) for v in self.volumes]

    def rebuild_seconds(self, index: int, new: Drive | None, absent: Collection[str]) -> float:
        """What stood on it, put onto a new drive or one alike, from all others."""
        drive = self.members[index]
        rest = [d for d in self.members if d.id != drive.id and d.id not in absent]
        return repair_seconds(self.pool, self._held(), index, None, onto=new or drive, readers=rest)

    def slowest_rebuild_seconds(self, network: int | None) -> float:
        """The longest self-repair after the loss of any one drive."""
        held = self._held()
        return max(repair_seconds(self.pool, held, i, network) for i in range(len(self.members)))

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
        placer = Placer(self.pool, [v.slots for v in self.volumes], closed)
        rows = [free_rows(self, slot) for slot in range(len(self.members))]
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

    def without_volume(self, volume: int) -> SpreadLayout:
        """The same without a volume's stripes."""
        return replace(self, volumes=tuple(v for v in self.volumes if v.volume != volume))

    def volume(self, volume: int) -> StripedVolume:
        """The stripes of a volume."""
        return next(v for v in self.volumes if v.volume == volume)

    def with_volume(self, volume: StripedVolume) -> SpreadLayout:
        """The same with a volume's stripes in the place of those it had."""
        rest = tuple(v for v in self.volumes if v.volume != volume.volume)
        return replace(self, volumes=(*rest, volume), scheme=_scheme((*rest, volume)))


_VOLUME_BITS = 32


def base_of(volume: int) -> int:
    """The first address of a volume: every volume of a spread pool has addresses of its own."""
    return volume << _VOLUME_BITS


def volume_at(address: int) -> int:
    """The volume that an address is of."""
    return address >> _VOLUME_BITS


def spread_of(layout: Layout) -> SpreadLayout:
    """The layout, of which is known that its volumes have a protection of their own."""
    assert isinstance(layout, SpreadLayout)
    return layout


def spread_layout(members: Sequence[Drive], domain: str, volumes: Sequence[StripedVolume] = ()) -> SpreadLayout:
    """A built spread pool. What all of it survives is what its least protected volume does."""
    return SpreadLayout(_scheme(volumes), (tuple(members),), (), (), domain, volumes=tuple(volumes))


def lay(scheme: Scheme, drives: Sequence[Drive], division: Division) -> Layout:
    """All drives as one stock of extents."""
    del scheme
    domain = division.domain or "drive"
    # Of a built pool the drives are where they are.
    members = drives if division.built else spread_pool(drives, domain).drives
    return spread_layout(members, domain, division.volumes)


SPREAD = Scheme(
    "spread", "", Family.SPREAD, Code.PARITY, 0, 2, None,
    "A stock of extents on all drives; each volume has its own protection.", lay,
)  # fmt: skip

SCHEMES = (SPREAD,)


def _scheme(volumes: Sequence[StripedVolume]) -> Scheme:
    return replace(SPREAD, survives=min((v.protection.survives for v in volumes), default=1))


def free_rows(layout: SpreadLayout, slot: int) -> list[int]:
    """Rows of a member that no stripe uses, the lowest last."""
    taken = np.zeros(layout.members[slot].extents, bool)
    for volume in layout.volumes:
        taken[volume.spots[:, :, 1][volume.slots == slot]] = True
    return [int(row) for row in np.flatnonzero(~taken)[::-1]]

"""The layout of a pool that is being restriped: what the front has passed stands as the new layout says, the rest as
the old one does."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass, replace
from functools import lru_cache

from pairshelf.core.domain.drives import Drive
from pairshelf.core.domain.units import EXTENT
from pairshelf.core.layouts.links import link_share
from pairshelf.core.layouts.model import AfterFailures, Band, Layout
from pairshelf.core.layouts.restripe import Moving, Walk


@dataclass(frozen=True, kw_only=True)
class Restriping(Layout):
    """Both layouts over one list of drives, and the front between them. Its bands are what really stands there."""

    both: Moving
    front: int
    #: The new layout has the addresses below the front.
    upwards: bool
    #: The front goes back to the old layout.
    turned: bool

    @property
    def old_view(self) -> Layout:
        """The old layout over the whole list of drives."""
        return replace(self.both.old, sets=(self.both.drives,), known={})

    @property
    def new_view(self) -> Layout:
        """The new layout over the whole list of drives."""
        return replace(self.both.new, sets=(self.both.drives,), bands=self.both.new_bands, spares=(), known={})

    @property
    def walk(self) -> Walk:
        """The way the front goes now."""
        old, new = self.both.old.bands, self.both.new_bands
        return _way(new, old, not self.upwards) if self.turned else _way(old, new, self.upwards)

    def turned_round(self) -> Restriping:
        """The front goes the other way from now on."""
        other = restriping(self.both, self.front, upwards=self.upwards, turned=not self.turned)
        return restriping(self.both, other.walk.entered(self.front), upwards=self.upwards, turned=other.turned)

    @property
    def ribbon(self) -> tuple[int, ...]:
        """Of each drive, the row at which what the front has passed ends (or, going downwards, begins)."""
        stands = self.both.new_bands if self.upwards else self.both.old.bands
        below = _rows_between(stands, 0, self.front)
        ends = [0] * len(self.members)
        for band in below:
            for group in band.groups:
                for member in group.members:
                    ends[member] = max(ends[member], band.start + band.rows)
        return tuple(ends)

    @property
    def passed(self) -> float:
        """The share of its way that the front has behind it, 0 to 1; of one that goes back, of the way back."""
        walk = self.walk
        whole = abs(walk.arrives - walk.begins)
        return 1 - min(1.0, abs(walk.arrives - min(self.front, max(walk.arrives, walk.begins))) / max(1, whole))

    @property
    def data_extents(self) -> int:
        """Until it has arrived, what both have."""
        return min(self.both.old.data_extents, self.both.new.data_extents)

    @property
    def to_come(self) -> int:
        """Extents of data more than now, once the front has arrived where it goes."""
        goal = self.both.old if self.turned else self.both.new
        return goal.data_extents - self.data_extents

    def set_of(self, member: int) -> int:
        """Of a drive that the old layout does not use, its set in the new one."""
        old = self.both.old
        if member < len(old.members):
            return old.set_of(member)
        return self.both.new.set_of(self.both.numbers.index(member))

    def needs(self, slot: int) -> int:
        """All that the place was made with: both layouts count on it."""
        return self.members[slot].extents

    @property
    def stripes(self) -> int:
        """Of both layouts: their numbers follow one another."""
        return self.both.old.stripes + self.both.new.stripes

    def describe(self) -> str:
        """From what to what."""
        old, new = self.both.old, self.both.new
        return f"{old.describe()}, being restriped to {new.scheme.id}, {new.describe()}"

    def after_failures(self, gone: Collection[str]) -> AfterFailures:
        """What both survive, as far as something stands in them; more may fail only as the weaker one says."""
        ends = (self.front, self.data_extents - self.front)
        moved, waits = ends if self.upwards else ends[::-1]
        old, new = self.both.old.after_failures(gone), self.both.new.after_failures(gone)
        if not old.survives and waits > 0:
            return old
        if not new.survives and moved > 0:
            return new
        return AfterFailures(
            True, min(old.more_guaranteed, new.more_guaranteed), min(old.more_best_case, new.more_best_case),
            old.failed_by_set, (),
        )  # fmt: skip

    @property
    def data_drives(self) -> float:
        """Of the layout with less."""
        return min(self.both.old.data_drives, self.both.new.data_drives)

    def stream_write(self) -> float:
        """The slower of the two."""
        return min(self.both.old.stream_write(), self.both.new.stream_write())

    def stream_read(self) -> float:
        """The slower of the two."""
        return min(self.both.old.stream_read(), self.both.new.stream_read())

    def rebuild_seconds(self, index: int, new: Drive | None, absent: Collection[str]) -> float:
        """A drive is filled with what it holds of both."""
        drive = self.members[index]
        streams = [new or drive, *(d for d in self.members if d.id != drive.id and d.id not in absent)]
        rate = min(min(d.mean_rate for d in streams), link_share(streams))
        return self.used_extents[index] * EXTENT / rate

    def rebuild_seconds_by_set(self, network: int | None) -> list[float]:
        """All its drives count as one set."""
        del network
        return [max(self.rebuild_seconds(i, None, ()) for i in range(len(self.members)))]


@lru_cache(maxsize=16)
def _way(old: tuple[Band, ...], new: tuple[Band, ...], upwards: bool) -> Walk:
    """Worked out once: it is asked for at every step."""
    return Walk(old, new, upwards=upwards)


def restriping(moving: Moving, front: int, *, upwards: bool, turned: bool) -> Restriping:
    """The layout while the front stands there."""
    old, new = moving.old, moving.new
    weaker = min((old, new), key=lambda layout: layout.scheme.survives)
    scheme = replace(old.scheme, survives=weaker.scheme.survives)
    below, above = (moving.new_bands, old.bands) if upwards else (old.bands, moving.new_bands)
    bands = (*_rows_between(below, 0, front), *_rows_between(above, front, 2**62))
    return Restriping(scheme, (moving.drives,), (), bands, both=moving, front=front, upwards=upwards, turned=turned)


def _rows_between(bands: Sequence[Band], low: int, high: int) -> list[Band]:
    """The rows in which an address from ``low`` on and below ``high`` stands."""
    found, first = [], 0
    for band in bands:
        top = max(0, (low - first) // band.data)
        end = min(band.rows, -((first - high) // band.data))
        if top < end:
            found.append(Band(band.start + top, end - top, band.groups))
        first += band.capacity
    return found

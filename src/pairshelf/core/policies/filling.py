"""What is filling up, and what there is to do about it (rules: thin volumes; growing).

A volume fills with what its files take. Under thin volumes the pool itself fills, with what has been written. A
volume whose oldest recordings a keep rule deletes is meant to be full, and is not counted.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from pairshelf.core.domain.estate import EstatePool, EstateVolume
from pairshelf.core.layouts.restriping import Restriping

#: Shares at which a person is told, and at which it presses.
TELL, URGENT = 0.8, 0.9


@dataclass(frozen=True, slots=True)
class Filling:
    """What is said of a pool that fills up."""

    pool_id: int
    share: float
    sentence: str
    #: What to do: "extend" volumes from what the pool has left, make the pool larger ("grow"), or "watch" it grow.
    act: str

    @property
    def urgent(self) -> bool:
        """Whether it presses."""
        return self.share >= URGENT and self.act != "watch"


def filled_share(volume: EstateVolume) -> float:
    """Of a volume's room for files, what they take, 0 to 1."""
    room = volume.size - volume.overhead
    return min(1.0, volume.files_bytes / room) if room > 0 else 1.0


def written_share(pool: EstatePool) -> float:
    """Of a pool's capacity, what volumes have been given for good or have written, 0 to 1."""
    return 1 - pool.free / pool.capacity if pool.capacity else 1.0


def filling(pools: Sequence[EstatePool], volumes: Sequence[EstateVolume]) -> list[Filling]:
    """The pools about which something is to be said, the fullest first."""
    told = [said for pool in pools if (said := _of(pool, [v for v in volumes if v.pool == pool.name]))]
    return sorted(told, key=lambda one: -one.share)


def _of(pool: EstatePool, volumes: Sequence[EstateVolume]) -> Filling | None:
    share = written_share(pool)
    growing = isinstance(pool.layout, Restriping) and pool.layout.to_come > 0
    if share >= TELL and any(v.thin for v in volumes):
        act = "watch" if growing else "grow"
        if pool.free <= 0:
            return _told(pool, share, f"Pool {pool.name} is full: its thin volumes take no more writes.", act, "")
        what = f"Pool {pool.name} is {_per_cent(share)} full under its thin volumes."
        return _told(pool, share, what, act, "When it is full, it takes no more writes.")
    full = [v for v in volumes if v.keep_above is None and filled_share(v) >= TELL]
    if not full:
        return None
    fullest = max(full, key=filled_share)
    share = filled_share(fullest)
    what = f"Volume {fullest.name} of {pool.name} is {_per_cent(share)} full."
    if len(full) > 1:
        what = f"{len(full)} volumes of {pool.name} are filling up; {fullest.name} is {_per_cent(share)} full."
    if growing:
        return _told(pool, share, what, "watch", "")
    if pool.largest(fullest.protection) > 0:
        return _told(pool, share, what, "extend", "The pool has room to extend it with.")
    return _told(pool, share, what, "grow", "The pool has nothing left to extend it with.")


def _told(pool: EstatePool, share: float, what: str, act: str, more: str) -> Filling:
    more = "More room is on its way." if act == "watch" else more
    return Filling(pool.id, share, f"{what} {more}".rstrip(), act)


def _per_cent(share: float) -> str:
    # Never rounded up to full.
    return f"{int(share * 100)} %"

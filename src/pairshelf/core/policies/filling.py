"""What is filling up, and what there is to do about it (rules: thin volumes; growing).

A volume fills with what its files take. Under thin volumes the pool itself fills, with what has been written. A
volume whose oldest recordings a keep rule deletes is meant to be full, and is not counted.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from pairshelf.core.domain.estate import EstatePool, EstateVolume
from pairshelf.core.layouts.restriping import Restriping
from pairshelf.core.watching.thresholds import Level, Watched


@dataclass(frozen=True, slots=True)
class Filling:
    """What is said of a pool that fills up."""

    pool_id: int
    share: float
    sentence: str
    #: What to do: "extend" volumes from what the pool has left, make the pool larger ("grow"), or "watch" it grow.
    act: str
    level: Level = Level.TELL

    @property
    def urgent(self) -> bool:
        """Whether it presses."""
        return self.level is Level.URGENT and self.act != "watch"


def filled_share(volume: EstateVolume) -> float:
    """Of a volume's room for files, what they take, 0 to 1."""
    room = volume.size - volume.overhead
    return min(1.0, volume.files_bytes / room) if room > 0 else 1.0


def written_share(pool: EstatePool) -> float:
    """Of a pool's capacity, what volumes have been given for good or have written, 0 to 1."""
    return 1 - pool.free / pool.capacity if pool.capacity else 1.0


def filling(
    pools: Sequence[EstatePool],
    volumes: Sequence[EstateVolume],
    watched: Watched | None = None,
    waiting: Mapping[int, Sequence[str]] | None = None,
) -> list[Filling]:
    """The pools about which something is to be said, by their thresholds and their volumes', the fullest first.
    ``waiting``: by pool, the volumes that something is written to and has to wait for room."""
    watched, waits = watched or Watched(), waiting or {}
    told = [
        said
        for pool in pools
        if (said := _of(pool, [v for v in volumes if v.pool == pool.name], watched, waits.get(pool.id, ())))
    ]
    return sorted(told, key=lambda one: (-one.level, -one.share))


def _held(waiting: Sequence[str]) -> str:
    """Which writes wait for room, in words."""
    if not waiting:
        return "What needs new room in its thin volumes has to wait; nothing is lost."
    named = f"{', '.join(waiting[:-1])} and {waiting[-1]}" if len(waiting) > 1 else waiting[0]
    return f"What is written to {named} waits, and goes on by itself as soon as there is room; nothing is lost."


def _of(
    pool: EstatePool, volumes: Sequence[EstateVolume], watched: Watched, waiting: Sequence[str] = ()
) -> Filling | None:
    share = written_share(pool)
    growing = isinstance(pool.layout, Restriping) and pool.layout.to_come > 0
    own = watched.pool_level(pool.id, share)
    if own and any(v.thin for v in volumes):
        act = "watch" if growing else "grow"
        if pool.free <= 0 or waiting:
            return _told(pool, share, f"Pool {pool.name} is full. {_held(waiting)}", act, "", own)
        what = f"Pool {pool.name} is {_per_cent(share)} full under its thin volumes."
        return _told(pool, share, what, act, "When it is full, what needs new room has to wait.", own)
    full = [
        (level, filled_share(v), v)
        for v in volumes
        if v.keep_above is None and (level := watched.volume_level(v.id, filled_share(v)))
    ]
    if not full:
        return None
    level, share, fullest = max(full, key=lambda one: one[:2])
    what = f"Volume {fullest.name} of {pool.name} is {_per_cent(share)} full."
    if len(full) > 1:
        what = f"{len(full)} volumes of {pool.name} are filling up; {fullest.name} is {_per_cent(share)} full."
    if growing:
        return _told(pool, share, what, "watch", "", level)
    if pool.largest(fullest.protection) > 0:
        return _told(pool, share, what, "extend", "The pool has room to extend it with.", level)
    return _told(pool, share, what, "grow", "The pool has nothing left to extend it with.", level)


def _told(pool: EstatePool, share: float, what: str, act: str, more: str, level: Level) -> Filling:
    more = "More room is on its way." if act == "watch" else more
    return Filling(pool.id, share, f"{what} {more}".rstrip(), act, level)


def _per_cent(share: float) -> str:
    # Never rounded up to full.
    return f"{int(share * 100)} %"

"""How full something may become before a person is told: once a crossing, not at every wavering (rules: thin volumes)."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from enum import IntEnum
from functools import cached_property

from pairshelf.core.errors import BadInput


class Level(IntEnum):
    """How full, as far as somebody has to know."""

    ROOM = 0
    TELL = 1
    URGENT = 2


#: By so much of the whole it has to fall below a threshold before that counts as crossed back.
SLACK = 0.02


@dataclass(frozen=True, slots=True)
class Thresholds:
    """Shares of a capacity at which a person is told, and at which it presses."""

    tell: float = 0.8
    urgent: float = 0.9

    def __post_init__(self) -> None:
        if not 0.05 <= self.tell < 1:
            raise BadInput("Tell between 5 and 99 %.", field="tell")
        if not self.tell < self.urgent <= 1:
            raise BadInput("What presses lies above what is told, and at most at 100 %.", field="urgent")


USUAL = Thresholds()


def level(share: float, before: Level, thresholds: Thresholds) -> Level:
    """How full that is, given how full it was said to be: up at a threshold, down only well below it."""
    reached = Level((share >= thresholds.tell) + (share >= thresholds.urgent))
    if reached >= before:
        return reached
    left = Level((share + SLACK >= thresholds.tell) + (share + SLACK >= thresholds.urgent))
    return min(before, left)


@dataclass(frozen=True)
class Watched:
    """The thresholds that somebody has set, and what is above one; by the number of a pool or volume."""

    pools: Mapping[int, Thresholds] = field(default_factory=dict)
    volumes: Mapping[int, Thresholds] = field(default_factory=dict)
    pool_levels: Mapping[int, Level] = field(default_factory=dict)
    volume_levels: Mapping[int, Level] = field(default_factory=dict)

    @cached_property
    def lowest(self) -> float:
        """A share below which nothing is above a threshold, whatever it was before."""
        return min([USUAL.tell, *(t.tell for t in (*self.pools.values(), *self.volumes.values()))]) - SLACK

    def of_pool(self, pool_id: int) -> Thresholds:
        """A pool's thresholds."""
        return self.pools.get(pool_id, USUAL)

    def of_volume(self, volume_id: int) -> Thresholds:
        """A volume's thresholds."""
        return self.volumes.get(volume_id, USUAL)

    def pool_level(self, pool_id: int, share: float) -> Level:
        """How full a pool is now."""
        return level(share, self.pool_levels.get(pool_id, Level.ROOM), self.of_pool(pool_id))

    def volume_level(self, volume_id: int, share: float) -> Level:
        """How full a volume is now."""
        return level(share, self.volume_levels.get(volume_id, Level.ROOM), self.of_volume(volume_id))

"""A spread pool by itself, without a database: two volumes whose stripes lie all over its drives."""

from __future__ import annotations

import random
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np

from pairshelf.core.domain.drives import Drive
from pairshelf.core.domain.units import GIB
from pairshelf.core.layouts.placing import Placer, spread_pool
from pairshelf.core.layouts.protections import parse_protection
from pairshelf.core.layouts.spread import StripedVolume, base_of, spread_layout
from pairshelf.engine.io.pool_io import Member
from pairshelf.engine.io.side_by_side import Tally
from pairshelf.engine.io.spread_io import SpreadIO, Stretch
from pairshelf.engine.io.stripe_journal import StripeJournal
from pairshelf.standin.world import World

FIRST, OTHER = 3, 5


class Scattered:
    """A spread pool of two volumes on simulated drives, with a plain copy of what they should hold."""

    def __init__(self, folder: Path, protection: str, drives: int, *, stripes: int = 14, seed: int = 1) -> None:
        self.world, self.dice, self.noise = World(folder), random.Random(seed), np.random.default_rng(seed)
        pool = spread_pool([Drive(str(i), 40 * GIB + GIB // 2) for i in range(drives)], "drive")
        own, placer = parse_protection(protection), Placer(pool)
        rows = [self.dice.sample(range(36), 36) for _ in range(drives)]
        volumes = []
        for number, count in ((FIRST, stripes), (OTHER, stripes // 2)):
            spots = np.zeros((count, own.width, 2), np.int32)
            for stripe in range(count):
                for column, slot in enumerate(placer.next(own.width) or []):
                    spots[stripe, column] = slot, rows[slot].pop()
            volumes.append(StripedVolume(number, own, spots))
        self.own, self.volumes, self.block = own, volumes, self.world.block
        self.layout = spread_layout(pool.drives, "drive", volumes)
        self.missed: list[dict[int, list[int]]] = []
        members = [Member(self.world.open(f"s{i}", 41 * GIB)) for i in range(drives)]
        self.io = SpreadIO(self.layout, members, self.block, StripeJournal(folder / "journal"), self._miss)
        self.truth = {}
        for volume in volumes:
            self.io.sync(Stretch(volume, 0, len(volume.spots)))
            size = len(volume.spots) * own.data
            read = self.io.read(base_of(volume.volume), size)
            self.truth[volume.volume] = np.frombuffer(read, np.uint8).reshape(size, -1).copy()

    def _miss(self, found: Mapping[int, Sequence[int]]) -> None:
        self.missed.append({slot: list(regions) for slot, regions in found.items()})

    def write(self, volume: int, at: int, count: int) -> None:
        data = self.noise.bytes(count * self.block)
        self.io.write(base_of(volume) + at, data)
        self.truth[volume][at : at + count] = np.frombuffer(data, np.uint8).reshape(count, -1)

    def write_somewhere(self) -> None:
        volume = self.dice.choice((FIRST, OTHER))
        size = len(self.truth[volume])
        at = self.dice.randrange(size)
        self.write(volume, at, self.dice.randint(1, min(9, size - at)))

    def right(self) -> bool:
        return all(self.io.read(base_of(v), len(t)) == t.tobytes() for v, t in self.truth.items())

    def stripe(self, volume: int, number: int) -> Stretch:
        return Stretch(self.io.volume(volume), number, 1)

    def stretches(self) -> list[Stretch]:
        return [Stretch(v, 0, len(v.spots)) for v in self.volumes]

    def mismatches(self) -> list[tuple[int, int, int]]:
        return [m for s in self.stretches() for m in self.io.check(s, put_right=False).mismatches]

    def moved(self, act: Any) -> dict[int, int]:
        """Extents that each drive has to move for an act."""
        before = Tally()
        before.update(self.io.moved)
        act()
        return {s: n for s in range(len(self.io.members)) if (n := self.io.moved[s] - before[s])}

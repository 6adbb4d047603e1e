"""Mixes of requests that are played on volumes: reads and writes, their sizes, how many at once. Ours, and shown."""

from __future__ import annotations

import random
from bisect import bisect_right
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from itertools import accumulate

from pairshelf.core.domain.units import KIB, MIB
from pairshelf.core.errors import BadInput, NotPossible
from pairshelf.core.figures.speed import Speed

#: Most requests of one volume under way at once.
MOST_AT_ONCE = 256


@dataclass(frozen=True, slots=True)
class MixPart:
    """One sort of request of a mix."""

    #: Of all requests of the mix, how many are of this sort.
    share: float
    writes: bool
    #: Bytes: of a small request all of it; of a long one what each drive reads or writes in one go.
    size: int
    #: One after the other along the volume, whole stripes at a time; else anywhere.
    along: bool = False


@dataclass(frozen=True, slots=True)
class Mix:
    """What a kind of user asks for. The shares add up to 1."""

    id: str
    name: str
    about: str
    parts: tuple[MixPart, ...]
    #: Requests under way at once, unless said otherwise.
    at_once: int

    @property
    def reads(self) -> float:
        """Of all requests, those that read."""
        return sum(p.share for p in self.parts if not p.writes)


MIXES: dict[str, Mix] = {
    m.id: m
    for m in (
        Mix("files", "file server", "Files of all sizes, read three times as often as written; some along the whole file.", (
            MixPart(0.50, writes=False, size=16 * KIB), MixPart(0.15, writes=True, size=16 * KIB),
            MixPart(0.25, writes=False, size=4 * MIB, along=True), MixPart(0.10, writes=True, size=4 * MIB, along=True),
        ), 8),
        Mix("database", "database", "Small pages anywhere, two reads to a write, many at once.", (
            MixPart(0.67, writes=False, size=8 * KIB), MixPart(0.33, writes=True, size=8 * KIB),
        ), 32),
        Mix("machines", "virtual machines", "Small reads and writes of many systems at once, as many of the one as of the other.", (
            MixPart(0.50, writes=False, size=16 * KIB), MixPart(0.45, writes=True, size=16 * KIB),
            MixPart(0.05, writes=False, size=1 * MIB, along=True),
        ), 24),
        Mix("recorder", "video recorder", "Cameras that write without end, and now and then somebody who looks.", (
            MixPart(0.90, writes=True, size=8 * MIB, along=True), MixPart(0.10, writes=False, size=8 * MIB, along=True),
        ), 4),
        Mix("small-reads", "small reads", "Nothing but reads of 4 KiB anywhere.", (MixPart(1.0, writes=False, size=4 * KIB),), 32),
        Mix("small-writes", "small writes", "Nothing but writes of 4 KiB anywhere.", (MixPart(1.0, writes=True, size=4 * KIB),), 32),
    )
}  # fmt: skip


def mix_of(name: str) -> Mix:
    """The mix of that id; BadInput with the known ones otherwise."""
    try:
        return MIXES[name]
    except KeyError:
        raise BadInput(
            f"“{name}” is no mix that can be played; choose one of {', '.join(MIXES)}.", field="mix"
        ) from None


def check_play(at_once: int | None, wanted: float | None) -> None:
    """BadInput for more requests at once, or a second, than are played."""
    if at_once is not None and not 1 <= at_once <= MOST_AT_ONCE:
        raise BadInput(f"From 1 to {MOST_AT_ONCE} requests are played at once.", field="at_once")
    if wanted is not None and not 0 < wanted <= 1e6:
        raise BadInput("Requests a second: more than none, and at most a million.", field="wanted")


@dataclass(frozen=True, slots=True)
class Estimate:
    """What a mix should come to by the figures that layouts are compared by."""

    #: Requests a second, and bytes a second.
    operations: float
    throughput: float


def estimate(mix: Mix, speed: Speed, across: float) -> Estimate:
    """A mix by the figures of a layout: 1 / (sum over its parts of share / what the figure says of it alone).

    Small writes are read, changed and written back. ``across``: drives' worth of data that a long request moves at a
    time, so that it takes that many sizes of its part.
    """
    seconds = moved = 0.0
    for part in mix.parts:
        bytes_each = part.size * (across if part.along else 1)
        if part.along:
            rate = (speed.sequential_write if part.writes else speed.sequential_read) / bytes_each
        else:
            rate = speed.random_write_rmw if part.writes else speed.random_read
        seconds += part.share / rate
        moved += part.share * bytes_each
    return Estimate(1 / seconds, moved / seconds)


@dataclass(frozen=True, slots=True)
class Request:
    """Extents that are asked for together. ``walk``: which of the walks along the volume it belongs to, or None."""

    writes: bool
    first: int
    count: int
    #: Bytes that a drive moves for each extent touched.
    size: int
    walk: int | None = None


def requests(
    mix: Mix, room: Sequence[tuple[int, int]], step: int, seed: int, at_once: int | None = None, base: int = 0
) -> Iterator[Request]:
    """Requests without end, the same for one seed. ``room``: (first, extents) of addresses that are asked for;
    ``step``: data extents of a row, counted from ``base``, after which a long request ends. NotPossible where there is no room."""
    ends = list(accumulate(n for _, n in room))
    if not ends or ends[-1] < 1:
        raise NotPossible("Nothing is written there yet that could be asked for.", code="nothing-written", field=None)
    dice, whole = random.Random(seed), ends[-1]  # noqa: S311 - it plays, it keeps no secret

    def place(at: int) -> tuple[int, int]:
        """The address of the so-manieth extent there is, and how many follow on it."""
        which = bisect_right(ends, at)
        first, count = room[which]
        inside = at - (ends[which] - count)
        return first + inside, count - inside

    def row_of(at: int) -> int:
        """Where the row begins that it is in, as far as it can be gone back to."""
        first, _ = place(at)
        back = (first - base) % step
        return at - back if back <= at and place(at - back)[0] == first - back else at

    walks = [row_of(dice.randrange(whole)) for _ in range(at_once or mix.at_once)]
    weights = list(accumulate(p.share for p in mix.parts))
    turn = 0
    while True:
        part = mix.parts[min(bisect_right(weights, dice.random() * weights[-1]), len(mix.parts) - 1)]
        if not part.along:
            first, _ = place(dice.randrange(whole))
            yield Request(part.writes, first, 1, part.size)
            continue
        walk = turn = (turn + 1) % len(walks)
        first, following = place(walks[walk])
        count = min(step - (first - base) % step, following)
        walks[walk] = (walks[walk] + count) % whole
        yield Request(part.writes, first, count, part.size, walk)

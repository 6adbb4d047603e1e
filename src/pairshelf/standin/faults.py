"""What can happen to a simulated drive: a way each, and a line here. Pair Shelf is not told; it finds out."""

from __future__ import annotations

import random
import secrets
from collections.abc import Callable, Mapping
from dataclasses import dataclass

from pairshelf.core.domain.device import Presence
from pairshelf.core.domain.drives import extents_of
from pairshelf.standin.world import World


@dataclass(frozen=True, slots=True)
class Fault:
    """One thing that can be done to a drive."""

    id: str
    #: What the button says, and what it does.
    name: str
    about: str
    #: What the logbook says of the drive: "Simulated drive X: ...". ``{count}`` is how many.
    said: str
    #: How the drive must be for it to make sense, and what is said where it is not.
    needs: Mapping[Presence, str]
    #: World, serial, size in bytes, and how many.
    do: Callable[[World, str, int, int], None]
    #: Said afterwards, where nothing shows by itself.
    after: str = ""


_OUT = {Presence.ABSENT: "It is not in its bay."}
_IN_ITS_BAY = _OUT | {Presence.FAILED: "It has failed already."}
_OUT_OF_IT = dict.fromkeys((Presence.ANSWERS, Presence.WARNS, Presence.FAILED), "It is in its bay.")


def _flip_bits(world: World, serial: str, size: int, count: int) -> None:
    extents, dice = extents_of(size), random.Random(secrets.randbits(32))  # noqa: S311 - chance, not secrecy
    # Among the first tenth, where data is likeliest to be.
    where = sorted({dice.randrange(max(1, extents // 10)) for _ in range(count)})
    world.flip_bits(serial, size, extents=where, seed=dice.getrandbits(32))


def _lose_sectors(world: World, serial: str, size: int, count: int) -> None:
    extents, dice = extents_of(size), random.Random(secrets.randbits(32))  # noqa: S311 - chance, not secrecy
    lost = set(world.lost_extents(serial))
    well = [e for e in range(max(1, extents // 10)) if e not in lost]
    world.lose_extents(serial, sorted({*lost, *dice.sample(well, min(count, len(well)))}))


FAULTS: dict[str, Fault] = {
    one.id: one
    for one in (
        Fault("pull", "Pull it", "Take it out of its bay; its bytes stay as they are", "pulled from its bay",
              _OUT, lambda world, serial, *_: world.pull(serial)),
        Fault("put-back", "Put it back", "Back into its bay, as it was", "put back into its bay",
              _OUT_OF_IT, lambda world, serial, *_: world.put_back(serial)),
        Fault("fail", "Make it fail", "It stops working for good", "made to fail",
              _IN_ITS_BAY, lambda world, serial, *_: world.fail(serial)),
        Fault("warn", "Make it warn", "It works on, but its readings warn", "made to give warning readings",
              _IN_ITS_BAY, lambda world, serial, *_: world.warn(serial)),
        Fault("lose-sectors", "Lose sectors", "Three places cannot be read until they are written anew; its readings say so",
              "made to lose {count} sectors", _IN_ITS_BAY, _lose_sectors),
        Fault("stall", "Let it stall", "It is there and does not answer, until it is let answer again", "made to stall",
              _IN_ITS_BAY, lambda world, serial, size, _: world.be(serial, size, stalls=True),
              after="Whatever is written to it waits."),
        Fault("answer", "Let it answer", "It answers again, as fast as ever", "let answer again",
              _IN_ITS_BAY, lambda world, serial, size, _: world.be(serial, size, stalls=False, slowness=1.0)),
        Fault("slow-down", "Slow it down", "Everything takes it four times as long", "slowed down",
              _IN_ITS_BAY, lambda world, serial, size, _: world.be(serial, size, slowness=4.0)),
        Fault("die-soon", "Let it die soon", "It stops working for good a few writes from now", "made to die {count} writes from now",
              _IN_ITS_BAY, lambda world, serial, size, count: world.be(serial, size, dies_after=count),
              after="It dies in the middle of what is written next."),
        Fault("flip-bits", "Flip bits", "Change three bytes silently, as rotting media do", "given {count} flipped bits",
              _IN_ITS_BAY, _flip_bits, after="Bits flipped. Nothing shows until a check reads them."),
    )
}  # fmt: skip

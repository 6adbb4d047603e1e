"""May power go off now, for a drive, a shelf, a host, everything? What would have to finish first, and what waits."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass
from enum import StrEnum

from pairshelf.core.domain.estate import EstatePool
from pairshelf.core.domain.units import format_duration
from pairshelf.core.figures.survival import PoolState, after_failures, state_of


class May(StrEnum):
    """The answer."""

    #: Everything stays in use.
    YES = "yes"
    #: Some of it cannot be used until it is back; nothing is lost.
    HELD = "held"
    #: Something has to finish first.
    WAIT = "wait"


@dataclass(frozen=True, slots=True)
class Going:
    """A job that has not ended."""

    kind: str
    #: What it is called, and of what.
    named: str
    pool_id: int | None
    #: Seconds of the drives' time left.
    left: float
    #: Of a lot that is wiped: drives that erase by themselves, and begin anew when they lose power.
    erasing: tuple[int, ...] = ()


@dataclass(frozen=True, slots=True)
class PowerMayGo:
    """Whether power may go off, and why."""

    may: May
    sentence: str
    #: What would have to finish first.
    first: tuple[str, ...]
    #: What becomes of each pool, and of what runs.
    lines: tuple[str, ...]


#: Jobs that make a pool bear again what it was promised to.
_FILLING = ("rebuild", "self-repair")


def may_go_off(pools: Sequence[EstatePool], gone: Collection[int], going: Sequence[Going]) -> PowerMayGo:
    """The answer for drives that lose power together. ``pools``: those that have some of them."""
    first: list[str] = []
    lines: list[str] = []
    held: list[str] = []
    stays = False
    for pool in pools:
        own = [p.designed.id for p in pool.places if p.drive is not None and p.drive.id in gone]
        if not own:
            continue
        failed = [p.designed.id for p in pool.places if p.state in ("failed", "rebuilding")]
        missing = [p.designed.id for p in pool.places if p.state == "missing" or p.designed.id in own]
        after = state_of(pool.layout, failed, missing)
        jobs = [g for g in going if g.pool_id == pool.id]
        if after not in (PoolState.LOST, PoolState.UNREACHABLE):
            left = after_failures(pool.layout, {*failed, *missing}).more_guaranteed
            stays = True
            more = "no more drive may fail" if not left else f"{left} more drive{'s' if left > 1 else ''} may fail"
            lines.append(f"{pool.name} stays in use, {after.value}: {more} until it is back.")
            continue
        filling = [g for g in jobs if g.kind in _FILLING]
        if filling and after_failures(pool.layout, set(own)).survives:
            first += [
                f"{g.named}: {format_duration(g.left)} left. Then {pool.name} bears it, and stays in use."
                for g in filling
            ]
            continue
        held.append(pool.name)
        lines.append(
            f"{pool.name} cannot be used until it is back. What is being written to it is held, and nothing is lost."
        )
    for job in going:
        if begun := [d for d in job.erasing if d in gone]:
            many = f"{len(begun)} drives erase" if len(begun) > 1 else "a drive erases"
            first.append(
                f"{job.named}: {many} by {'themselves' if len(begun) > 1 else 'itself'}, and would begin anew."
            )
    touched = {p.id for p in pools}
    waiting = [g.named for g in going if g.pool_id in touched and g.kind not in _FILLING]
    if waiting:
        lines.append(f"{'; '.join(waiting)}: goes on where it stopped.")
    if stays:
        lines.append(
            "What changes meanwhile is noted, and brought up to date when it is back; nothing else is read anew."
        )
    may = May.WAIT if first else May.HELD if held else May.YES
    return PowerMayGo(may, _sentence(may, held, bool(pools)), tuple(first), tuple(lines))


def _sentence(may: May, held: Sequence[str], in_use: bool) -> str:
    if may is May.WAIT:
        return "Not yet: something has to finish first."
    if may is May.HELD:
        names = held[0] if len(held) == 1 else f"{', '.join(held[:-1])} and {held[-1]}"
        return f"Yes, when nobody needs {names}: nothing is lost, and all is as it was when power is back."
    return "Yes. Everything stays in use." if in_use else "Yes. Nothing of a pool stands there."

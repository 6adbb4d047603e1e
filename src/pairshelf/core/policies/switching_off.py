"""Is it safe to power off a drive, a shelf, a host, a site, everything? What stops, what has to finish first, what waits."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass, replace
from enum import StrEnum

from pairshelf.core.domain.depends import Notice, Stand, losses
from pairshelf.core.domain.estate import EstatePool
from pairshelf.core.domain.units import format_duration
from pairshelf.core.domain.words import listed, survives_more
from pairshelf.core.figures.survival import PoolState, after_failures, state_of


class Safe(StrEnum):
    """The answer."""

    #: Nothing stops, and nothing is less protected.
    YES = "yes"
    #: Everything stays in service; some pools survive fewer failures until it is back.
    REDUCED = "reduced"
    #: Something has to finish first; then the answer is another.
    WAIT = "wait"
    #: Something that serves people or runs there stops.
    NO = "no"


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
class PowerOff:
    """Whether it is safe to power something off, and why."""

    safe: Safe
    sentence: str
    #: What would have to finish first.
    first: tuple[str, ...]
    #: What becomes of each volume and pool, and of what runs.
    lines: tuple[str, ...]


#: Jobs that make a pool bear again what it was promised to.
_FILLING = ("rebuild", "self-repair")


def safe_to_power_off(
    notice: Notice, pools: Sequence[EstatePool], gone: Collection[int], going: Sequence[Going]
) -> PowerOff:
    """The answer for what loses power together: from everything that depends on it.

    ``notice`` is what stops without it (``depends.pull``), ``pools`` those that have some of its drives, ``gone`` the
    ids of these drives, ``going`` the jobs that have not ended.
    """
    first: list[str] = []
    lines: list[str] = []
    reduced: list[str] = []
    #: Pools that stop only because a rebuild has not ended.
    soon: set[str] = set()
    for pool in pools:
        own = [p.designed.id for p in pool.places if p.drive is not None and p.drive.id in gone]
        if not own:
            continue
        failed = [p.designed.id for p in pool.places if p.state in ("failed", "rebuilding")]
        missing = [p.designed.id for p in pool.places if p.state == "missing" or p.designed.id in own]
        after = state_of(pool.layout, failed, missing)
        if after not in (PoolState.LOST, PoolState.UNREACHABLE):
            left = survives_more(after_failures(pool.layout, {*failed, *missing}).more_guaranteed)
            if after is not PoolState.HEALTHY:
                reduced.append(f"pool {pool.name} {left}")
            lines.append(f"Pool {pool.name} stays in service, {after.value}: it {left} until it is back.")
            continue
        filling = [g for g in going if g.pool_id == pool.id and g.kind in _FILLING]
        if filling and after_failures(pool.layout, set(own)).survives:
            soon.add(pool.name)
            first += [f"{g.named}: {format_duration(g.left)} left. Then {pool.name} stays in service." for g in filling]
            continue
        lines.append(f"Pool {pool.name} is offline until it is back. Writes wait; no data are lost.")
    for job in going:
        if begun := [d for d in job.erasing if d in gone]:
            many = f"{len(begun)} drives erase" if len(begun) > 1 else "a drive erases"
            first.append(
                f"{job.named}: {many} by {'themselves' if len(begun) > 1 else 'itself'}, and would begin again."
            )
    touched = {p.id for p in pools}
    waiting = [g.named for g in going if g.pool_id in touched and g.kind not in _FILLING]
    if waiting:
        lines.append(f"{'; '.join(waiting)}: continues where it stopped.")
    if reduced:
        lines.append("What changes meanwhile is recorded, and only that is copied when it is back.")
    # Nobody is told no where a rebuild that ends is all it takes.
    stops = replace(
        notice, stands=tuple(s for s in notice.stands if s.by_host or s.volume.partition("/")[0] not in soon),
        hits=tuple(h for h in notice.hits if h.pool not in soon),
    )  # fmt: skip
    lost = losses(stops)
    lines = [*(_of_volume(s) for s in stops.hurt), *lines]
    if lost:
        return PowerOff(Safe.NO, f"No: {'; '.join(lost)}.", tuple(first), tuple(lines))
    if first:
        return PowerOff(Safe.WAIT, "Not yet: something has to finish first.", tuple(first), tuple(lines))
    if reduced:
        said = f"Yes, with reduced protection: {listed(reduced)} until it is back."
        return PowerOff(Safe.REDUCED, said, (), tuple(lines))
    held = "Everything stays in service." if pools else "Nothing that is in use depends on it."
    return PowerOff(Safe.YES, f"Yes. {held}", (), tuple(lines))


def _of_volume(stand: Stand) -> str:
    """A volume that stops: who uses it and how, and which host could serve it instead."""
    uses = [
        *([listed(stand.people)] if stand.people else []),
        *([f"shared as {listed(stand.shares)}"] if stand.shares else []),
        *([f"mounted by {listed(stand.mounts)}"] if stand.mounts else []),
        *([f"disk of {listed(stand.hosts) or 'no host'}"] if stand.target else []),
        *([f"application {listed(stand.applications)}"] if stand.applications else []),
    ]
    another = f" Host {listed(stand.instead[:3], 'or')} could serve it instead." if stand.instead else ""
    return f"{stand.volume} stops: {'; '.join(uses) or 'nothing uses it now'}.{another}"

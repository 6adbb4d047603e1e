"""How long jobs take on given drives (rules: rebuild time), in seconds of the drives' own time."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from pairshelf.core.drives import Drive
from pairshelf.core.errors import NotPossible
from pairshelf.core.layouts.model import Layout
from pairshelf.core.layouts.spread import Protection, SpreadLayout, SpreadPool
from pairshelf.core.units import EXTENT

#: Share of every drive that users take while a job runs gently, or fast.
GENTLE, FAST = 0.8, 0.2


@dataclass(frozen=True, slots=True)
class Duration:
    """Seconds with nobody using the pool, and with users taking the share of the two paces."""

    idle: float
    fast: float
    gentle: float


def _paced(seconds: float) -> Duration:
    return Duration(seconds, seconds / (1 - FAST), seconds / (1 - GENTLE))


def at_rate(seconds: float) -> Duration:
    """Work that takes so many seconds undisturbed."""
    return _paced(seconds)


def first_sync(layout: Layout) -> Duration | None:
    """Every member is read or written once: its bytes over its rate, the slowest counts.

    None where there is no redundancy to bring in step.
    """
    if layout.scheme.survives == 0:
        return None
    return _paced(
        max(used * EXTENT / drive.mean_rate for drive, used in zip(layout.members, layout.used_extents, strict=True))
    )


def check(layout: Layout) -> Duration:
    """Everything is read once; the slowest member counts."""
    return _paced(
        max(used * EXTENT / drive.mean_rate for drive, used in zip(layout.members, layout.used_extents, strict=True))
    )


def rebuild(layout: Layout, member: str, new: Drive | None = None, *, absent: Collection[str] = ()) -> Duration:
    """Rebuilding one member onto a new drive (default: one alike), from the rest of its set.

    bytes = the member's extents in use; rate = min(write rate of the new drive, read rate of the
    slowest source still there, share of each link with sources + 1 streams on it).
    """
    index = next((i for i, d in enumerate(layout.members) if d.id == member), None)
    if index is None:
        raise NotPossible(f"Drive {member} is not a member of this pool.")
    if layout.scheme.survives == 0:
        raise NotPossible("Without redundancy there is nothing to rebuild from.")
    drive = layout.members[index]
    if isinstance(layout, SpreadLayout):
        rest = [d for d in layout.members if d.id != member and d.id not in absent]
        return _paced(repair_seconds(layout.pool, _held(layout), index, None, onto=new or drive, readers=rest))
    sources = [d for d in layout.sets[layout.set_of(index)] if d.id != member and d.id not in absent]
    streams = [new or drive, *sources]
    rate = min(min(d.mean_rate for d in streams), link_share(streams))
    return _paced(layout.used_extents[index] * EXTENT / rate)


def link_share(streams: Sequence[Drive], network: int | None = None) -> float:
    """What one stream gets of the narrowest link, bytes per second: all of a shelf's drives share the
    shelf's link; over several hosts, all share the network's."""
    links = {d.shelf: d.link for d in streams if d.link}
    shares = [link / sum(d.shelf == shelf for d in streams) for shelf, link in links.items()]
    if network and len({d.host for d in streams}) > 1:
        shares.append(network / len(streams))
    return min(shares, default=float("inf"))


def slowest_rebuild(layout: Layout, network: int | None = None) -> Duration | None:
    """The longest rebuild any one member could need, onto a drive alike; None without redundancy."""
    if layout.scheme.survives == 0:
        return None
    if isinstance(layout, SpreadLayout):
        held = _held(layout)
        return _paced(max(repair_seconds(layout.pool, held, i, network) for i in range(len(layout.members))))
    used = layout.used_extents
    longest, first = 0.0, 0
    for one in layout.sets:
        rate = min(min(d.mean_rate for d in one), link_share(one, network))
        longest = max(longest, max(used[first : first + len(one)]) * EXTENT / rate)
        first += len(one)
    return _paced(longest)


Held = Sequence[tuple[Protection, npt.NDArray[np.int64]]]


def _held(layout: SpreadLayout) -> Held:
    drives = len(layout.members)
    return [(v.protection, np.bincount(v.slots.ravel(), minlength=drives)) for v in layout.volumes]


def repair_seconds(
    pool: SpreadPool, held: Held, lost: int, network: int | None, *, onto: Drive | None = None,
    readers: Sequence[Drive] | None = None,
) -> float:  # fmt: skip
    """Repair of one drive of a spread pool. ``held`` has, volume by volume, the extents on each drive.

    The others share the traffic (2B for copies, (k+1)B for parity), but never less than B over the rates
    of those that take the new extents, nor than the links allow. Without a domain to spare, only the
    drives left in that domain take any; ``onto`` is one new drive that takes it all.
    """
    units = len(pool.drives)
    rates = np.array([d.mean_rate for d in pool.drives], float)
    domain_of = np.array(pool.domain_of)
    amount = sum(float(e[lost]) for _, e in held) * EXTENT
    if not amount:
        return 0.0
    traffic = sum(float(e[lost]) * (2 if p.copies else p.data + 1) for p, e in held) * EXTENT
    others = np.arange(units) != lost
    spare_domain = all(len(pool.domains) > p.width for p, _ in held)
    takers = others if spare_domain else others & (domain_of == domain_of[lost])
    # Where nothing may take it, it waits for a new drive, and that one takes it all.
    taking = float(onto.mean_rate if onto else rates[takers].sum() if takers.any() else rates[lost])
    reads = rates[others].sum() if readers is None else float(sum(d.mean_rate for d in readers))
    reading = traffic / reads if reads else 0.0
    links = link_share(pool.drives, network) * units
    return float(max(reading, amount / taking, traffic / links))


def with_users(duration: Duration | None, user_share: float) -> float | None:
    """Seconds while users take this share of every drive: idle / (1 - u)."""
    return None if duration is None else duration.idle / (1 - user_share)


def copy_seconds(source: Drive, target: Drive, extents: int) -> float:
    """Copying a drive onto another: bytes / min(source, target)."""
    return extents * EXTENT / min(source.mean_rate, target.mean_rate)


def restripe_seconds(old: Layout, new: Layout) -> float:
    """Restripe from one division to another: each data extent is read and written once and parity is
    rewritten; the drive with the most bytes moved over its rate counts.

    A member reads its share of the data as it lay, and writes every extent it uses afterwards.
    """
    reads: dict[str, float] = {}
    for band in old.bands:
        for group in band.groups:
            for member in group.members:
                drive = old.members[member].id
                reads[drive] = reads.get(drive, 0.0) + band.rows * group.data / len(group.members)
    return max(
        (reads.get(d.id, 0.0) + used) * EXTENT / d.mean_rate
        for d, used in zip(new.members, new.used_extents, strict=True)
    )

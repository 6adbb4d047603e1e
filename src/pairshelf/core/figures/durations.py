"""How long jobs take on given drives (rules: rebuild time), in seconds of the drives' own time."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass

from pairshelf.core.domain.drives import Drive
from pairshelf.core.domain.units import EXTENT
from pairshelf.core.errors import NotPossible
from pairshelf.core.layouts.model import Layout
from pairshelf.core.layouts.restripe import Moving

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


def in_lanes(seconds: Sequence[float], lanes: int) -> float:
    """Until all of these are done, so many side by side, the longest first."""
    taken = [0.0] * max(1, lanes)
    for one in sorted(seconds, reverse=True):
        taken[taken.index(min(taken))] += one
    return max(taken)


def first_sync(layout: Layout) -> Duration | None:
    """Every member is read or written once: its bytes over its rate, the slowest counts.

    None where there is no redundancy to bring in step.
    """
    if layout.scheme.survives == 0:
        return None
    return _paced(layout.seconds_through)


def volume_sync(layout: Layout, extents: int) -> Duration:
    """Bringing so many extents of a spread pool's stripes in step: they lie on all drives, which are busy together."""
    return _paced(extents * EXTENT / sum(d.mean_rate for d in layout.members))


def check(layout: Layout) -> Duration:
    """Everything is read once; the slowest member counts."""
    return _paced(layout.seconds_through)


def rebuild(layout: Layout, member: str, new: Drive | None = None, *, absent: Collection[str] = ()) -> Duration:
    """Rebuilding one member onto a new drive (default: one alike), from the rest; as its layout says."""
    index = next((i for i, d in enumerate(layout.members) if d.id == member), None)
    if index is None:
        raise NotPossible(f"Drive {member} is not a member of this pool.")
    if layout.scheme.survives == 0:
        raise NotPossible("Without redundancy there is nothing to rebuild from.")
    return _paced(layout.rebuild_seconds(index, new, absent))


def slowest_rebuild(layout: Layout, network: int | None = None) -> Duration | None:
    """The longest rebuild any one member could need, onto a drive alike; None without redundancy."""
    if layout.scheme.survives == 0:
        return None
    return _paced(layout.slowest_rebuild_seconds(network))


def with_users(duration: Duration | None, user_share: float) -> float | None:
    """Seconds while users take this share of every drive: idle / (1 - u)."""
    return None if duration is None else duration.idle / (1 - user_share)


def copy_seconds(source: Drive, target: Drive, extents: int) -> float:
    """Copying a drive onto another: bytes / min(source, target)."""
    return extents * EXTENT / min(source.mean_rate, target.mean_rate)


def copy(layout: Layout, slot: int, new: Drive) -> Duration:
    """Copying a member onto the drive that takes its place, as far as something stands on it."""
    return _paced(copy_seconds(layout.members[slot], new, sum(rows for _, rows in layout.rows_of(slot))))


def restripe(moving: Moving) -> Duration:
    """From one layout to another: the drive with the most extents read and written, over its rate."""
    return _paced(moving.seconds())


def fill_rows(layout: Layout, first: int) -> Duration | None:
    """Bringing further stripes in step, from a number on, as a first sync does; None without redundancy or stripes."""
    if layout.scheme.survives == 0 or first >= layout.stripes:
        return None
    return _paced(layout.seconds_through * (layout.stripes - first) / layout.stripes)

"""How long jobs take on given drives (rules: rebuild time), in seconds of the drives' own time."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass

from pairshelf.core.drives import Drive
from pairshelf.core.errors import NotPossible
from pairshelf.core.layouts.model import Layout
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
    slowest source still there).
    """
    index = next((i for i, d in enumerate(layout.members) if d.id == member), None)
    if index is None:
        raise NotPossible(f"Drive {member} is not a member of this pool.")
    if layout.scheme.survives == 0:
        raise NotPossible("Without redundancy there is nothing to rebuild from.")
    drive = layout.members[index]
    sources = [d for d in layout.sets[layout.set_of(index)] if d.id != member and d.id not in absent]
    rate = min([(new or drive).mean_rate, *(d.mean_rate for d in sources)])
    return _paced(layout.used_extents[index] * EXTENT / rate)


def slowest_rebuild(layout: Layout) -> Duration | None:
    """The longest rebuild any one member could need; None without redundancy."""
    if layout.scheme.survives == 0:
        return None
    return max((rebuild(layout, d.id) for d in layout.members), key=lambda d: d.idle)

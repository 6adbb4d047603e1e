"""How long it takes."""

from __future__ import annotations

from pairshelf.core.domain.units import EXTENT, format_duration, format_size
from pairshelf.core.figures.assess import Assessment
from pairshelf.core.figures.figure import LayoutFigure, Worked


def _users(a: Assessment) -> tuple[float, str]:
    """The users' share of the drives, and what it does to a duration."""
    share = a.user_share
    told = f" × 1 / (1 − {share:.3g})" if share else ""
    if a.given.user_writes is not None:
        whole = f", {a.given.whole_stripes:.0%} of them whole stripes" if a.given.whole_stripes else ""
        told += f" (u: {a.given.user_writes:g} small writes/s{whole}, of {a.small_writes:,.0f} the drives bear)"
    return share, told


def _rebuild(a: Assessment, _file_system: str) -> Worked | None:
    if a.rebuild_hours is None:
        return None
    share, users = _users(a)
    by_set = a.layout.rebuild_seconds_by_set(a.given.network)
    own = a.layout.members_of(by_set.index(max(by_set)))
    members = slice(own.start, own.stop)
    slow = min(d.mean_rate for d in a.layout.members[members])
    used = max(a.layout.used_extents[members]) * EXTENT
    effective = used / (a.rebuild_hours * 3600) / (1 - share)
    narrowed = "" if abs(effective - slow) < 1 else f" (the links leave {format_size(round(effective))}/s of it)"
    return Worked(
        "bytes of the drive in use / min(write rate of the new drive, read rate of the slowest source, "
        "its share of each link) × 1 / (1 − users' share)",
        f"{format_size(used)} / {format_size(slow)}/s{narrowed}{users} = {format_duration(a.rebuild_hours * 3600)}",
        "Every byte is written once; where drives or sets differ, the slowest counts.",
    )


def _first_sync(a: Assessment, _file_system: str) -> Worked | None:
    if a.first_sync_hours is None:
        return None
    users = _users(a)[1]
    return Worked(
        "bytes of each drive in use / its rate, the slowest counts",
        f"{format_duration(a.first_sync_hours * 3600)}{users and ', with users at work'}",
        "Every drive is read or written once, all at the same time.",
    )


def _restore(a: Assessment, _file_system: str) -> Worked | None:
    if a.restore_hours is None or a.given.backup is None:
        return None
    return Worked(
        "bytes / the backup's link",
        f"{format_size(a.space.usable)} / {format_size(a.given.backup.link)}/s = {format_duration(a.restore_hours * 3600)}",
        f"A full volume, from {a.given.backup.where}.",
    )


REBUILD = LayoutFigure(
    "rebuild_hours", "Rebuild of one drive", "Rebuild of one drive", "rebuild",
    "Computing what was on a failed drive from the others of its set, and writing it to a new one.",
    "hours", False, lambda a: a.rebuild_hours, _rebuild, weighed=True, listed=True,
)  # fmt: skip
FIRST_SYNC = LayoutFigure(
    "first_sync_hours", "First sync", "First sync", "first sync",
    "Bringing the redundancy of a new pool in step with whatever the drives hold. The volume can be used meanwhile, slower.",
    "hours", False, lambda a: a.first_sync_hours, _first_sync,
)  # fmt: skip
CHECK = LayoutFigure(
    "check_hours", "Check", "Check", "check",
    "Reading everything and comparing parity and checksums (scrub). Finds damage before it matters.",
    "hours", False, lambda a: a.check_hours,
)  # fmt: skip
RESTORE = LayoutFigure(
    "restore_hours", "Restoring everything from the backup", "Restore from backup", "restore",
    "Bringing everything back from the backup over its link.",
    "hours", False, lambda a: a.restore_hours, _restore,
)  # fmt: skip

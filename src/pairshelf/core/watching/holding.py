"""What a pool holds: given, written, promised, and what would come back; in bytes of data, or, of a spread pool, of
its drives with all redundancy (rules: thin volumes and snapshots)."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

from pairshelf.core.layouts.protections import Protection


@dataclass(frozen=True, slots=True)
class VolumeHolds:
    """A volume as far as room is concerned, in bytes of its data."""

    id: int
    name: str
    size: int
    thin: bool
    #: What its file system keeps for itself, and of what is left the share that only its administrator may fill.
    overhead: int
    reserved_share: float
    #: What the pool has given it; of its size, or of what was written.
    given: int
    #: What its files take; of that, what lies in bins.
    files: int
    in_bins: int
    #: What that takes of the pool: more than what it was given only in a spread pool, by its redundancy.
    taken: int
    #: Of that, what comes back to the pool once nothing idle is left to it and its bins are empty.
    reclaimable: int = 0
    #: So much of the pool for a byte of it.
    times: float = 1.0
    #: A keep rule deletes its oldest, so that it is meant to be full.
    kept_by_rule: bool = False
    #: A copy that nobody sees yet: of a volume that is being moved here.
    unseen: bool = False
    #: Bytes that files can take; and of that, what they take, 0 to 1. Kept, as they are asked for often.
    for_files: int = field(init=False, compare=False, repr=False)
    share: float = field(init=False, compare=False, repr=False)

    def __post_init__(self) -> None:
        room = max(0, self.size - self.overhead)
        object.__setattr__(self, "for_files", room)
        object.__setattr__(self, "share", min(1.0, self.files / room) if room else 1.0)

    @property
    def told_of(self) -> bool:
        """Whether somebody is told when it fills up."""
        return not self.kept_by_rule and not self.unseen

    @property
    def reserve(self) -> int:
        """Bytes of that which only its administrator may fill."""
        return int(self.for_files * self.reserved_share)


def stays(files: int, end: int, protection: Protection | None) -> int:
    """Extents of the pool that a thin volume keeps once nothing idle is left to it: so many of files, the last of which
    ends at ``end``.

    In a spread pool whole stripes go, from the volume's end up to its last file.
    """
    return files if protection is None else -(-end // protection.data) * protection.width


@dataclass(frozen=True, slots=True)
class Holding:
    """What a pool holds, in bytes."""

    capacity: int
    #: Given to volumes for good: all of thick ones, of thin ones what was written.
    given: int
    #: What files hold, each byte counted once.
    files: int
    #: What these files take of the capacity; more than ``files`` only in a spread pool, by its redundancy.
    footprint: int
    #: Of that, files in bins; it comes back when they are emptied.
    in_bins: int
    #: The whole sizes of all volumes: what has been promised.
    committed: int
    #: Given to thin volumes with no file on it, or with one that lies in a bin.
    reclaimable: int
    #: What file systems hold back.
    reserve: int
    thin: bool
    #: The capacity is that of the drives, all redundancy included, and is never added to usable capacity.
    of_drives: bool = False

    @property
    def free(self) -> int:
        """What no volume has yet."""
        return self.capacity - self.given

    @property
    def share(self) -> float:
        """Of the capacity, what is given, 0 to 1."""
        return self.given / self.capacity if self.capacity else 1.0

    @property
    def over_commit(self) -> float:
        """Promised by capacity; above 1, not all promises can be kept at once."""
        return self.committed / self.capacity if self.capacity else 0.0


def holding(capacity: int, volumes: Sequence[VolumeHolds], *, of_drives: bool = False) -> Holding:
    """A pool's account from its capacity, in bytes, and its volumes."""

    given = files = footprint = in_bins = committed = reclaimable = reserve = 0
    thin = False
    for v in volumes:
        given, reclaimable, thin = given + v.taken, reclaimable + v.reclaimable, thin or v.thin
        files += v.files
        if v.times == 1.0:
            footprint, in_bins, committed, reserve = (
                footprint + v.files,
                in_bins + v.in_bins,
                committed + v.size,
                reserve + v.reserve,
            )
            continue
        # In a spread pool as its drives bear it.
        footprint, in_bins = footprint + round(v.files * v.times), in_bins + round(v.in_bins * v.times)
        committed, reserve = committed + round(v.size * v.times), reserve + round(v.reserve * v.times)
    return Holding(capacity, given, files, footprint, in_bins, committed, reclaimable, reserve, thin, of_drives)

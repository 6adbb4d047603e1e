"""A pool that is not in the books, as its drives tell of it."""

from __future__ import annotations

import datetime as dt
import math
from dataclasses import dataclass
from enum import StrEnum

from pairshelf.core.layouts import Layout


class Standing(StrEnum):
    """How a member's drive is, by what it says itself."""

    #: It has the newest record, or was about to get it: nothing has been written since without it.
    CURRENT = "current"
    #: It was away when that was written, and is as it was when it went: it lacks what has changed since, no more.
    BEHIND = "behind"
    #: It has an older record than it had: whatever changed since, it lacks, and nobody knows what that is.
    OLDER = "older"
    #: It bears the pool's label, or the others name it, and no record on it can be read.
    DAMAGED = "damaged"
    #: It is not here.
    AWAY = "away"


@dataclass(frozen=True, slots=True)
class FoundMember:
    """A drive that the newest record names."""

    serial: str
    #: None: a spare.
    slot: int | None
    size: int
    standing: Standing
    #: How its place was when the record was written: active, missing, failed, rebuilding, emptied.
    state: str
    #: Its number in the books and where it is; None where it is not here.
    drive_id: int | None = None
    place: str = ""
    #: Why it cannot be taken, though it is here.
    why_not: str | None = None
    #: Extents that it lacks, at most, where that is known.
    missed: int | None = None
    #: It is here, and free as the books have it.
    free: bool = False

    @property
    def whole(self) -> bool:
        """Whether all its data are on it now: it has the newest record, or was away and nothing was written since."""
        as_it_was = self.standing is Standing.BEHIND and self.state == "missing" and self.missed == 0
        return (as_it_was or (self.standing is Standing.CURRENT and self.state == "active")) and self.why_not is None

    @property
    def needs_filling(self) -> bool:
        """Whether it is here and has to be filled first."""
        return self.standing is not Standing.AWAY and self.state != "emptied" and not self.whole


@dataclass(frozen=True, slots=True)
class FoundVolume:
    """A volume of it."""

    name: str
    size: int
    file_system: str
    files: int


@dataclass(frozen=True, slots=True)
class Hanging:
    """Something that names one of its volumes: a mount, a share, a disk for other hosts."""

    #: "mount", "share", "disk".
    what: str
    volume: str
    #: In a sentence: "the share Press", "the mount at /srv/press on elm".
    named: str
    #: The host that has it; nothing for a share.
    host: str
    #: The share's or the target's name, the mount point.
    name: str
    #: Persons and groups, initiators, that may use it.
    parties: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class FoundPool:
    """A pool that some drives here say they belong to."""

    #: What it is known by, wherever it is.
    uid: str
    name: str
    #: Bytes it has been found on: drives here that bear its label or its record and are no members any more; by serial
    #: and where they are.
    left_over: tuple[tuple[str, str], ...] = ()
    #: Nothing more is known where no record can be read: why.
    unreadable: str | None = None
    layout: Layout | None = None
    scheme: str = ""
    generation: int = 0
    written_at: dt.datetime | None = None
    #: Whether this installation wrote the newest record.
    ours: bool = False
    encrypted: bool = False
    members: tuple[FoundMember, ...] = ()
    volumes: tuple[FoundVolume, ...] = ()
    hanging: tuple[Hanging, ...] = ()
    #: All its redundancy was in step; it was being restriped.
    synced: bool = True
    restriping: bool = False
    #: The name it has in the books here, where it is in them; the pool that was taken apart and may be put together.
    here: str | None = None
    former: str | None = None
    #: Extents that its volumes were given.
    taken: int = 0

    @property
    def in_order(self) -> list[FoundMember]:
        """Its members in the order of their slots, then its spares."""
        return sorted(self.members, key=lambda m: math.inf if m.slot is None else m.slot)

    @property
    def slots(self) -> tuple[FoundMember, ...]:
        """Its members in the order of their slots, without spares."""
        return tuple(m for m in self.in_order if m.slot is not None)

    @property
    def drive_ids(self) -> tuple[int, ...]:
        """Drives here that are its members or spares."""
        return tuple(m.drive_id for m in self.members if m.drive_id is not None)

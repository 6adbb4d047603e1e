"""The small protocol by which a device is reached: the stand-in implements it, an agent can too.

Reads and writes count in extents. How many bytes carry one extent is the device's own affair; the
engine only needs that all members of a pool agree.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from enum import StrEnum
from typing import Protocol

from pairshelf.core.disposal.facts import Command, Identity
from pairshelf.core.domain.drives import Kind
from pairshelf.core.domain.estate import Entry
from pairshelf.core.domain.inventory import DriveRecord

#: Places beside the label that a pool's record is kept in by turns, the place of the mark that all its drives have it,
#: and the most bytes of one: all fit into what is held back, with room for the copy of what a restripe moves.
RECORD_COPIES = 2
RECORD_MARK = 2
RECORD_MOST = 64 * 2**20


class Presence(StrEnum):
    """Whether a device answers."""

    #: It reads and writes.
    ANSWERS = "answers"
    #: It reads and writes, but its own readings warn.
    WARNS = "warns"
    #: It is not in its bay; it may come back as it was.
    ABSENT = "absent"
    #: It is there and cannot be read or written any more.
    FAILED = "failed"

    @property
    def works(self) -> bool:
        """Whether it can be read and written."""
        return self in (Presence.ANSWERS, Presence.WARNS)


class DeviceError(Exception):
    """A read or write that the device did not carry out."""

    def __init__(self, serial: str, presence: Presence) -> None:
        super().__init__(f"drive {serial} is {presence.value}")
        self.serial = serial
        self.presence = presence


class Unreadable(DeviceError):
    """The drive answers, and cannot read some of the extents asked for; written anew they can be read again."""

    def __init__(self, serial: str) -> None:
        super().__init__(serial, Presence.ANSWERS)


class Stalled(DeviceError):
    """The drive is there and does not answer for now; later it may."""

    def __init__(self, serial: str) -> None:
        super().__init__(serial, Presence.ANSWERS)


class Device(Protocol):
    """One drive that can be read and written in whole extents."""

    @property
    def serial(self) -> str: ...

    def read(self, start: int, count: int) -> bytes:
        """``count`` extents from extent ``start``; DeviceError when it does not answer."""
        ...

    def read_into(self, start: int, into: memoryview) -> None:
        """The same into bytes that are there already: as many whole extents as they hold."""
        ...

    def read_pieces(self, pieces: Sequence[tuple[int, memoryview]]) -> None:
        """Several stretches, each from its first extent into bytes that are there already. Where any of it cannot be
        read, what the bytes hold afterwards is not known."""
        ...

    def write(self, start: int, data: bytes | memoryview) -> None:
        """Write whole extents from extent ``start``; DeviceError when it does not answer."""
        ...

    def flush(self) -> None:
        """Return once everything written would outlive a power cut."""
        ...

    def read_label(self) -> Mapping[str, object] | None:
        """The label written at building, or None when there is none of ours."""
        ...

    def write_label(self, label: Mapping[str, object]) -> None:
        """Write the label that says what the drive belongs to."""
        ...

    def keep_aside(self, data: bytes) -> None:
        """Keep bytes in the room held back beside the label, in the place of those before; returns once they would
        outlive a power cut."""
        ...

    def aside(self) -> bytes:
        """What was last kept there; nothing where nothing was."""
        ...

    def keep_record(self, copy: int, data: bytes, *, flush: bool = True) -> None:
        """Keep bytes in one of ``RECORD_COPIES`` places beside the label, or in that of the mark, in the place of those
        before; returns once they would outlive a power cut, unless that is not asked for. A kill may leave this one
        torn, never another. ValueError for more than ``RECORD_MOST`` bytes."""
        ...

    def record(self, copy: int) -> bytes:
        """What was last kept in that place; nothing where nothing was."""
        ...

    def read_sectors(self, at: int, count: int) -> bytes:
        """``count`` bytes at a true byte address, where the drive's partition table may stand; zeros elsewhere."""
        ...

    def write_sectors(self, chunks: Sequence[tuple[int, bytes]]) -> None:
        """Write a partition table: (byte address, bytes) of all that is not zero. In the place of the one before,
        all of it or nothing."""
        ...

    def identify(self, kind: Kind = Kind.HDD) -> Identity:
        """What it reports of itself: commands it knows, capacity it does not show. ``kind``: what the books say it
        stores on."""
        ...

    def recovery(self, kind: Kind, known: float | None) -> Recovery:
        """Its error-recovery limit; ``known``: seconds, as the books have it, for a device that cannot be asked."""
        ...

    def set_recovery(self, kind: Kind, limit: float | None) -> None:
        """Set its error-recovery limit, seconds; None: none. NotImplementedError where it takes none."""
        ...

    @property
    def cells(self) -> int:
        """Extents it has in all, those it does not show among them: what its own commands go through."""
        ...

    @property
    def slowness(self) -> float:
        """How many times longer than usual everything takes it just now."""
        ...

    def open_protected(self) -> int:
        """Show the capacity that was set aside at its end, for reading and writing behind its last extent; how many
        extents that are."""
        ...

    def clear_held_back(self) -> None:
        """Nothing of what stands outside the extents is left: label, partition table, what was kept aside."""
        ...

    def overwrite_cells(self, first: int, count: int, pattern: bytes) -> None:
        """Its own command to overwrite everything it has, so many cells of it; NotImplementedError where it does not
        know that."""
        ...

    def erase_all(self, command: Command) -> None:
        """Its own command to erase everything that this one reaches, in one go; NotImplementedError where it does not
        know that."""
        ...


@dataclass(frozen=True, slots=True)
class Recovery:
    """How long a drive tries to read a bad sector before it says so."""

    #: Seconds; None: as long as it takes.
    limit: float | None
    #: Whether it can be told otherwise.
    settable: bool


@dataclass(frozen=True, slots=True)
class Questioned:
    """A drive that is asked for its readings, with what the books know of it."""

    serial: str
    size: int
    kind: Kind
    in_service: dt.date | None = None
    #: Bytes that its maker rates it for.
    rated_writes: int | None = None


@dataclass(frozen=True, slots=True)
class Arrival:
    """A drive that has been put into a bay, with what it says of itself."""

    key: str
    #: None: what it says cannot be read.
    record: DriveRecord | None
    #: Why not.
    why: str = ""


class Hosts(Protocol):
    """The own disks of the hosts that use volumes. Paths are full paths on the host."""

    def entries(self, host: str, path: str) -> tuple[Entry, ...] | None:
        """What lies in a folder, or None when it is not there."""
        ...

    def files(self, host: str, path: str) -> Iterator[str]:
        """All files below a folder, by their path inside it, in order."""
        ...

    def make_folder(self, host: str, path: str) -> None:
        """A folder with those above it."""
        ...

    def move(self, host: str, path: str, to: str) -> None:
        """To another name; nothing if that has been done."""
        ...

    def remove_empty(self, host: str, path: str) -> None:
        """Remove an empty folder."""
        ...

    def close(self, host: str, path: str, *, closed: bool) -> None:
        """Close a folder against writing, or open it."""
        ...

    def is_closed(self, host: str, path: str) -> bool:
        """Whether nothing can be written to a folder."""
        ...

    def read(self, host: str, path: str) -> bytes:
        """A file's bytes."""
        ...

    def write(self, host: str, path: str, content: bytes) -> None:
        """A whole file, all of it or none; NotPossible where its folder is closed."""
        ...

    def remove(self, host: str, path: str) -> None:
        """Remove a file or a folder."""
        ...


@dataclass(frozen=True, slots=True)
class Area:
    """Part of what a laboratory finds in a drive: "shown", "protected", "reassigned", "spare", "held back"."""

    name: str
    cells: int
    #: Cells from one on, so many: what really stands there.
    read: Callable[[int, int], bytes]


class Devices(Protocol):
    """All devices that can be reached."""

    #: Bytes that carry one extent.
    block: int
    #: The hosts' own disks.
    hosts: Hosts

    def open(self, serial: str, size: int) -> Device:
        """The drive of that serial; ``size`` in bytes."""
        ...

    def laboratory(self, serial: str, size: int) -> Sequence[Area]:
        """Everything that is in a drive, whatever it shows: as a laboratory would read it."""
        ...

    def troubled(self) -> Mapping[str, Presence]:
        """Serials of drives with which something is wrong, and what."""
        ...

    def readings(self, asked: Sequence[Questioned], at: dt.datetime) -> Mapping[str, Mapping[str, int]]:
        """What drives report of themselves at a moment, by serial and reading (``core.watching.readings``). One that does
        not answer is not in it."""
        ...

    def disconnected(self) -> frozenset[str]:
        """Serials of drives that are in their bays and out of reach, as their shelf has no cable or their host is off."""
        ...

    def light(self, serial: str, *, on: bool) -> None:
        """Light the lamp of a drive's bay, or put it out; nothing of what it stores is touched."""
        ...

    def lit(self) -> frozenset[str]:
        """Serials of drives whose lamp is lit."""
        ...

    def arrivals(self) -> Sequence[Arrival]:
        """Drives put into bays since they were last acknowledged."""
        ...

    def acknowledge(self, arrival: Arrival) -> None:
        """The arrival has been recorded."""
        ...

    def bay_is_taken(self, arrival: Arrival) -> None:
        """Where it says it is, another drive is: it lies beside the shelves, to be put in elsewhere."""
        ...

    def set_aside(self, arrival: Arrival) -> None:
        """The arrival cannot be recorded; it is not told of again."""
        ...

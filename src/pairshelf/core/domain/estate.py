"""The immutable picture of what is there, as far as a question needs it."""

from __future__ import annotations

import datetime as dt
from dataclasses import dataclass, field
from functools import cached_property

from pairshelf.core.disposal.facts import Identity
from pairshelf.core.domain.drives import Drive, Kind, offered
from pairshelf.core.domain.found import FoundPool
from pairshelf.core.domain.partitions import Table, WantedPartition
from pairshelf.core.domain.units import EXTENT
from pairshelf.core.errors import BadInput, NotFound
from pairshelf.core.layouts import Layout
from pairshelf.core.policies.beside import Under


@dataclass(frozen=True, slots=True)
class EstateDrive:
    """A drive where it is, with what matters for giving it a new duty."""

    id: int
    serial: str
    shelf: str | None
    bay: int | None
    size: int
    kind: Kind
    rate: int | None
    service: str
    condition: str
    holds: str | None = None
    starts_host: bool = False
    pool: str | None = None
    host: str | None = None
    #: The drive with all that is known of it, where that was asked for.
    known: Drive | None = None
    bus: str | None = None
    sector_size: int | None = None
    #: Shelf and bay it was in before it was taken out.
    left: tuple[str, int] | None = None
    retired_to: str | None = None
    #: What it belongs to is itself, divided into partitions.
    partitioned: bool = False
    #: Of flash: the share of it that is held back for its endurance.
    held_share: float = 0.0
    #: The encrypted pool of which ciphertext is all that was written to it since it was blank, once its key is gone.
    sealed_by: str | None = None
    #: When it was last wiped, where nothing was written to it since.
    wiped_at: dt.datetime | None = None
    #: What is being drained, in words, where it is among that.
    draining: str | None = None

    @property
    def place(self) -> str:
        """Where it is, in words: shelf and bay."""
        if self.shelf is not None:
            return f"{self.shelf} bay {self.bay}"
        return f"out of {self.left[0]} bay {self.left[1]}" if self.left else "on no shelf"

    @property
    def offline(self) -> bool:
        """In its bay, and out of reach with its shelf or its host."""
        return self.condition == "missing" and self.shelf is not None

    @property
    def named(self) -> str:
        """The drive in a sentence: by where it is, or by its serial when it is nowhere."""
        if self.shelf is not None:
            return f"{self.place} ({self.serial})"
        return f"{self.serial}, which was in {self.left[0]} bay {self.left[1]}" if self.left else self.serial

    @property
    def offers(self) -> int:
        """Bytes that it gives to a pool: all it has, less what is held back."""
        return offered(self.size, self.held_share)

    @property
    def as_drive(self) -> Drive:
        """The drive as the layouts see it."""
        return self.known or Drive(str(self.id), self.offers, self.kind, self.rate, self.shelf, self.host)

    def why_not_offered(self) -> str | None:
        """Why it cannot be given a duty, or None if it can."""
        if self.service == "retired":
            return f"It has left: {self.retired_to}."
        if self.starts_host:
            return f"{self.host or 'Its host'} starts from it."
        if self.service == "in-use":
            if self.partitioned:
                return "It is in use by its partitions."
            return f"It is in use in pool {self.pool}." if self.pool else "It is in use."
        if self.service == "wiping":
            return "It is being wiped."
        if self.condition == "failed":
            return "It has failed."
        if self.condition == "missing":
            return "Its shelf or host is offline." if self.offline else "It is not in a bay."
        if self.service == "new":
            return "It is new; accept it first."
        if self.draining is not None:
            return f"Nothing new is placed on it: {self.draining} is being drained."
        return None

    def why_it_stays(self) -> str | None:
        """Why it cannot leave the house, or None if it can."""
        if self.service == "in-use":
            if self.partitioned:
                return "Its partitions are in use; delete them and write the empty table first."
            return f"It belongs to pool {self.pool}; replace it there first." if self.pool else "It is in use."
        if self.starts_host:
            return f"{self.host or 'Its host'} starts from it."
        if self.service == "wiping":
            return "It is being wiped; wait for that, or stop it."
        if self.service == "retired":
            return f"It has left already: {self.retired_to}."
        return None

    def why_not_wiped(self) -> str | None:
        """Why nothing of it may be wiped, or None if it may. One that does not answer can be recorded as destroyed."""
        return self.why_it_stays()


@dataclass(frozen=True, slots=True)
class EstatePlace:
    """A member's place in a pool and the drive in it."""

    slot: int
    state: str
    #: A drive of the size the layout was made with; its id is the slot's number.
    designed: Drive
    drive: EstateDrive | None
    #: Everything is being moved off it (spread pools).
    draining: bool = False
    #: Of one whose drive is missing: extents on it that have changed since, at most; None: it is there.
    missed: int | None = None

    @property
    def closed(self) -> bool:
        """Whether nothing new may be put on it."""
        return self.draining or self.state != "active"


@dataclass(frozen=True, slots=True)
class EstatePool:
    """A built pool."""

    id: int
    name: str
    state: str
    layout: Layout
    places: tuple[EstatePlace, ...]
    spares: tuple[EstateDrive, ...]
    synced: bool
    scheme: str = ""
    #: Free stretches of its addresses (set-built and stepped).
    gaps: tuple[tuple[int, int], ...] = ()
    encrypted: bool = False
    locked: bool = False
    #: Of a drive divided into partitions, which are its volumes: its table.
    table: Table | None = None
    #: Drives that are being made copies of members: (slot, drive).
    copies: tuple[tuple[int, EstateDrive], ...] = ()
    #: The path on which larger drives come to it, where there is one: (slot, drive, whether it has come).
    path: tuple[tuple[int, int, bool], ...] = ()
    #: Jobs on it that have not ended.
    under_way: tuple[Under, ...] = ()

    @property
    def spread(self) -> bool:
        """Whether each of its volumes has a protection of its own."""
        return self.layout.own_protection

    @property
    def capacity(self) -> int:
        """Extents of data; in a spread pool extents of its drives."""
        return self.layout.stock

    @property
    def holds(self) -> int:
        """Bytes of data; in a spread pool of its drives, of a divided drive what its partitions can have."""
        return self.capacity * EXTENT if self.table is None else self.table.bytes_in_all

    @property
    def free(self) -> int:
        """Extents that no volume has yet; in a spread pool extents of its drives."""
        return self.layout.left(self.gaps) - sum(
            p.designed.extents - self.layout.used_extents[p.slot] for p in self.places if p.draining
        )

    @property
    def reaches_to(self) -> int:
        """The address behind the last extent that a volume has (set-built and stepped)."""
        end = self.capacity
        for first, count in sorted(self.gaps, reverse=True):
            if first + count == end:
                end = first
        return end

    @property
    def absent(self) -> set[str]:
        """Ids, in the layout, of the places whose drives do not serve in full: failed, missing, being rebuilt."""
        return {p.designed.id for p in self.places if p.state != "active"}

    def largest(self, protection: str | None) -> int:
        """Bytes of the largest volume that can be made now."""
        closed = [p.slot for p in self.places if p.closed]
        return self.layout.largest(protection or "", self.gaps, closed) * EXTENT


@dataclass(frozen=True, slots=True)
class EstateVolume:
    """A volume of a pool, with what stands on it."""

    id: int
    pool: str
    name: str
    size: int
    thin: bool
    file_system: str
    reserved_share: float | None
    overhead: int
    uuid: str
    #: Bytes of files on it, how many, and where the last one ends, bytes from the volume's start.
    files_bytes: int = 0
    files: int = 0
    files_end: int = 0
    #: Extents of the pool it has; in a spread pool of its drives, redundancy included.
    placed: int = 0
    protection: str | None = None
    purpose: str = ""
    keep_above: float | None = None
    #: Its number in the table of a drive that is divided into partitions.
    partition: int | None = None
    #: Of the files on it, those in bins: bytes and how many.
    in_bins: int = 0
    files_in_bins: int = 0
    #: In a spread pool, extents of its stripes up to the last file, and up to the last that is in no bin.
    stands_to: int = 0
    kept_to: int = 0
    #: Extents of its own that have a place: all of a thick one, of a thin one those that were written.
    written: int = 0

    @property
    def bare(self) -> bool:
        """Whether it has no file system: then nothing here knows what is on it."""
        return self.file_system == "none"

    @property
    def ref(self) -> str:
        """Its name with its pool's: cold/scans."""
        return f"{self.pool}/{self.name}"


@dataclass(frozen=True, slots=True)
class EstateMount:
    """A host's entry that mounts a volume."""

    id: int
    host: str
    volume: str
    at: str
    read_only: bool = False
    access_times: bool = False
    required: bool = False


@dataclass(frozen=True, slots=True)
class EstateHost:
    """A computer that uses volumes."""

    name: str
    site: str
    letters: bool = False
    address: str | None = None
    storage_address: str | None = None
    iqn: str | None = None
    #: Bytes per second of its network.
    link: int | None = None


@dataclass(frozen=True, slots=True)
class EstateShare:
    """A folder of a volume over the network."""

    name: str
    volume: str
    folder: str
    quota: int | None
    bin_days: int | None
    encrypted: bool
    #: (person or group, read or write)
    rights: tuple[tuple[str, str], ...]
    visitors: tuple[str, ...] = ()
    #: Bytes of files in its folder, where that was asked for.
    taken: int = 0


@dataclass(frozen=True, slots=True)
class EstateTarget:
    """A block target with its disks and who is let in."""

    iqn: str
    host: str
    shared: bool
    #: (number, volume)
    luns: tuple[tuple[int, str], ...]
    #: (initiator, whether it has to prove itself by CHAP)
    initiators: tuple[tuple[str, bool], ...]


@dataclass(frozen=True, slots=True)
class EstateBackup:
    """The recorded backup of a pool, or of one of its volumes."""

    pool: str
    #: None: of the whole pool.
    volume: str | None
    place: str
    #: The day it is of.
    of: dt.date
    #: When somebody last said that it is there, and who.
    said_on: dt.date | None = None
    said_by: str = ""


@dataclass(frozen=True, slots=True)
class EstateApplication:
    """Something on a host that keeps data in a folder."""

    id: int
    host: str
    name: str
    kind: str
    owner: str
    folder: str
    settings: str
    running: bool
    volume: str | None
    folder_scheme: str | None = None
    files_per_folder: int | None = None
    #: The folder it had before a move that can be undone.
    moved_from: str | None = None


@dataclass(frozen=True, slots=True)
class FormerPool:
    """A pool that was taken apart."""

    id: int
    name: str
    drives: int
    volumes: int
    encrypted: bool
    survives: int
    #: Whether the time in which it could come back is over, or it has come back.
    over: bool
    back: bool
    #: Members that are away, and drives that were used, wiped or written on since; by serial.
    away: tuple[str, ...] = ()
    spoilt: tuple[str, ...] = ()
    #: Extents that it held, and that were given to volumes.
    extents: int = 0
    taken: int = 0
    #: Whether these are of its drives, each volume having a protection of its own.
    spread: bool = False


@dataclass(frozen=True, slots=True)
class Entry:
    """What lies in a folder of a host: a name, and bytes if it is a file."""

    name: str
    size: int
    folder: bool = False


@dataclass(frozen=True, slots=True)
class EstateDrain:
    """Drives that are being emptied."""

    id: int
    subject: str
    drives: tuple[int, ...]
    open: bool


@dataclass(frozen=True)
class Estate:
    """What is there. Only what the question touches need be in it."""

    drives: tuple[EstateDrive, ...] = ()
    pools: tuple[EstatePool, ...] = ()
    #: Names of all pools, in lower case, for new ones to differ from.
    pool_names: frozenset[str] = frozenset()
    hosts: frozenset[str] = field(default_factory=frozenset)
    volumes: tuple[EstateVolume, ...] = ()
    mounts: tuple[EstateMount, ...] = ()
    machines: tuple[EstateHost, ...] = ()
    shares: tuple[EstateShare, ...] = ()
    targets: tuple[EstateTarget, ...] = ()
    #: Declared initiators: (name, host that has it or None).
    initiators: tuple[tuple[str, str | None], ...] = ()
    applications: tuple[EstateApplication, ...] = ()
    backups: tuple[EstateBackup, ...] = ()
    #: Persons and groups: name to its members (a person has none), None for a person.
    parties: tuple[tuple[str, tuple[str, ...] | None], ...] = ()
    #: What lies in the folders the question names: (host, path) to entries; a folder that is not there is left out.
    folders: tuple[tuple[tuple[str, str], tuple[Entry, ...]], ...] = ()
    #: Bytes of files in the folders of volumes that the question names: (volume, folder) to bytes.
    taken: tuple[tuple[tuple[str, str], int], ...] = ()
    #: Drive to its pending partitions: scheme, bytes of a sector, what is wanted.
    pending_partitions: tuple[tuple[int, tuple[str, int, tuple[WantedPartition, ...]]], ...] = ()
    #: Drives that did not answer when they were read: id to what is wrong.
    silent: tuple[tuple[int, str], ...] = ()
    #: What drives report of themselves, by id; those that do not answer are left out.
    identities: tuple[tuple[int, Identity], ...] = ()
    #: Extents that copies of volumes which are being moved have in other pools: volume, extents, and whether that is a
    #: spread pool, whose extents are those of its drives.
    copies: tuple[tuple[int, int, bool], ...] = ()
    #: Pools that were taken apart, as far as the question names them.
    former: tuple[FormerPool, ...] = ()
    #: Drains under way, as far as the question names them.
    drains: tuple[EstateDrain, ...] = ()
    #: Pools that drives say they belong to, as far as the question names them.
    found: tuple[FoundPool, ...] = ()
    #: Drives of pools that may be put together again: id to the pool, and until when.
    wanted_back: tuple[tuple[int, tuple[str, dt.datetime]], ...] = ()

    def volume(self, ref: str, *, field: str = "volume") -> EstateVolume:
        """The volume named ``pool/volume``, or by its own name where that is the only one; BadInput otherwise."""
        if exact := self._volumes_by_ref.get(ref):
            return exact
        found = [v for v in self.volumes if v.name == ref]
        if len(found) == 1:
            return found[0]
        if found:
            raise BadInput(f"Several pools have a volume {ref}; write {found[0].ref} or the like.", field=field)
        raise NotFound("volume", ref or "without a name", field=field, hint="Write it as pool/volume.")

    def pool_named(self, name: str, *, field: str = "pool") -> EstatePool:
        """The pool of that name; BadInput otherwise."""
        found = next((p for p in self.pools if p.name.lower() == name.strip().lower()), None)
        if found is None:
            raise NotFound("pool", name or "without a name", field=field)
        return found

    def host(self, name: str, *, field: str = "host") -> EstateHost:
        """The host of that name; BadInput otherwise."""
        found = next((h for h in self.machines if h.name == name.strip()), None)
        if found is None:
            known = ", ".join(h.name for h in self.machines[:6])
            raise NotFound("host", name or "without a name", field=field, hint=f"There are {known or 'none'}.")
        return found

    def entries(self, host: str, path: str) -> tuple[Entry, ...] | None:
        """What lies in a host's folder, or None when it is not there."""
        return dict(self.folders).get((host, path))

    def backup_of(self, volume: EstateVolume) -> EstateBackup | None:
        """The recorded backup that holds a volume's files: its own, or its pool's."""
        there = {b.volume: b for b in self.backups if b.pool == volume.pool}
        return there.get(volume.name) or there.get(None)

    def mounts_of(self, volume: EstateVolume) -> list[EstateMount]:
        """The places a volume is mounted at."""
        return self._mounts_by_volume.get(volume.ref, [])

    @cached_property
    def groups(self) -> dict[str, tuple[str, ...]]:
        """Each group's members."""
        return {name: members for name, members in self.parties if members is not None}

    @cached_property
    def _volumes_by_ref(self) -> dict[str, EstateVolume]:
        return {v.ref: v for v in self.volumes}

    @cached_property
    def _mounts_by_volume(self) -> dict[str, list[EstateMount]]:
        found: dict[str, list[EstateMount]] = {}
        for mount in self.mounts:
            found.setdefault(mount.volume, []).append(mount)
        return found

    def drive(self, drive_id: int) -> EstateDrive | None:
        """The drive of that id, or None."""
        return next((d for d in self.drives if d.id == drive_id), None)

    def pool(self, pool_id: int) -> EstatePool | None:
        """The pool of that id, or None."""
        return next((p for p in self.pools if p.id == pool_id), None)

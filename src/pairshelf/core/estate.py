"""The immutable picture of what is there, as far as a question needs it."""

from __future__ import annotations

from dataclasses import dataclass, field

from pairshelf.core.drives import Drive, Kind
from pairshelf.core.layouts import Layout


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

    @property
    def place(self) -> str:
        """Where it is, in words: shelf and bay."""
        return f"{self.shelf} bay {self.bay}" if self.shelf is not None else "on no shelf"

    @property
    def as_drive(self) -> Drive:
        """The drive as the layouts see it."""
        return self.known or Drive(str(self.id), self.size, self.kind, self.rate, self.shelf, self.host)

    def why_not_offered(self) -> str | None:
        """Why it cannot be given a duty, or None if it can."""
        if self.starts_host:
            return f"{self.host or 'Its host'} starts from it."
        if self.service == "in-use":
            return f"It is in use in pool {self.pool}." if self.pool else "It is in use."
        if self.condition == "failed":
            return "It has failed."
        if self.condition == "missing":
            return "It is missing."
        if self.service == "new":
            return "It is new; take it in first."
        return None


@dataclass(frozen=True, slots=True)
class EstatePlace:
    """A member's place in a pool and the drive in it."""

    slot: int
    state: str
    #: A drive of the size the layout was made with; its id is the slot's number.
    designed: Drive
    drive: EstateDrive | None


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


@dataclass(frozen=True, slots=True)
class Estate:
    """What is there. Only what the question touches need be in it."""

    drives: tuple[EstateDrive, ...] = ()
    pools: tuple[EstatePool, ...] = ()
    #: Names of all pools, in lower case, for new ones to differ from.
    pool_names: frozenset[str] = frozenset()
    #: (host, mount point) pairs already taken.
    mount_points: frozenset[tuple[str | None, str]] = frozenset()
    hosts: frozenset[str] = field(default_factory=frozenset)

    def drive(self, drive_id: int) -> EstateDrive | None:
        """The drive of that id, or None."""
        return next((d for d in self.drives if d.id == drive_id), None)

    def pool(self, pool_id: int) -> EstatePool | None:
        """The pool of that id, or None."""
        return next((p for p in self.pools if p.id == pool_id), None)

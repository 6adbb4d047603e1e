"""What one step of a job has at hand."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass

from sqlmodel import Session

from pairshelf.core.domain.device import Devices
from pairshelf.core.errors import Gone
from pairshelf.engine import keys
from pairshelf.engine.io.pool_io import PoolIO
from pairshelf.engine.io.restripe_io import RestripeIO
from pairshelf.engine.io.spread_io import SpreadIO
from pairshelf.engine.io.volume_io import VolumeIO
from pairshelf.engine.pools import OpenPool, open_io
from pairshelf.store.tables import JobRow, VolumeRow


@dataclass(slots=True)
class Work:
    """What one step has at hand."""

    session: Session
    job: JobRow
    pool: OpenPool
    world: Devices
    #: Most stripes (or extents) to do in this step.
    most: int
    _io: PoolIO | SpreadIO | RestripeIO | None = None
    _volumes: VolumeIO | None = None

    @property
    def any_io(self) -> PoolIO | SpreadIO | RestripeIO:
        """The pool's bytes, of whatever layout."""
        if self._io is None:
            self._io = open_io(self.session, self.pool, self.world)
        return self._io

    @property
    def io(self) -> PoolIO:
        """The bytes of a set-built or stepped pool."""
        io = self.any_io
        assert isinstance(io, PoolIO)
        return io

    @property
    def restripe_io(self) -> RestripeIO:
        """The bytes of a pool that is being restriped."""
        io = self.any_io
        assert isinstance(io, RestripeIO)
        return io

    @property
    def spread_io(self) -> SpreadIO:
        """The bytes of a spread pool."""
        io = self.any_io
        assert isinstance(io, SpreadIO)
        return io

    @property
    def volumes(self) -> VolumeIO:
        """The bytes of the pool's volumes, as their users see them."""
        if self._volumes is None:
            if self.pool.row.key is not None and not keys.is_open(self.pool.row.number):
                raise Held(f"pool {self.pool.row.name} is locked; it goes on when it is unlocked")
            self._volumes = VolumeIO(self.session, self.pool, self.world, self.any_io)
        return self._volumes

    def volume(self) -> VolumeRow:
        """The volume the job is about."""
        found = self.session.get(VolumeRow, self.job.volume_id)
        if found is None:
            raise Gone("volume")
        return found

    def note_moved(self) -> None:
        """Keep with the job what its step made the drives do."""
        if self._io is not None and self._io.moved:
            total = Counter({int(k): v for k, v in self.job.report.get("moved", {}).items()}) + self._io.moved
            self.job.report = {**self.job.report, "moved": {str(k): v for k, v in sorted(total.items())}}


@dataclass(slots=True)
class LotWork:
    """What one step of a job on drives of no pool has at hand."""

    session: Session
    job: JobRow
    world: Devices
    #: Share of its whole time that a step may take.
    share: float


@dataclass(frozen=True, slots=True)
class Held(Exception):
    """The job cannot go on now; it waits."""

    why: str

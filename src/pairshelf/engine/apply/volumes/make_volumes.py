"""Volumes made."""

from __future__ import annotations

from sqlmodel import Session

from pairshelf.core.changes.volumes.make_volumes import MakeVolumesPlan
from pairshelf.core.domain.device import Devices
from pairshelf.engine.apply.outcome import Outcome
from pairshelf.engine.io.volume_io import make_volume
from pairshelf.engine.jobs.first_sync import start_volume_sync
from pairshelf.engine.mount_table import write_mount
from pairshelf.engine.pools import open_pool
from pairshelf.store.tables import SheetRow


def apply(session: Session, sheet: SheetRow, planned: MakeVolumesPlan, who: str, _world: Devices) -> Outcome:
    """All the volumes, or none."""
    pool = open_pool(session, planned.pool.id)
    mounts = planned.mounts or (None,) * len(planned.specs)
    for spec, mount in zip(planned.specs, mounts, strict=True):
        volume = make_volume(session, pool, spec)
        if mount is not None:
            write_mount(session, mount, volume, sheet.id)
        start_volume_sync(session, pool, volume, who, sheet.id)
    return Outcome(planned.pool.id)

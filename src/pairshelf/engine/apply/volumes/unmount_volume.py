"""An entry out of a host’s mount table."""

from __future__ import annotations

from sqlmodel import Session

from pairshelf.core.changes.volumes.mount_volume import MountPlan
from pairshelf.core.domain.device import Devices
from pairshelf.engine.apply.outcome import Outcome
from pairshelf.engine.mount_table import find_volume, take_out_mount
from pairshelf.store.tables import SheetRow


def apply(session: Session, sheet: SheetRow, planned: MountPlan, _who: str, _world: Devices) -> Outcome:
    """An entry out of a host's mount table."""
    volume = find_volume(session, planned.line.volume)
    take_out_mount(session, planned.line.host, planned.line.at, sheet.id)
    return Outcome(volume.pool_id)

"""Another name in the books."""

from __future__ import annotations

from sqlmodel import Session

from pairshelf.core.changes.volumes.volume_plan import VolumePlan
from pairshelf.core.domain.device import Devices
from pairshelf.engine.apply.outcome import Outcome
from pairshelf.engine.apply.volumes.open_volume import opened
from pairshelf.store.tables import SheetRow


def apply(session: Session, _sheet: SheetRow, planned: VolumePlan, _who: str, _world: Devices) -> Outcome:
    """Another name in the books."""
    pool, volume = opened(session, planned)
    volume.name = planned.after.name
    return Outcome(pool.row.id)

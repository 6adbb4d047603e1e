"""Everything on a volume read."""

from __future__ import annotations

from sqlmodel import Session

from pairshelf.core.changes.volumes.volume_plan import VolumePlan
from pairshelf.core.domain.device import Devices
from pairshelf.engine.apply.outcome import Outcome
from pairshelf.engine.apply.volumes.open_volume import opened
from pairshelf.engine.jobs.read_files import start_reading
from pairshelf.store.tables import SheetRow


def apply(session: Session, sheet: SheetRow, planned: VolumePlan, who: str, _world: Devices) -> Outcome:
    """Start reading everything on it."""
    pool, volume = opened(session, planned)
    start_reading(session, pool, volume, who, kind="check-files", sheet_id=sheet.id)
    return Outcome(pool.row.id)

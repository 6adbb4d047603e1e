"""Several volumes of a pool extended."""

from __future__ import annotations

from sqlmodel import Session

from pairshelf.core.changes.volumes.extend_volumes import ExtendVolumesPlan
from pairshelf.core.domain.device import Devices
from pairshelf.engine.apply.outcome import Outcome
from pairshelf.engine.apply.volumes import resize_volume
from pairshelf.store.tables import PoolRow, SheetRow


def apply(session: Session, sheet: SheetRow, planned: ExtendVolumesPlan, who: str, world: Devices) -> Outcome:
    """Each of them takes its share of what the pool has left; or it is noted that they do when the front has arrived."""
    if planned.later:
        row = session.get_one(PoolRow, planned.pool.id)
        row.extend_after = {"volumes": [p.volume.name for p in planned.each], "sheet": sheet.id, "who": who}
        return Outcome(planned.pool.id)
    for one in planned.each:
        resize_volume.apply(session, sheet, one, who, world)
    return Outcome(planned.pool.id)

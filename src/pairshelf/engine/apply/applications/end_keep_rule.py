"""A keep rule ended."""

from __future__ import annotations

from sqlmodel import Session

from pairshelf.core.changes.applications.application_plan import KeepPlan
from pairshelf.core.domain.device import Devices
from pairshelf.engine.apply.outcome import Outcome
from pairshelf.engine.mount_table import find_volume
from pairshelf.store.tables import KeepRule, SheetRow


def apply(session: Session, _sheet: SheetRow, planned: KeepPlan, _who: str, _world: Devices) -> Outcome:
    """Nothing is deleted by itself any more."""
    volume = find_volume(session, planned.volume.ref)
    if rule := session.get(KeepRule, volume.id):
        session.delete(rule)
    return Outcome(volume.pool_id)

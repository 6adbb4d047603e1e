"""A keep rule, carried out at once."""

from __future__ import annotations

from sqlmodel import Session

from pairshelf.core.changes.applications.application_plan import KeepPlan
from pairshelf.core.domain.device import Devices
from pairshelf.engine.apply.outcome import Outcome
from pairshelf.engine.io.files import keeper_of
from pairshelf.engine.mount_table import find_volume
from pairshelf.engine.pools import open_pool
from pairshelf.store.tables import KeepRule, SheetRow


def apply(session: Session, _sheet: SheetRow, planned: KeepPlan, _who: str, _world: Devices) -> Outcome:
    """The rule, carried out at once."""
    volume = find_volume(session, planned.volume.ref)
    pool = open_pool(session, volume.pool_id)
    application = planned.application.id if planned.application else None
    session.merge(KeepRule(volume_id=volume.number, above=planned.above or 1.0, application_id=application))
    session.flush()
    if keeper := keeper_of(session, pool, volume):
        keeper.make_room()
    return Outcome(volume.pool_id)

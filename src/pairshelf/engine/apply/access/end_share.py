"""A share ended."""

from __future__ import annotations

from sqlmodel import Session

from pairshelf.core.changes.access.sharing import SharePlan
from pairshelf.core.domain.device import Devices
from pairshelf.engine.apply.outcome import Outcome
from pairshelf.engine.mount_table import find_volume, the_row
from pairshelf.store.tables import Share, SheetRow


def apply(session: Session, _sheet: SheetRow, planned: SharePlan, _who: str, _world: Devices) -> Outcome:
    """No longer offered; files stay."""
    session.delete(the_row(session, Share, name=planned.share.name))
    return Outcome(find_volume(session, planned.share.volume).pool_id)

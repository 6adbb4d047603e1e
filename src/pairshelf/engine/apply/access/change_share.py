"""Other rights and limits of a share."""

from __future__ import annotations

from sqlalchemy import delete
from sqlmodel import Session, col

from pairshelf.core.changes.access.sharing import SharePlan
from pairshelf.core.domain.device import Devices
from pairshelf.engine.apply.access.people_rows import cut_off, write_share
from pairshelf.engine.apply.outcome import Outcome
from pairshelf.engine.mount_table import find_volume, the_row
from pairshelf.store.tables import Share, ShareRight, SheetRow


def apply(session: Session, _sheet: SheetRow, planned: SharePlan, _who: str, _world: Devices) -> Outcome:
    """Other rights and limits; who has no right any more is cut off."""
    row = the_row(session, Share, name=planned.share.name)
    session.connection().execute(delete(ShareRight).where(col(ShareRight.share_id) == row.id))
    write_share(session, row, planned)
    cut_off(session, row)
    return Outcome(find_volume(session, planned.share.volume).pool_id)

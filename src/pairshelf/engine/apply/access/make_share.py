"""A folder offered."""

from __future__ import annotations

from sqlmodel import Session

from pairshelf.core.changes.access.sharing import SharePlan
from pairshelf.core.domain.device import Devices
from pairshelf.engine.apply.access.people_rows import write_share
from pairshelf.engine.apply.outcome import Outcome
from pairshelf.engine.mount_table import find_volume
from pairshelf.store.tables import Share, SheetRow


def apply(session: Session, sheet: SheetRow, planned: SharePlan, _who: str, _world: Devices) -> Outcome:
    """A folder offered."""
    volume = find_volume(session, planned.share.volume)
    row = Share(
        volume_id=volume.number, name=planned.share.name, folder=planned.share.folder,
        purpose=sheet.request["purpose"].strip(),
    )  # fmt: skip
    session.add(row)
    write_share(session, row, planned)
    return Outcome(volume.pool_id)

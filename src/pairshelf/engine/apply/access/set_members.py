"""Who is in a group."""

from __future__ import annotations

from sqlalchemy import delete
from sqlmodel import Session, col, select

from pairshelf.core.changes.access.sharing import PartyPlan
from pairshelf.core.domain.device import Devices
from pairshelf.engine.apply.access.people_rows import cut_off, write_members
from pairshelf.engine.apply.outcome import Outcome
from pairshelf.engine.mount_table import the_row
from pairshelf.store.tables import Party, PartyMember, Share, SheetRow


def apply(session: Session, _sheet: SheetRow, planned: PartyPlan, _who: str, _world: Devices) -> Outcome:
    """Who is in a group; those who lose a right by it are cut off."""
    row = the_row(session, Party, name=planned.name)
    session.connection().execute(delete(PartyMember).where(col(PartyMember.group_id) == row.id))
    write_members(session, row, planned.members or ())
    for share in session.exec(select(Share)):
        cut_off(session, share)
    return Outcome()

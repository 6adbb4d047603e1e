"""A person or a group."""

from __future__ import annotations

from sqlmodel import Session

from pairshelf.core.changes.access.sharing import PartyPlan
from pairshelf.core.domain.device import Devices
from pairshelf.engine.apply.access.people_rows import write_members
from pairshelf.engine.apply.outcome import Outcome
from pairshelf.store.tables import Party, SheetRow


# -- people and shares -----------------------------------------------------------------------------
def apply(session: Session, _sheet: SheetRow, planned: PartyPlan, _who: str, _world: Devices) -> Outcome:
    """A person or a group."""
    row = Party(name=planned.name, kind="person" if planned.members is None else "group")
    session.add(row)
    session.flush()
    write_members(session, row, planned.members or ())
    return Outcome()

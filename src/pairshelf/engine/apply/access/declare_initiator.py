"""A name that can be let in."""

from __future__ import annotations

from sqlmodel import Session

from pairshelf.core.changes.access.declare_initiator import InitiatorPlan
from pairshelf.core.domain.device import Devices
from pairshelf.engine.apply.outcome import Outcome
from pairshelf.engine.mount_table import the_row
from pairshelf.store.tables import Host, Initiator, SheetRow


def apply(session: Session, _sheet: SheetRow, planned: InitiatorPlan, _who: str, _world: Devices) -> Outcome:
    """A name that can be let in."""
    host = the_row(session, Host, name=planned.host) if planned.host else None
    session.add(Initiator(iqn=planned.iqn, host_id=host.id if host else None))
    return Outcome()

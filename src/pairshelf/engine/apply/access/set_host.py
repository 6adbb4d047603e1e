"""What a host is on the network."""

from __future__ import annotations

from sqlmodel import Session

from pairshelf.core.changes.access.set_host import HostPlan
from pairshelf.core.domain.device import Devices
from pairshelf.engine.apply.outcome import Outcome
from pairshelf.engine.mount_table import the_row
from pairshelf.store.tables import Host, SheetRow


# -- hosts and block targets -----------------------------------------------------------------------
def apply(session: Session, _sheet: SheetRow, planned: HostPlan, _who: str, _world: Devices) -> Outcome:
    """A host's addresses and names."""
    row = the_row(session, Host, name=planned.host.name)
    for name in ("letters", "address", "storage_address", "iqn", "link"):
        setattr(row, name, getattr(planned.host, name))
    return Outcome()

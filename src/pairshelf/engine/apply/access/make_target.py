"""A target with its disks."""

from __future__ import annotations

from sqlmodel import Session

from pairshelf.core.changes.access.serving_disks import TargetPlan
from pairshelf.core.domain.device import Devices
from pairshelf.engine.apply.access.target_rows import write_target
from pairshelf.engine.apply.outcome import Outcome
from pairshelf.engine.apply.volumes import make_volumes
from pairshelf.engine.mount_table import the_row
from pairshelf.store.tables import Host, Initiator, SheetRow, Target


def apply(session: Session, sheet: SheetRow, planned: TargetPlan, who: str, world: Devices) -> Outcome:
    """A target with its disks and initiators; a volume and names that come with it first."""
    target = planned.target
    if planned.makes is not None:
        make_volumes.apply(session, sheet, planned.makes, who, world)
    for iqn, name in planned.declares:
        session.add(Initiator(iqn=iqn, host_id=the_row(session, Host, name=name).id))
    session.flush()
    host = the_row(session, Host, name=target.host)
    row = Target(iqn=target.iqn, host_id=host.id, shared=target.shared)
    session.add(row)
    session.flush()
    return write_target(session, row, planned)

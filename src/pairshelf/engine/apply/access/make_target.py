"""A target with its disks."""

from __future__ import annotations

from sqlmodel import Session

from pairshelf.core.changes.access.serving_disks import TargetPlan
from pairshelf.core.domain.device import Devices
from pairshelf.engine.apply.access.target_rows import write_target
from pairshelf.engine.apply.outcome import Outcome
from pairshelf.engine.mount_table import the_row
from pairshelf.store.tables import Host, SheetRow, Target


def apply(session: Session, _sheet: SheetRow, planned: TargetPlan, _who: str, _world: Devices) -> Outcome:
    """A target with its disks and initiators."""
    target = planned.target
    host = the_row(session, Host, name=target.host)
    row = Target(iqn=target.iqn, host_id=host.id, shared=target.shared)
    session.add(row)
    session.flush()
    return write_target(session, row, planned)

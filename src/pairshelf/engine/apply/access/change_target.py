"""Other disks or initiators of a target."""

from __future__ import annotations

from sqlmodel import Session

from pairshelf.core.changes.access.serving_disks import TargetPlan
from pairshelf.core.domain.device import Devices
from pairshelf.engine.apply.access.target_rows import write_target
from pairshelf.engine.apply.outcome import Outcome
from pairshelf.engine.mount_table import the_row
from pairshelf.store.tables import SheetRow, Target


def apply(session: Session, _sheet: SheetRow, planned: TargetPlan, _who: str, _world: Devices) -> Outcome:
    """Other disks or initiators; who stays let in keeps the CHAP secret."""
    return write_target(session, the_row(session, Target, iqn=planned.target.iqn), planned)

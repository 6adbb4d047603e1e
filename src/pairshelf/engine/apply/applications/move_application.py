"""An application moved, there or back."""

from __future__ import annotations

from sqlmodel import Session

from pairshelf.core.changes.applications.application_plan import MovePlan
from pairshelf.core.domain.device import Devices
from pairshelf.core.domain.units import EXTENT
from pairshelf.engine.apply.applications.application_row import application_row
from pairshelf.engine.apply.outcome import Outcome
from pairshelf.engine.io.volume_io import files_on
from pairshelf.engine.jobs.starting import start
from pairshelf.engine.mount_table import find_volume
from pairshelf.store.tables import JobRow, SheetRow


def apply(session: Session, sheet: SheetRow, planned: MovePlan, who: str, world: Devices) -> Outcome:
    """Start moving an application, there or back."""
    app = application_row(session, planned)
    volume = find_volume(session, planned.volume.ref)
    amount = sum(e.size for e in world.hosts.entries(planned.application.host, app.folder) or ())
    back = sheet.kind == "undo-move"
    if back:
        amount = sum(f.extents for f in files_on(session, volume.number) if f.writer == app.name) * EXTENT
    job = start(session, JobRow(
        kind=sheet.kind, pool_id=volume.pool_id, volume_id=volume.id, sheet_id=sheet.id, asked_by=who,
        # Copied and compared, then three steps that take no time.
        total=2 * max(1, amount // EXTENT) + 3,
        seconds=max(1.0, planned.sheet.takes[0].hours * 3600 if planned.sheet.takes else 1.0),
        report={"application": app.id, "name": app.name, "host": planned.application.host, "way": planned.way,
                "from": app.folder, "to": planned.folder, "phase": "stop", "at": 0},
    ))  # fmt: skip
    return Outcome(job.pool_id)

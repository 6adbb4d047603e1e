"""Applications moved onto a volume and back, their folders, and keep rules."""

from __future__ import annotations

from sqlmodel import Session

from pairshelf.core.changes import applications as plans
from pairshelf.core.device import Devices
from pairshelf.core.errors import NotPossible
from pairshelf.core.folders import settings_text
from pairshelf.core.units import EXTENT
from pairshelf.engine.doing.access import find_volume
from pairshelf.engine.doing.outcome import Outcome
from pairshelf.engine.errands import on_host, send
from pairshelf.engine.files import keep
from pairshelf.engine.jobs import start
from pairshelf.engine.pools import open_pool
from pairshelf.engine.volumes import files_on
from pairshelf.store.tables import Application, JobRow, KeepRule, SheetRow


def move(session: Session, sheet: SheetRow, planned: plans.MovePlan, who: str, world: Devices) -> Outcome:
    """Start moving an application, there or back."""
    app = _application(session, planned)
    volume = find_volume(session, planned.volume.ref)
    amount = sum(e.size for e in world.hosts.entries(planned.application.host, app.folder) or ())
    back = sheet.kind == "undo-move"
    if back:
        amount = sum(f.extents for f in files_on(session, volume.id or 0) if f.writer == app.name) * EXTENT
    job = start(session, JobRow(
        kind=sheet.kind, pool_id=volume.pool_id, volume_id=volume.id, sheet_id=sheet.id, asked_by=who,
        # Copied and compared, then three steps that take no time.
        total=2 * max(1, amount // EXTENT) + 3,
        seconds=max(1.0, planned.sheet.takes[0].hours * 3600 if planned.sheet.takes else 1.0),
        report={"application": app.id, "name": app.name, "host": planned.application.host, "way": planned.way,
                "from": app.folder, "to": planned.folder, "phase": "stop", "at": 0},
    ))  # fmt: skip
    return Outcome(job.pool_id)


def _application(session: Session, planned: plans.MovePlan | plans.ApplicationPlan) -> Application:
    app = session.get(Application, planned.application.id, with_for_update=True)
    if app is None:
        raise NotPossible("The application is not there any more.", code="gone")
    return app


def set_folders(
    session: Session, sheet: SheetRow, planned: plans.ApplicationPlan, _who: str, _world: Devices
) -> Outcome:
    """Owner and folder scheme, in the books and in the application's own settings."""
    app = _application(session, planned)
    app.owner = planned.owner
    app.folder_scheme = sheet.request["folder_scheme"]
    app.files_per_folder = sheet.request["files_per_folder"]
    text = settings_text(app.name, app.owner, app.folder)
    text += f"folders = {app.folder_scheme}\nfiles in a folder = {app.files_per_folder}\n"
    host = planned.application.host
    send(session, "write-file", on_host(host), sheet.id, host=host, path=app.settings, text=text)
    return Outcome()


def set_keep_rule(session: Session, _sheet: SheetRow, planned: plans.KeepPlan, _who: str, _world: Devices) -> Outcome:
    """The rule, carried out at once."""
    volume = find_volume(session, planned.volume.ref)
    pool = open_pool(session, volume.pool_id)
    application = planned.application.id if planned.application else None
    session.merge(KeepRule(volume_id=volume.id or 0, above=planned.above or 1.0, application_id=application))
    session.flush()
    keep(session, pool, volume)
    return Outcome(volume.pool_id)


def end_keep_rule(session: Session, _sheet: SheetRow, planned: plans.KeepPlan, _who: str, _world: Devices) -> Outcome:
    """Nothing is deleted by itself any more."""
    volume = find_volume(session, planned.volume.ref)
    if rule := session.get(KeepRule, volume.id):
        session.delete(rule)
    return Outcome(volume.pool_id)

"""Owner and folder scheme of an application."""

from __future__ import annotations

from sqlmodel import Session

from pairshelf.core.changes.applications.application_plan import ApplicationPlan
from pairshelf.core.domain.device import Devices
from pairshelf.core.domain.folders import settings_text
from pairshelf.engine.apply.applications.application_row import application_row
from pairshelf.engine.apply.outcome import Outcome
from pairshelf.engine.errands import on_host, send
from pairshelf.store.tables import SheetRow


def apply(session: Session, sheet: SheetRow, planned: ApplicationPlan, _who: str, _world: Devices) -> Outcome:
    """Owner and folder scheme, in the books and in the application's own settings."""
    app = application_row(session, planned)
    app.owner = planned.owner
    app.folder_scheme = sheet.request["folder_scheme"]
    app.files_per_folder = sheet.request["files_per_folder"]
    text = settings_text(app.name, app.owner, app.folder)
    text += f"folders = {app.folder_scheme}\nfiles in a folder = {app.files_per_folder}\n"
    host = planned.application.host
    send(session, "write-file", on_host(host), sheet.id, host=host, path=app.settings, text=text)
    return Outcome()

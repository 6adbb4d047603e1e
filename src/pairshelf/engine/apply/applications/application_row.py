"""The application that a sheet is about."""

from __future__ import annotations

from sqlmodel import Session

from pairshelf.core.changes.applications.application_plan import ApplicationPlan, MovePlan
from pairshelf.core.errors import Gone
from pairshelf.store.tables import Application


def application_row(session: Session, planned: MovePlan | ApplicationPlan) -> Application:
    app = session.get(Application, planned.application.id, with_for_update=True)
    if app is None:
        raise Gone("application")
    return app

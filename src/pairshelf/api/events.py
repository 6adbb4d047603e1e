"""Who may hear of changes: the application lets them in, and the server (``served``) keeps the streams."""

from __future__ import annotations

from typing import Any

from flask import Blueprint, Response

from pairshelf.api.guard import needs, signed_in
from pairshelf.api.sessions import own_session
from pairshelf.core.domain.acts import Act

api = Blueprint("events", __name__, url_prefix="/api")


@api.get("/events")
@needs(Act.LOOK)
def events() -> Any:
    """Names of tables as they change, as server-sent events, for as long as the session lasts."""
    return Response(status=204, headers={"X-Admitted": f"{signed_in().id}:{own_session()}"})

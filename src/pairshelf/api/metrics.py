"""Figures for machines: the page they read, and the token they read it with."""

from __future__ import annotations

from typing import Any

from flask import Response, request
from flask_openapi3 import APIBlueprint, OpenAPI
from pydantic import BaseModel

from pairshelf.api import problems
from pairshelf.api.guard import needs, signed_in
from pairshelf.core.domain.acts import Act
from pairshelf.services import metrics
from pairshelf.store.database import transaction

api = APIBlueprint("metrics", __name__, url_prefix="/api")


class TokenOut(BaseModel):
    #: Shown this once; null where only is said whether there is one.
    token: str | None
    there: bool


@api.get("/metrics-token", responses={200: TokenOut})
@needs(Act.MANAGE_USERS)
def has_token() -> Any:
    """Whether there is a token for reading metrics."""
    with transaction() as session:
        return TokenOut(token=None, there=metrics.has_token(session))


@api.post("/metrics-token", responses={200: TokenOut})
@needs(Act.MANAGE_USERS)
def make_token() -> Any:
    """A new token for reading metrics, shown this once; the one before no longer opens."""
    with transaction() as session:
        return TokenOut(token=metrics.make_token(session, signed_in().name), there=True)


@api.post("/metrics-token/drop", responses={200: TokenOut})
@needs(Act.MANAGE_USERS)
def drop_token() -> Any:
    """Take the token for reading metrics away."""
    with transaction() as session:
        metrics.drop_token(session, signed_in().name)
    return TokenOut(token=None, there=False)


def serve(app: OpenAPI) -> None:
    """The page of figures, for who has the token."""

    @app.route("/metrics")
    @needs(None)
    def figures() -> Any:
        scheme, _, token = request.headers.get("Authorization", "").partition(" ")
        with transaction() as session:
            if scheme.lower() != "bearer" or not metrics.opens(session, token.strip()):
                refused = problems.answer(
                    401, "no-token", "Metrics are read with a token; an administrator makes one in Settings."
                )
                refused.headers["WWW-Authenticate"] = 'Bearer realm="metrics"'
                return refused
            return Response(metrics.metrics(session), content_type=metrics.MEDIA_TYPE)

"""Errors as problem details (RFC 9457): a code, a sentence, the field, and the facts the sentence is made of."""

from __future__ import annotations

import errno
from collections.abc import Mapping
from typing import Any

import structlog
from flask import Flask, Response
from flask_wtf.csrf import CSRFError
from pydantic import BaseModel, ValidationError
from sqlalchemy.exc import DataError, IntegrityError, OperationalError, TimeoutError
from werkzeug.exceptions import HTTPException, MethodNotAllowed

from pairshelf.core.errors import Denied, Fact, NotFound, NotNow, NotPossible, NotSignedIn, PairShelfError
from pairshelf.store.database import is_full

_logger = structlog.get_logger()


#: The media type of problem details.
PROBLEM_TYPE = "application/problem+json"


class Problem(BaseModel):
    """What went wrong (RFC 9457)."""

    type: str = "about:blank"
    title: str
    status: int
    code: str
    field: str | None = None
    #: The values the sentence is made of.
    facts: dict[str, str | int | float | None] = {}


#: What the constraints of the database stand for, said to the one who came second.
CONFLICTS = {
    "pool_place_drive_id_key": "One of these drives was given to another pool a moment ago. Nothing was done.",
    "pool_name_key": "A pool of this name was made a moment ago. Nothing was done.",
    "one_volume_a_mount_point": "The host mounts another volume there already. Nothing was done.",
    "one_drive_a_bay": "Another drive was put into one of these bays a moment ago. Nothing was stored.",
    "drive_serial_key": "A drive with one of these serials was added a moment ago. Nothing was stored.",
    "one_comparison_of_a_name": "There is a comparison of this name already; choose another name.",
    "one_open_job_of_a_kind": "This work is under way already.",
    "app_user_name_key": "There is a user of this name already.",
}


#: What the framework refuses by itself, said in our words.
_HTTP = {
    400: ("bad-request", "This is no request that can be understood."),
    404: ("not-found", "This address is not known."),
    405: ("no-such-method", "This address is not for that."),
    413: ("too-large", "What was sent is larger than is taken here."),
    414: ("address-too-long", "This address is longer than is taken here."),
    415: ("wrong-type", "What was sent is not of a kind that is taken here."),
}


def status_of(error: PairShelfError) -> int:
    """What each sort of error is answered with."""
    if isinstance(error, Denied):
        return 401 if isinstance(error, NotSignedIn) else 429 if isinstance(error, NotNow) else 403
    if isinstance(error, NotFound):
        # In the address or in the name of what is wanted; a wrong word in a form is the form's.
        return 404 if error.field is None else 400
    return 409 if isinstance(error, NotPossible) else 400


def answer(
    status: int, code: str, title: str, field: str | None = None, facts: Mapping[str, Fact] | None = None
) -> Response:
    """A problem as a response."""
    problem = Problem(title=title, status=status, code=code, field=field, facts=dict(facts or {}))
    return Response(problem.model_dump_json(), status, content_type=PROBLEM_TYPE)


def refuse_invalid(error: ValidationError) -> Response:
    """A request that does not have the right shape."""
    first = error.errors()[0]
    field = ".".join(str(p) for p in first["loc"]) or None
    return answer(422, "invalid-request", f"{field or 'The request'}: {first['msg']}.", field)


def register(app: Flask) -> None:
    """Answer every error as a problem, never as a page."""

    @app.errorhandler(PairShelfError)
    def _ours(error: PairShelfError) -> Response:
        response = answer(status_of(error), error.code, error.message, error.field, error.facts)
        if isinstance(error, NotNow) and error.retry_after is not None:
            response.headers["Retry-After"] = str(error.retry_after)
        return response

    @app.errorhandler(CSRFError)
    def _forged(error: CSRFError) -> Response:
        return answer(403, "stale-page", "This page has been open too long; reload it and try again.")

    @app.errorhandler(IntegrityError)
    def _conflict(error: IntegrityError) -> Response:
        name = getattr(getattr(error.orig, "diag", None), "constraint_name", None)
        sentence = CONFLICTS.get(
            name or "", "Something else was changed at the same moment. Nothing was done; try again."
        )
        return answer(409, "changed-meanwhile", sentence)

    @app.errorhandler(DataError)
    def _unkeepable(error: DataError) -> Response:
        _logger.warning("unkeepable", error=str(error.orig))
        return answer(
            400,
            "unkeepable",
            "A value is none that can be kept: a number far too large, or a character that is none. Nothing was changed.",
        )

    @app.errorhandler(RecursionError)
    def _too_deep(error: RecursionError) -> Response:
        return answer(400, "too-deep", "What was sent is nested far too deeply. Nothing was changed.")

    @app.errorhandler(UnicodeError)
    def _no_text(error: UnicodeError) -> Response:
        return answer(400, "unkeepable", "There is a character in it that is none; type it anew. Nothing was changed.")

    @app.errorhandler(OSError)
    def _files(error: OSError) -> Any:
        if is_full(error):
            return _full()
        if error.errno == errno.ENAMETOOLONG:
            return answer(400, "path-too-long", "A name in it is longer than can be kept. Nothing was changed.")
        return _unforeseen(error)

    def _full() -> Response:
        sentence = "The disk beneath is full. Nothing was changed; make room and try again."
        return answer(503, "disk-full", sentence)

    @app.errorhandler(OperationalError)
    @app.errorhandler(TimeoutError)
    def _no_database(error: Exception) -> Response:
        if is_full(error):
            return _full()
        _logger.warning("database", error=str(error).split("\n")[0])
        return answer(
            503,
            "no-database",
            "The database does not answer. Nothing was changed; it is tried again by itself.",
        )

    @app.errorhandler(HTTPException)
    def _http(error: HTTPException) -> Response:
        status = error.code or 500
        code, said = _HTTP.get(status, ("http", error.description or "This cannot be answered."))
        response = answer(status, code, said)
        if isinstance(error, MethodNotAllowed):
            response.headers["Allow"] = ", ".join(sorted(error.valid_methods or ()))
        return response

    @app.errorhandler(Exception)
    def _unforeseen(error: Exception) -> Any:
        _logger.exception("unforeseen")
        return answer(
            500,
            "unforeseen",
            "Something went wrong that was not foreseen. Nothing was changed; the server's log says more.",
        )

"""The Flask application: the API under /api, the web part everywhere else."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from flask import Response, request, send_from_directory
from flask_openapi3 import Info, OpenAPI
from flask_wtf.csrf import CSRFProtect
from pydantic import BaseModel
from werkzeug.middleware.proxy_fix import ProxyFix

from pairshelf import __version__
from pairshelf.api import (
    access,
    backups,
    compare,
    comparisons,
    deciding,
    disposal,
    docs,
    draining,
    events,
    finding,
    found,
    growing,
    histories,
    jobs,
    kinds,
    loads,
    messages,
    metrics,
    partitions,
    planned,
    plans,
    pools,
    problems,
    readings,
    sessions,
    sheets,
    shelves,
    shelving,
    stand_ins,
    today,
    trouble,
    use,
)
from pairshelf.api.description import Described
from pairshelf.api.guard import MOST_BODY, ask_first, needs
from pairshelf.api.hosts import refuse_strangers
from pairshelf.engine.own_log import quiet_log
from pairshelf.engine.signs import WATCHER, WORKER, away
from pairshelf.services.accounts import secret_key
from pairshelf.store.database import transaction
from pairshelf.store.settings import settings

DIST = Path(__file__).resolve().parents[3] / "web" / "dist"

_RESOURCES = (
    sessions, shelves, shelving, stand_ins, compare, deciding, comparisons, sheets, pools, backups, jobs, today, access, use, partitions, plans, kinds, finding, growing, disposal, draining, found, histories, metrics, trouble, readings, planned, messages, loads,
)  # fmt: skip
_HEADERS = {
    "Content-Security-Policy": "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; "
    "frame-ancestors 'none'; base-uri 'none'; form-action 'self'",
    "X-Content-Type-Options": "nosniff",
    "Referrer-Policy": "same-origin",
}


class HealthOut(BaseModel):
    ok: bool
    #: Whether a worker has been heard of lately.
    worker: bool
    #: Whether who keeps watch has been heard of lately.
    watcher: bool


class TokenInHeader(CSRFProtect):  # type: ignore[misc]
    """The token of the page comes in a header alone: no form is read to find it."""

    def _get_csrf_token(self) -> str | None:
        token: str | None = request.headers.get("X-CSRFToken")
        return token


def create_app(secret: str | None = None) -> OpenAPI:
    """The application; without a secret it can describe itself, and serve nobody."""
    app = Described(
        __name__, info=Info(title="Pair Shelf", version=__version__), doc_ui=False, static_folder=None,
        validation_error_callback=problems.refuse_invalid, validation_error_model=problems.Problem,
    )  # fmt: skip
    app.config.update(
        SECRET_KEY=secret or "describes-only", SESSION_COOKIE_HTTPONLY=True, SESSION_COOKIE_SAMESITE="Lax",
        SESSION_COOKIE_SECURE=settings().secure_cookies, SESSION_COOKIE_NAME=sessions.cookie_of(secret, "session"), DEVICE_COOKIE=sessions.cookie_of(secret, "device"),
        MAX_CONTENT_LENGTH=MOST_BODY, WTF_CSRF_TIME_LIMIT=None, WTF_CSRF_SSL_STRICT=False,
    )  # fmt: skip
    # Before anybody is looked up, or anything is answered.
    app.before_request(refuse_strangers)
    ask_first(app)
    TokenInHeader(app)
    sessions.manager.init_app(app)
    problems.register(app)
    for resource in _RESOURCES:
        app.register_api(resource.api)
    app.register_api(sheets.drawing_up())
    app.register_api(compare.exporting())
    app.register_blueprint(events.api)
    metrics.serve(app)
    planned.serve(app)
    _serve_web(app)
    if settings().proxies:
        app.wsgi_app = ProxyFix(app.wsgi_app, x_for=settings().proxies, x_proto=settings().proxies)  # type: ignore[method-assign]

    @app.before_request
    def _of_a_number() -> Response | None:
        """Nothing has a number that the tables cannot hold."""
        if any(isinstance(v, int) and v >= 2**31 for v in (request.view_args or {}).values()):
            return problems.answer(404, "not-found", "There is nothing of this number.")
        return None

    app.after_request(sessions.remember)

    @app.after_request
    def _headers(response: Response) -> Response:
        for name, value in _HEADERS.items():
            response.headers.setdefault(name, value)
        if not response.headers.get("Cache-Control"):
            response.headers["Cache-Control"] = "no-store"
        return response

    return app


def _serve_web(app: OpenAPI) -> None:
    built = _built()

    @app.get("/api/health", responses={200: HealthOut})
    @needs(None)
    def health() -> Any:
        """Whether the server and its database answer."""
        with transaction() as session:
            missing = away(session)
            return HealthOut(ok=True, worker=WORKER not in missing, watcher=WATCHER not in missing)

    @app.route("/api/openapi.json")
    @needs(None)
    def description() -> Any:
        return app.api_doc

    @app.route("/api/docs")
    @needs(None)
    def explained() -> Any:
        return Response(docs.page(app.api_doc), content_type="text/html; charset=utf-8")

    @app.route("/", defaults={"path": ""})
    @app.route("/<path:path>")
    @needs(None)
    def page(path: str) -> Any:
        if path.startswith("api/"):
            return problems.answer(404, "not-found", "This address is not known.")
        if path in built:
            kept = "public, max-age=31536000, immutable" if path.startswith("assets/") else "public, max-age=3600"
            response = send_from_directory(DIST, path)
            response.headers["Cache-Control"] = kept
            return response
        # Whatever else is asked for is an address of the web part, which knows its pages itself.
        response = send_from_directory(DIST, "index.html")
        response.headers["Cache-Control"] = "no-cache"
        return response


def _built() -> frozenset[str]:
    """The files of the built web part, by their paths: nothing else is ever handed out."""
    files = (f for f in DIST.rglob("*") if f.is_file() and f.name != "index.html")
    paths = (str(f.relative_to(DIST)) for f in files)
    return frozenset(p for p in paths if not any(part.startswith(".") for part in p.split("/")))


def served() -> OpenAPI:
    """The application as the web server runs it."""
    quiet_log()
    return create_app(secret_key())

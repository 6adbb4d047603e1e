"""What the processes of a story begin with: all imported, and the application described. Only its secret is its own.

Importing and describing takes longer than most stories; a process that is forked from this has both behind it.
"""

from __future__ import annotations

import uvicorn.lifespan.on
import uvicorn.loops.auto
import uvicorn.protocols.http.h11_impl  # noqa: F401
from flask_openapi3 import OpenAPI
from sqlalchemy.orm import configure_mappers

from pairshelf.api import app, serve, served  # noqa: F401
from pairshelf.launch import watcher, worker  # noqa: F401

configure_mappers()
_DESCRIBED = app.create_app("of no house")


def ready(secret: str | None = None) -> OpenAPI:
    """The application, in place of one made anew."""
    _DESCRIBED.config["SECRET_KEY"] = secret
    return _DESCRIBED

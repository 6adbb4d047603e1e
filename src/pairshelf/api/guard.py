"""Who is asking, and whether they may. Every route says which act it is; the default is no."""

from __future__ import annotations

import json
from collections.abc import Callable
from functools import wraps
from typing import Any, Literal

from flask import Flask, Response, g, request
from flask_login import current_user
from pydantic import BaseModel

from pairshelf.api import shared_answers
from pairshelf.api.turns import heavy_turn
from pairshelf.core.domain.acts import Act, why_not
from pairshelf.core.errors import BadInput, Denied, NotSignedIn
from pairshelf.formats.tables import MOST_BYTES
from pairshelf.store.tables import User


def signed_in() -> User:
    """The user of this request; Denied when there is none."""
    if not current_user.is_authenticated:
        raise NotSignedIn("Sign in first.")
    user: User = current_user.row
    return user


def require(act: Act) -> None:
    """Denied unless the user may do the act."""
    if reason := why_not(signed_in().role, act):
        raise Denied(reason)


def needs(
    act: Act | None, *, shared: Literal["no", "with-all", "with-oneself"] = "no", heavy: bool = False
) -> Callable[[Callable[..., Any]], Callable[..., Any]]:
    """Guard a route by an act; None is for the few that work without signing in.

    ``shared``: its answer comes from the database alone and changes nothing, so that others who may ask the same
    get the same, or, ``with-oneself``, the same user on another screen. ``heavy``: it may take seconds of reckoning,
    and takes its turn.
    """

    def guard(view: Callable[..., Any]) -> Callable[..., Any]:
        @wraps(view)
        def guarded(*args: Any, **kwargs: Any) -> Any:
            if act is not None:
                require(act)
            g.guarded = True
            if shared != "no":
                question = (current_user.row.id if shared == "with-oneself" else None, request.full_path)
                body = shared_answers.shared(
                    question, current_user.snapshot, lambda: view(*args, **kwargs).model_dump_json().encode()
                )
                return Response(body, content_type="application/json")
            if heavy:
                with heavy_turn(signed_in().number):
                    return as_response(view(*args, **kwargs))
            return as_response(view(*args, **kwargs))

        guarded.act = act  # type: ignore[attr-defined]
        return guarded

    return guard


#: Bytes of a request's body: of most routes, and of those that take a file.
USUAL_BODY, MOST_BODY = 1024 * 1024, MOST_BYTES + 64 * 1024
#: A box of simulated drives.
BOX_BODY = 2 * 2**30
_TAKE_FILES = frozenset({"/api/inventory", "/api/inventory/preview", "/api/prices"})


def most_body(path: str) -> int:
    """The longest body that a route takes, bytes."""
    if path == "/api/stand-in/unpack":
        return BOX_BODY
    return MOST_BODY if path in _TAKE_FILES else USUAL_BODY


def act_of(view: Any) -> Act | Literal["unguarded"] | None:
    """The act that a route was guarded by."""
    while not hasattr(view, "act"):
        if not hasattr(view, "__wrapped__"):
            return "unguarded"
        view = view.__wrapped__
    act: Act | None = view.act
    return act


def ask_first(app: Flask) -> None:
    """Who asks comes before what is asked: nothing of a body is looked at for somebody who may not ask."""

    @app.before_request
    def _who_asks() -> None:
        request.max_content_length = most_body(request.path)
        if request.endpoint is None:
            return
        act = act_of(app.view_functions[request.endpoint])
        if act is not None and act != "unguarded":
            require(act)

    @app.before_request
    def _sound() -> None:
        """A body that is text, and can be kept as text."""
        if request.mimetype != "application/json" or b"\\u" not in (raw := request.get_data()):
            return
        try:
            sent = json.loads(raw)
        except ValueError:
            return  # No JSON at all; whoever reads it says so.
        try:
            json.dumps(sent, ensure_ascii=False).encode()
        except UnicodeEncodeError:
            raise BadInput("There is a character in it that is none; type it anew.", code="unkeepable") from None


def as_response(value: Any) -> Any:
    """Models become JSON; what is a response already stays as it is."""
    if isinstance(value, BaseModel):
        return Response(value.model_dump_json(), content_type="application/json")
    return value

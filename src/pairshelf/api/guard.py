"""Who is asking, and whether they may. Every route says which act it is; the default is no."""

from __future__ import annotations

from collections.abc import Callable
from functools import wraps
from typing import Any, Literal

from flask import Response, g, request
from flask_login import current_user
from pydantic import BaseModel

from pairshelf.api import shared_answers
from pairshelf.api.problems import Denied
from pairshelf.core.acts import Act, allowed
from pairshelf.store.tables import User


def signed_in() -> User:
    """The user of this request; Denied when there is none."""
    if not current_user.is_authenticated:
        raise Denied("Sign in first.", code="signed-out", status=401)
    user: User = current_user.row
    return user


def require(act: Act) -> None:
    """Denied unless the user may do the act."""
    user = signed_in()
    if not allowed(user.role, act):
        raise Denied(f"As {_article(user.role)} you cannot do this; ask an administrator.")


def _article(role: str) -> str:
    return f"an {role}" if role[0] in "aeiou" else f"a {role}"


def needs(
    act: Act | None, *, shared: Literal["no", "with-all", "with-oneself"] = "no"
) -> Callable[[Callable[..., Any]], Callable[..., Any]]:
    """Guard a route by an act; None is for the few that work without signing in.

    ``shared``: its answer comes from the database alone and changes nothing, so that others who may ask the same
    get the same, or, ``with-oneself``, the same user on another screen.
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
            return as_response(view(*args, **kwargs))

        guarded.act = act  # type: ignore[attr-defined]
        return guarded

    return guard


def as_response(value: Any) -> Any:
    """Models become JSON; what is a response already stays as it is."""
    if isinstance(value, BaseModel):
        return Response(value.model_dump_json(), content_type="application/json")
    return value

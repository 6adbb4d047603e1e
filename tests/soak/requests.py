"""Requests made from the API's own description (schemathesis), and every answer held against it.

A finding is an answer of 500 and above, a status, a header or a media type that is not described, a body that is
not of its schema, a method that should not be there, or a route that answers somebody who has not signed in.
"""

from __future__ import annotations

import random
import time
from collections import Counter
from collections.abc import Callable
from typing import Any

import schemathesis
from hypothesis import HealthCheck, Phase, given, seed, settings
from hypothesis import strategies as st
from schemathesis.checks import not_a_server_error
from schemathesis.specs.openapi.checks import (
    content_type_conformance,
    response_headers_conformance,
    response_schema_conformance,
    status_code_conformance,
    unsupported_method,
)

CHECKS = [
    not_a_server_error, status_code_conformance, content_type_conformance, response_headers_conformance,
    response_schema_conformance, unsupported_method,
]  # fmt: skip
#: They end the session that asks, or change who may ask: last, in this order, each with a session of its own.
LAST = (
    "/api/sign-out", "/api/setup", "/api/sign-in", "/api/password", "/api/sessions/{session_id}", "/api/users/{user_id}",
)  # fmt: skip

#: A fresh session, whatever was changed about who asks: the token that changes carry, and the cookie.
SignIn = Callable[[], tuple[str, str]]


def findings(
    app: Any, sign_in: SignIn, *, examples: int, seconds: float, number: int
) -> tuple[Counter[int], list[str]]:
    """The statuses that were answered, and what was found, a text each."""
    schema = schemathesis.openapi.from_wsgi("/api/openapi.json", app)
    operations = [found.ok() for found in schema.get_all_operations()]
    random.Random(number).shuffle(operations)
    operations.sort(key=lambda o: LAST.index(o.path) if o.path in LAST else -1)
    found: list[str] = []
    answered: Counter[int] = Counter()
    until = time.monotonic() + seconds
    signed_in = sign_in()
    for index, operation in enumerate(operations):
        if operation.path in LAST:
            signed_in = sign_in()
        share = time.monotonic() + max(0.3, (until - time.monotonic()) / (len(operations) - index))

        def ask(case: Any, until: float, signed_in: tuple[str, str]) -> None:
            if time.monotonic() > until:
                return
            # Cookies and headers of its own would hide who asks.
            case.cookies = {}
            case.headers = {k: v for k, v in (case.headers or {}).items() if k.lower() not in ("x-csrftoken", "cookie")}
            token, cookie = signed_in
            answer = case.call_and_validate(
                headers={"X-CSRFToken": token}, cookies={app.config["SESSION_COOKIE_NAME"]: cookie}, checks=CHECKS
            )
            answered[answer.status_code] += 1

        asking = given(case=operation.as_strategy(), until=st.just(share), signed_in=st.just(signed_in))(ask)
        asking = settings(max_examples=examples, deadline=None, database=None, phases=[Phase.explicit, Phase.generate],
                          suppress_health_check=list(HealthCheck))(asking)  # fmt: skip
        try:
            seed(number)(asking)()
        except BaseException as error:
            if isinstance(error, KeyboardInterrupt):
                raise
            found.append(f"{operation.method.upper()} {operation.path}: {error}")
        _without_signing_in(operation, found)
    return answered, found


def _without_signing_in(operation: Any, found: list[str]) -> None:
    """What is described as needing a session answers nobody without one, whatever is sent."""
    if not operation.definition.raw.get("security"):
        return
    needs = operation.definition.raw["security"][0]
    answer = operation.Case(path_parameters=dict.fromkeys(_names(operation.path), 1)).call()
    if "session" in needs and answer.status_code != 401:
        found.append(f"{operation.method.upper()} {operation.path}: {answer.status_code} without signing in")


def _names(path: str) -> list[str]:
    return [part.strip("{}") for part in path.split("/") if part.startswith("{")]

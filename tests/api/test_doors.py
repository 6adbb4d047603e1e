"""Who may do what, signing in and its limits, and errors that say where and what."""

from __future__ import annotations

import io
import re
from collections.abc import Callable
from typing import Any

import pytest

from pairshelf.api.app import served
from pairshelf.core.domain.acts import Act, Role, allowed
from pairshelf.services.accounts import setup_link
from tests.api.conftest import PASSWORD, Person

#: The only routes that work without signing in.
OPEN = {
    "/api/me", "/api/disposal/keys", "/api/disposal/verify", "/api/sign-in", "/api/sign-out", "/api/setup", "/api/health", "/api/openapi.json", "/api/docs", "/metrics", "/calendar/<token>.ics", "/", "/<path:path>",
}  # fmt: skip


def _routes(app: Any) -> list[tuple[str, str, Any]]:
    found = []
    for rule in app.url_map.iter_rules():
        act = getattr(app.view_functions[rule.endpoint], "act", "none")
        inner = app.view_functions[rule.endpoint]
        while act == "none" and hasattr(inner, "__wrapped__"):
            inner = inner.__wrapped__
            act = getattr(inner, "act", "none")
        for method in rule.methods - {"HEAD", "OPTIONS"}:
            found.append((method, rule.rule, act))
    return found


def test_every_route_is_guarded(app: Any) -> None:
    for method, rule, act in _routes(app):
        if rule.startswith("/openapi"):
            continue
        assert act != "none", f"{method} {rule} says no act"
        assert (act is None) == (rule in OPEN), f"{method} {rule}"


@pytest.mark.parametrize("role", list(Role))
def test_every_act_is_allowed_to_the_roles_that_need_it_and_no_other(
    role: Role, app: Any, person: Callable[[str], Person], stranger: Person
) -> None:
    who = person({"administrator": "ida", "operator": "osric", "viewer": "wren"}[role.value])
    for method, rule, act in _routes(app):
        if act in (None, "none") or rule == "/api/events":
            continue
        path = re.sub(r"<int:\w+>", "999999", rule)
        assert stranger.post(path, method=method).status_code == 401, (method, rule)
        answer = who.post(path, method=method)
        if allowed(role, act):
            assert answer.status_code not in (401, 403), (method, rule)
        else:
            assert answer.status_code in (403, 422), (method, rule)


def test_a_viewer_cannot_build_even_with_a_right_request(person: Callable[[str], Person]) -> None:
    body = {"name": "p", "scheme": "single", "drives": [1], "volume": "v"}
    for name in ("wren", "osric"):
        answer = person(name).post("/api/sheets/build-pool", body)
        assert (answer.status_code, answer.get_json()["code"]) == (403, "denied")
    assert not allowed(Role.OPERATOR, Act.BUILD_POOLS)


def test_a_change_without_the_token_is_refused(app: Any, person: Callable[[str], Person]) -> None:
    who = person("ida")
    answer = who.client.post("/api/users", json={"name": "x", "password": PASSWORD, "role": "viewer"})
    assert (answer.status_code, answer.get_json()["code"]) == (403, "stale-page")


def test_cookies_and_headers(stranger: Person) -> None:
    answer = stranger.sign_in("ida")
    cookie = answer.headers["Set-Cookie"]
    assert "HttpOnly" in cookie and "SameSite=Lax" in cookie
    assert "frame-ancestors 'none'" in answer.headers["Content-Security-Policy"]


def test_a_changed_password_ends_other_sessions(person: Callable[[str], Person]) -> None:
    here, there = person("ida"), person("ida")
    assert here.post("/api/password", {"old": "wrong", "new": "another good one"}).status_code == 403
    assert here.post("/api/password", {"old": PASSWORD, "new": "short"}).status_code == 400
    assert here.post("/api/password", {"old": PASSWORD, "new": "another good one"}).status_code == 200
    assert here.get("/api/today").status_code == 200
    assert there.get("/api/today").status_code == 401


def test_one_administrator_remains(person: Callable[[str], Person]) -> None:
    who = person("ida")
    users = {u["name"]: u["id"] for u in who.get("/api/users").get_json()["users"]}
    assert who.post(f"/api/users/{users['maud']}", {"active": False}, "PATCH").status_code == 200
    answer = who.post(f"/api/users/{users['ida']}", {"role": "viewer"}, "PATCH")
    assert (answer.status_code, answer.get_json()["code"]) == (409, "last-administrator")
    assert who.get("/api/users").status_code == 200


def test_the_setup_link_works_once(db: str) -> None:
    client = Person(served().test_client())
    old, link = setup_link(), setup_link()
    assert old and link
    body = {"name": "Ida", "password": PASSWORD}
    assert client.get("/api/me").get_json()["setup_needed"]
    assert client.post("/api/setup", {**body, "token": "guess"}).status_code == 403
    assert client.post("/api/setup", {**body, "token": old.split("=")[1]}).status_code == 403
    assert client.post("/api/setup", {**body, "password": "short", "token": link.split("=")[1]}).status_code == 400
    answer = client.post("/api/setup", {**body, "token": link.split("=")[1]})
    assert answer.get_json()["user"]["role"] == "administrator"
    assert client.post("/api/setup", {**body, "name": "eve", "token": link.split("=")[1]}).status_code == 403
    assert setup_link() is None


@pytest.mark.parametrize(
    ("path", "body", "status", "field"),
    [
        ("/api/compare", {"shorthand": "8x4T"}, 400, "drives"),
        ("/api/compare", {"shorthand": "8x4TB", "need": "lots"}, 400, "need"),
        ("/api/compare", {"shorthand": "8x4TB", "survive": -1}, 400, "survive"),
        ("/api/compare", {"shorthand": 5}, 422, "shorthand"),
        ("/api/compare", {"drive_ids": [12345]}, 400, "drives"),
        ("/api/compare/cut", {"shorthand": "5x4TB", "scheme": "parity-2", "sets": 2}, 400, "sets"),
        ("/api/sheets/build-pool", {"name": "a b", "scheme": "single", "drives": [1], "volume": "v"}, 400, "name"),
        ("/api/sheets/build-pool", {"name": "a", "scheme": "single", "drives": [], "volume": "v"}, 422, "drives"),
        ("/api/stand-in/drives", {"shelf_id": 99, "bay": 1}, 400, "shelf_id"),
        ("/api/users", {"name": "x", "password": "short", "role": "viewer"}, 400, "password"),
        ("/api/users", {"name": "x", "password": PASSWORD, "role": "king"}, 400, "role"),
    ],
)
def test_errors_name_the_field(
    path: str, body: dict[str, Any], status: int, field: str, person: Callable[[str], Person]
) -> None:
    answer = person("ida").post(path, body)
    problem = answer.get_json()
    assert answer.content_type == "application/problem+json"
    assert (answer.status_code, problem["field"]) == (status, field)
    assert problem["title"].endswith(".")


def test_what_is_not_there_is_said(person: Callable[[str], Person]) -> None:
    who = person("ida")
    for path in ("/api/drives/77", "/api/pools/77", "/api/sheets/77", "/api/nothing"):
        assert who.get(path).status_code == 404
        assert who.get(path).content_type == "application/problem+json"
    assert who.get("/api/drives?shelves=1;drop").status_code == 400
    assert who.get("/api/logbook?limit=100000").status_code == 422


@pytest.mark.parametrize(
    "path",
    ["/..%2f..%2f..%2f..%2fetc%2fpasswd", "/../../etc/passwd", "/.built", "/assets/../.built", "/%2e%2e/%2e%2e/pyproject.toml",
     "/assets%2f..%2f..%2f..%2fpyproject.toml", "/etc/passwd", "//etc/passwd", "/nothing-at-all", "/index.html/..", "/\0"],
)  # fmt: skip
def test_only_built_files_are_handed_out(path: str, stranger: Person) -> None:
    """Whatever else is asked for is the page itself, whether there is a file of that name or not."""
    page = stranger.get("/").data
    answer = stranger.client.get(path, headers={"Host": "localhost"})
    assert answer.status_code == 200
    assert answer.data == page


def test_what_was_built_is_handed_out(stranger: Person) -> None:
    page = stranger.get("/").get_data(as_text=True)
    script = re.search(r'src="(/assets/[^"]+\.js)"', page)
    assert script
    answer = stranger.get(script[1])
    assert answer.status_code == 200 and "javascript" in answer.content_type
    assert "immutable" in answer.headers["Cache-Control"]


def test_a_stranger_learns_nothing_of_what_could_be_sent(stranger: Person) -> None:
    """Not the fields, not whether it was JSON, not how much is taken."""
    for body in (b"", b"{", b'{"no": "such field"}', b"[" * 3000, b"x" * 900_000):
        answer = stranger.client.post("/api/sheets/build-pool", data=body, content_type="application/json")
        assert (answer.status_code, answer.get_json()["code"]) == (401, "signed-out")
    upload = stranger.client.post("/api/inventory", data={"file": (io.BytesIO(b"x" * 2**20), "x.csv")})
    assert upload.status_code == 401

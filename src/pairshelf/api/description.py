"""The description of the API (OpenAPI 3.1), completed: who may ask, and every answer there can be with its problem."""

from __future__ import annotations

import re
from functools import cache
from typing import Any

from flask_openapi3 import APIBlueprint, OpenAPI
from pydantic import BaseModel

from pairshelf.api.guard import act_of
from pairshelf.api.problems import PROBLEM_TYPE
from pairshelf.formats.exports import FORMATS

#: What can go wrong with any request, by status: a name for the answer and when it is given.
PROBLEMS: dict[int, tuple[str, str]] = {
    400: ("BadInput", "What was sent cannot be understood or is out of range; the field says where."),
    401: ("SignedOut", "Nobody is signed in."),
    403: ("Denied", "This person may not do this, or the token of the page is missing or old."),
    404: ("NotFound", "There is no such thing."),
    405: ("NoSuchMethod", "The address is known, and not for this method."),
    408: ("TooSlow", "What was sent did not arrive in time."),
    409: ("NotPossible", "Understood, but as things stand it is not possible; nothing was done."),
    413: ("TooLarge", "What was sent is larger than the route takes."),
    414: ("AddressTooLong", "The address is longer than the server takes."),
    422: ("NotOfThisShape", "A field is missing, or is not of the kind described here; the field says which."),
    429: (
        "TooMany",
        "Too many attempts, questions or streams; Retry-After says when to try again, where that is known.",
    ),
    503: ("NotNow", "The database does not answer, or the disk is full; nothing was changed."),
}
#: Of routes that answer with a file: the media type.
FILES = {
    "/api/stand-in/box": "application/zip",
    "/api/history.csv": "text/csv",
    "/api/inventory.csv": "text/csv",
    "/api/inventory/template.csv": "text/csv",
    "/api/compare/export/svg": "image/svg+xml",
    "/api/drives/{drive_id}/partitions/image": "application/x-tar",
    "/api/disposal/certificates/{number}/file": "application/json",
    "/api/disposal/certificates/{number}/card": "application/pdf",
    "/api/disposal/certificates/{number}/label": "application/pdf",
    "/api/disposal/lots/{sheet_id}/cards": "application/pdf",
    "/api/disposal/lots/{sheet_id}/file": "application/json",
}
_SCHEMES: dict[str, dict[str, Any]] = {
    "session": {"type": "apiKey", "in": "cookie", "name": "pairshelf-installation-session",
                "description": "The cookie that signing in gives (POST /api/sign-in)."},
    "token": {"type": "apiKey", "in": "header", "name": "X-CSRFToken",
              "description": "What changes something carries it; it comes with GET /api/me and with signing in."},
}  # fmt: skip


class Often(BaseModel):
    """What many routes answer with: its shape is worked out once, not for each of them."""

    @classmethod
    def model_json_schema(cls, *args: Any, **given: Any) -> dict[str, Any]:
        """See pydantic."""
        return _shape(super().model_json_schema, args, tuple(given.items()))


@cache
def _shape(work_out: Any, args: tuple[Any, ...], given: tuple[tuple[str, Any], ...]) -> dict[str, Any]:
    shape: dict[str, Any] = work_out(*args, **dict(given))
    return shape


class Described(OpenAPI):
    """The application with its whole description."""

    def register_api(self, api: APIBlueprint, **options: Any) -> None:
        """Two that share a path each say some of its methods: the description has all of them."""
        before = dict(self.paths)
        super().register_api(api, **options)
        for path, item in before.items():
            new = self.paths[path]
            for name in item.model_fields_set if new is not item else ():
                if getattr(new, name) is None:
                    setattr(new, name, getattr(item, name))

    @property
    def api_doc(self) -> dict[str, Any]:
        """The description as JSON."""
        if not self.spec_json:
            self.generate_spec_json()  # type: ignore[no-untyped-call]
            _complete(self.spec_json, self._acts())
        doc: dict[str, Any] = self.spec_json
        return doc

    def _acts(self) -> dict[tuple[str, str], Any]:
        found = {}
        for rule in self.url_map.iter_rules():
            path = re.sub(r"<(?:\w+:)?(\w+)>", r"{\1}", rule.rule)
            for method in rule.methods or ():
                found[path, method.lower()] = act_of(self.view_functions[rule.endpoint])
        return found


def _complete(doc: dict[str, Any], acts: dict[tuple[str, str], Any]) -> None:
    components = doc["components"]
    components["securitySchemes"] = _SCHEMES
    problem = {PROBLEM_TYPE: {"schema": {"$ref": "#/components/schemas/Problem"}}}
    components["responses"] = {name: {"description": said, "content": problem} for name, said in PROBLEMS.values()}
    files = FILES | {f"/api/compare/export/{one.id}": one.media_type for one in FORMATS.values()}
    for path, ways in doc["paths"].items():
        for method, operation in ways.items():
            act = acts[path, method]
            changes = method != "get"
            needed: dict[str, list[str]] = {"session": []} if act is not None else {}
            operation["security"] = [needed | ({"token": []} if changes else {})] if needed or changes else []
            responses = operation["responses"]
            if path in files:
                schema = {} if files[path] == "application/json" else {"type": "string"}
                responses["200"] = {"description": "The file.", "content": {files[path]: {"schema": schema}}}
            for status, (name, _) in PROBLEMS.items():
                responses[str(status)] = {"$ref": f"#/components/responses/{name}"}
            operation["responses"] = dict(sorted(responses.items()))

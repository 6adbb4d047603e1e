"""The API explained on a page of its own, made from its description."""

from __future__ import annotations

from html import escape
from typing import Any

_STYLE = """
body { font: 16px/1.5 system-ui, sans-serif; background: #f6f1e6; color: #26221b; margin: 2rem auto; max-width: 60rem;
  padding: 0 1rem; }
h1, h2 { letter-spacing: -0.01em; } h2 { border-bottom: 1px solid #d9cfba; margin-top: 2rem; }
section { margin: 0.9rem 0; } code { font-size: 0.95em; } .way { color: #1f4a3d; font-weight: 650; }
dl { display: grid; grid-template-columns: minmax(9rem, auto) 1fr; gap: 0.1rem 1rem; margin: 0.3rem 0 0 1.2rem; }
dt { font-family: ui-monospace, monospace; font-size: 0.88em; } dd { margin: 0; color: #625a4b; } p { margin: 0.2rem 0; }
@media (prefers-color-scheme: dark) { body { background: #221c15; color: #ede3d0; } .way { color: #93c4ab; }
  dd { color: #b8ab94; } a { color: #93c4ab; } h2 { border-color: #463b2d; } }
"""
_INTRODUCTION = """<p>Everything the screens do goes through these addresses. The machine-readable description is
<a href="/api/openapi.json">/api/openapi.json</a> (OpenAPI 3.1).</p>
<p>Sign in with <code>POST /api/sign-in</code>; the answer carries a token that every change sends back as the header
<code>X-CSRFToken</code>. Errors are problem details (RFC 9457): <code>title</code> says what is wrong and what to do,
<code>code</code> is for programs, <code>field</code> names the field. Sizes are bytes where they are numbers; where a
size is typed it is text such as <code>2 TB</code>.</p>
<p>Nothing is changed without a change sheet: <code>POST /api/sheets/KIND</code> draws one up and does nothing,
<code>POST /api/sheets/NUMBER/approve</code> does what it says, or nothing. The console has the same:
<code>pairshelf plan KIND</code>, <code>pairshelf approve NUMBER</code>, <code>pairshelf jobs</code>.</p>"""


def page(described: dict[str, Any]) -> str:
    """The page."""
    schemas = described.get("components", {}).get("schemas", {})
    groups: dict[str, list[str]] = {}
    for path, methods in described["paths"].items():
        for method, one in methods.items():
            groups.setdefault(_group(path), []).append(_operation(path, method, one, schemas))
    body = "".join(f"<h2>{escape(name)}</h2>{''.join(own)}" for name, own in sorted(groups.items()))
    return (
        '<!doctype html><html lang="en"><head><meta charset="utf-8"><title>Pair Shelf: the API</title>'
        f'<meta name="viewport" content="width=device-width"><style>{_STYLE}</style></head>'
        f"<body><h1>Pair Shelf: the API</h1>{_INTRODUCTION}{body}</body></html>"
    )


def _group(path: str) -> str:
    parts = path.removeprefix("/api/").split("/")
    return parts[0].replace("-", " ")


def _operation(path: str, method: str, one: dict[str, Any], schemas: dict[str, Any]) -> str:
    about = one.get("description") or one.get("summary") or ""
    rows = [
        (p["name"], p.get("schema", {}), p.get("required", False), p.get("description", ""))
        for p in one.get("parameters", ())
    ]
    for content in one.get("requestBody", {}).get("content", {}).values():
        model = schemas.get(content.get("schema", {}).get("$ref", "").rsplit("/", 1)[-1], {})
        rows += [
            (name, schema, name in model.get("required", ()), schema.get("description", ""))
            for name, schema in model.get("properties", {}).items()
        ]
    fields = "".join(
        f"<dt>{escape(n)}</dt><dd>{escape(_kind(s))}{', required' if required else _default(s)} {escape(d)}</dd>"
        for n, s, required, d in rows
    )
    return (
        f'<section><p><span class="way">{method.upper()}</span> <code>{escape(path)}</code></p><p>{escape(about)}</p>'
        f"{f'<dl>{fields}</dl>' if fields else ''}</section>"
    )


def _kind(schema: dict[str, Any]) -> str:
    if "$ref" in schema:
        return str(schema["$ref"].rsplit("/", 1)[-1])
    if "anyOf" in schema:
        return " or ".join(_kind(s) for s in schema["anyOf"])
    if schema.get("type") == "array":
        return f"list of {_kind(schema.get('items', {}))}"
    if "enum" in schema:
        return " | ".join(map(str, schema["enum"]))
    return str(schema.get("type", "anything"))


def _default(schema: dict[str, Any]) -> str:
    default = schema.get("default")
    return f", otherwise {default!r}" if default not in (None, "", []) else ""

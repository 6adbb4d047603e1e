"""By which names the application may be reached. Any other in the Host header of a request is refused: a page that makes a
name of its own lead here would otherwise act as the person who opened it (DNS rebinding)."""

from __future__ import annotations

import socket
import time
from functools import cache
from urllib.parse import urlsplit

from flask import Response, request

from pairshelf.api import problems
from pairshelf.services.telling import address_of_house
from pairshelf.store.database import transaction
from pairshelf.store.settings import settings

_LOOPBACK = frozenset({"localhost", "127.0.0.1", "::1"})
#: Seconds for which the names are kept.
_KEPT = 5.0
_known: dict[str, tuple[float, frozenset[str]]] = {}


def name_in(header: str) -> str:
    """The name in a Host header, without its port, in lower case; empty for what is none."""
    try:
        parts = urlsplit(f"//{header}")
        return (parts.hostname or "").rstrip(".") if parts.netloc == header and not parts.username else ""
    except ValueError:
        return ""


@cache
def _own_names() -> frozenset[str]:
    """What this machine calls itself. Asked once: where names are looked up over the network, that can take seconds."""
    return frozenset({socket.gethostname(), socket.getfqdn()})


def _started_with() -> frozenset[str]:
    given = settings()
    names = {given.host, *given.allowed_hosts.split(",")}
    own = _own_names() if given.host in ("0.0.0.0", "::") else frozenset()  # noqa: S104 - asked, not bound
    return frozenset({n.strip().lower() for n in (*names, *own)} | {urlsplit(given.address).hostname or ""})


def allowed() -> frozenset[str]:
    """Names by which this installation may be reached: this machine's loopback, what it was started with, and the address
    that an administrator has set."""
    at, names = _known.get(settings().database_url, (0.0, frozenset()))
    if time.monotonic() - at > _KEPT:
        with transaction() as session:
            told = urlsplit(address_of_house(session)).hostname or ""
        names = (_LOOPBACK | _started_with() | {told}) - {""}
        _known[settings().database_url] = time.monotonic(), names
    return names


def refuse_strangers() -> Response | None:
    """Answer a request that was meant for another name."""
    name = name_in(request.headers.get("Host", ""))
    if name in _LOOPBACK or name in allowed():
        return None
    return problems.answer(
        400, "unknown-host", "This installation is not known by that name. If it is to be, start it with PAIRSHELF_ALLOWED_HOSTS, or "
        "have an administrator set its address in the settings.",
    )  # fmt: skip

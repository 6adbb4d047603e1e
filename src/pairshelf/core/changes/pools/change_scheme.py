"""Another scheme for a pool that stands."""

from __future__ import annotations

from pairshelf.core.changes.later import AWAY, Later, Opening
from pairshelf.core.domain.file_systems import FileSystem
from pairshelf.core.layouts import SCHEMES, Layout


def scheme_changes(scheme: str) -> tuple[str, ...]:
    """Schemes that a pool of this one can become."""
    found = SCHEMES.get(scheme)
    return found.becomes if found else ()


def door(layout: Layout, _file_system: FileSystem) -> tuple[Opening, str]:
    """Whether a layout leaves it open."""
    to = scheme_changes(layout.scheme.id)
    if not to:
        return Opening.CLOSED, f"It can become nothing else. {AWAY}"
    if layout.scheme.id == "copies-2" and len(layout.sets) > 1:
        return Opening.AT_A_COST, "To copies-3, with one more drive a set; to parity only as one set."
    if layout.scheme.id == "stepped-1":
        return Opening.AT_A_COST, "To stepped-2: it shrinks by one drive, or one is added."
    return Opening.AT_A_COST, f"To {' or '.join(to)}, with a drive a set added or freed; everything is restriped."


LATER = Later("change-scheme", "change the scheme", door)

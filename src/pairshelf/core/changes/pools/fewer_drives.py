"""Fewer drives."""

from __future__ import annotations

from pairshelf.core.changes.later import AWAY, Later, Opening
from pairshelf.core.domain.file_systems import FileSystem
from pairshelf.core.layouts import Layout


def door(layout: Layout, _file_system: FileSystem) -> tuple[Opening, str]:
    """Whether a layout leaves it open."""
    return Opening.CLOSED, f"A pool of this family never gives drives back. {AWAY}"


LATER = Later("fewer-drives", "do with fewer drives", door)

"""All drives of a pool elsewhere."""

from __future__ import annotations

from pairshelf.core.changes.later import Later, Opening
from pairshelf.core.domain.file_systems import FileSystem
from pairshelf.core.layouts import Layout


def door(layout: Layout, _file_system: FileSystem) -> tuple[Opening, str]:
    """Whether a layout leaves it open."""
    return Opening.OPEN, "The drives are recognised by their labels on another shelf or host."


LATER = Later("move", "move all drives elsewhere", door)

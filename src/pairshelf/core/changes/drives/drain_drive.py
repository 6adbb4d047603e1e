"""A drive that works, taken out for another."""

from __future__ import annotations

from pairshelf.core.changes.later import Later, Opening
from pairshelf.core.domain.file_systems import FileSystem
from pairshelf.core.layouts import Layout


def door(layout: Layout, _file_system: FileSystem) -> tuple[Opening, str]:
    """Whether a layout leaves it open."""
    if layout.scheme.survives == 0:
        return Opening.AT_A_COST, "By copying a drive onto another; nothing can be left out."
    return Opening.AT_A_COST, "A member leaves only when another drive takes its place."


LATER = Later("drain", "take a drive out for another", door)

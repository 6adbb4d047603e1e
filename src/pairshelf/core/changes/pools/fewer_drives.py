"""Fewer drives."""

from __future__ import annotations

from pairshelf.core.changes.later import AWAY, Later, Opening
from pairshelf.core.domain.file_systems import FileSystem
from pairshelf.core.layouts import Layout


def door(layout: Layout, _file_system: FileSystem) -> tuple[Opening, str]:
    """Whether a layout leaves it open (see ``take_out``)."""
    if layout.own_protection:
        return Opening.OPEN, "A drive leaves once it has been drained, where the others have room."
    if layout.scheme.one_after_another and len(layout.sets) == 1 and len(layout.members) > 1:
        return Opening.AT_A_COST, "A drive leaves once nothing stands on it."
    if len(layout.sets) > 1:
        return (
            Opening.AT_A_COST,
            "A set that is added later leaves once nothing stands on it; no other drive does.",
        )
    return Opening.CLOSED, f"None of its drives can be done without. {AWAY}"


LATER = Later("fewer-drives", "do with fewer drives", door)

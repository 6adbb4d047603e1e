"""How much is worked on in one go."""

from __future__ import annotations

import numpy as np

from pairshelf.core.layouts.spread import SpreadLayout
from pairshelf.engine.spread_io import Stretch

#: Rows of a set worked on at once: what they hold stays near the processor.
ROWS = 256


#: Extents written or read in one go, about.
PIECE = 8192


def next_on(layout: SpreadLayout, slot: int, after: tuple[int, int], most: int) -> list[tuple[Stretch, int]]:
    """Stripes with an extent on a slot, from (volume, stripe) on: each as a stretch of one, with its column."""
    found: list[tuple[Stretch, int]] = []
    for placed in sorted(layout.volumes, key=lambda v: v.volume):
        first = after[1] if placed.volume == after[0] else 0
        if placed.volume < after[0]:
            continue
        rows, columns = np.nonzero(placed.slots[first:] == slot)
        for row, column in zip((rows + first).tolist(), columns.tolist(), strict=True):
            found.append((Stretch(placed, row, 1), column))
            if len(found) == most:
                return found
    return found


#: Files made while those before them are written.
MADE_AHEAD = 256

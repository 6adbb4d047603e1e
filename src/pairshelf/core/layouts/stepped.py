"""Stepped layouts: drives of different sizes, cut into bands where the sizes step (rules: layouts)."""

from __future__ import annotations

from collections.abc import Sequence

from pairshelf.core.drives import Drive
from pairshelf.core.layouts.model import Band, Code, Group, Scheme


def cut(scheme: Scheme, sets: Sequence[Sequence[Drive]]) -> tuple[Band, ...]:
    """One band for each distinct size, over the drives that reach it.

    A band over n drives holds n - p extents of data a row; over p + 1 drives that is p + 1 copies;
    over p or fewer it cannot be protected and is left over.
    """
    (drives,) = sets
    parity = scheme.survives
    bands: list[Band] = []
    start = 0
    for height in sorted({d.extents for d in drives}):
        reaching = tuple(i for i, d in enumerate(drives) if d.extents >= height)
        if len(reaching) <= parity:
            break
        code = Code.COPIES if len(reaching) == parity + 1 else Code.PARITY
        bands.append(Band(start, height - start, (Group(reaching, code, parity),)))
        start = height
    return tuple(bands)

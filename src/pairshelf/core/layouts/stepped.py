"""Stepped layouts: drives of different sizes, cut into bands where the sizes step (rules: layouts)."""

from __future__ import annotations

from collections.abc import Sequence

from pairshelf.core.domain.drives import Drive
from pairshelf.core.layouts.model import Band, Code, Division, Family, Group, Layout, Scheme


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


def lay(scheme: Scheme, drives: Sequence[Drive], division: Division) -> Layout:
    """All drives but the spares as one set, cut where their sizes step."""
    members = tuple(drives[: len(drives) - division.spares])
    return Layout(scheme, (members,), tuple(drives[len(members) :]), cut(scheme, (members,)))


SCHEMES = (
    Scheme("stepped-1", "", Family.STEPPED, Code.PARITY, 1, 2, None,
           "Drives of different sizes, cut where the sizes step; survives any one drive failure.", lay, becomes=("stepped-2",)),
    Scheme("stepped-2", "", Family.STEPPED, Code.PARITY, 2, 3, None,
           "Drives of different sizes, cut where the sizes step; survives any two drive failures.", lay, becomes=("stepped-1",)),
)  # fmt: skip

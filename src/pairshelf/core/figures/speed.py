"""How fast a layout reads and writes (rules: speed), in bytes per second."""

from __future__ import annotations

from pairshelf.core.layouts import Layout
from pairshelf.core.layouts.model import Code


def data_drives(layout: Layout) -> float:
    """Drives' worth of data: copies N/c, parity N - m x p, otherwise N."""
    members = len(layout.members)
    if layout.scheme.code is Code.COPIES:
        return members / layout.width
    return members - len(layout.sets) * layout.scheme.survives


def sequential_write(layout: Layout) -> float:
    """d x r; one drive after the other gives r."""
    rate = min(d.mean_rate for d in layout.members)
    return rate if layout.scheme.id in ("span", "single") else data_drives(layout) * rate


def sequential_read(layout: Layout) -> float:
    """Copies N x r, parity d x r; one drive after the other gives r."""
    rate = min(d.mean_rate for d in layout.members)
    if layout.scheme.id in ("span", "single"):
        return rate
    return (len(layout.members) if layout.scheme.code is Code.COPIES else data_drives(layout)) * rate

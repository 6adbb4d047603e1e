"""How a layout grows: every way that a later change makes it larger (rules: changes)."""

from __future__ import annotations

from pairshelf.core.changes.doors import LATER
from pairshelf.core.changes.growing import Growing, Path
from pairshelf.core.figures.assess import Assessment, assess
from pairshelf.core.layouts import Layout


def growth(
    found: Assessment, *, larger: int | None = None, steps: int = 3, file_system: str = "ext4",
    reserved_share: float | None = None,
) -> tuple[Path, ...]:  # fmt: skip
    """Every way for this layout to grow. ``larger`` is the size of the drives that would come, bytes
    (default: twice the smallest member); ``steps`` how many drives or sets are added."""
    size = larger if larger is not None else 2 * min(d.size for d in found.layout.members)

    def after(layout: Layout) -> Assessment:
        return assess(layout, found.given, file_system=file_system, reserved_share=reserved_share)

    growing = Growing(found, after, file_system, steps, size)
    return tuple(change.after(growing) for change in LATER if change.after is not None)

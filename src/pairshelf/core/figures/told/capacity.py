"""Where the bytes go."""

from __future__ import annotations

from pairshelf.core.domain.units import format_size
from pairshelf.core.figures.assess import Assessment
from pairshelf.core.figures.figure import OWN, LayoutFigure, Worked


def _account(a: Assessment, file_system: str) -> Worked:
    lines = [(name, size) for name, size in a.space.as_dict().items() if size and name not in ("raw", "usable")]
    taken = " ".join(f"− {format_size(size)} {name.replace('_', ' ')}" for name, size in lines)
    return Worked(
        "raw − spares − labels − uneven − redundancy − repair − reserve − file system = usable",
        f"{format_size(a.space.raw)} raw {taken} = {format_size(a.space.usable)} ({a.space.usable:,} bytes)",
        f"Exact to the byte, but for the {file_system} line: an estimate from its published layout on disk."
        if file_system != "none" else OWN,
    )  # fmt: skip


USABLE = LayoutFigure(
    "usable", "Usable capacity", "Usable capacity", "usable",
    "What is left for files after everything: redundancy, spares, labels, uneven sizes, and the file system itself.",
    "bytes", True, lambda a: a.space.usable, _account, weighed=True, listed=True,
)  # fmt: skip
EFFICIENCY = LayoutFigure(
    "efficiency", "Usable capacity", "Usable of the raw capacity", "of raw",
    "What is left for files of all that the drives hold, spares included: usable / raw.",
    "share", True, lambda a: a.space.usable / a.space.raw, _account, listed=True,
)  # fmt: skip
REDUNDANCY = LayoutFigure(
    "redundancy", "Usable capacity", "Redundancy", "redundancy",
    "Copies or parity: what makes it possible to compute what was on a failed drive.",
    "bytes", False, lambda a: a.space.redundancy, _account,
)  # fmt: skip
UNEVEN = LayoutFigure(
    "uneven", "Usable capacity", "Uneven", "uneven",
    "Capacity that no set or band can use, because the drives differ in size.",
    "bytes", False, lambda a: a.space.uneven, _account,
)  # fmt: skip

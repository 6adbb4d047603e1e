"""The space account: where every raw byte goes (rules: units and the sizes of things)."""

from __future__ import annotations

from dataclasses import dataclass

from pairshelf.core.domain.file_systems import DEFAULT_FILE_SYSTEM, overhead
from pairshelf.core.domain.units import EXTENT
from pairshelf.core.errors import BadInput
from pairshelf.core.layouts.model import Layout


@dataclass(frozen=True, slots=True)
class SpaceAccount:
    """Bytes; ``usable`` is ``raw`` less all the others, exactly."""

    #: Every byte of every chosen drive.
    raw: int
    #: Every byte of the drives held back to take over.
    spares: int
    #: Partition table, labels, and what is left of the last whole extent.
    labels: int
    #: Extents no set or band can use because sizes differ.
    uneven: int
    #: Copies or parity.
    redundancy: int
    #: Kept free for self-repair (spread pools).
    repair: int
    #: Kept free in the pool.
    reserve: int
    #: Structures and reserved share of one volume that takes all.
    file_system: int
    #: Left for files.
    usable: int

    def as_dict(self) -> dict[str, int]:
        """The account line by line, in its order."""
        return {name: getattr(self, name) for name in self.__slots__}


def space_account(
    layout: Layout,
    *,
    file_system: str = DEFAULT_FILE_SYSTEM,
    reserved_share: float | None = None,
    reserve: int = 0,
) -> SpaceAccount:
    """The account of a layout whose whole capacity is one volume with this file system."""
    members = layout.members
    redundancy = sum(band.rows * (band.width - band.data) for band in layout.bands) * EXTENT
    raw, extents = layout.same("raw", lambda: (sum(d.size for d in members), sum(d.extents for d in members)))
    uneven = (extents - sum(layout.used_extents)) * EXTENT
    data = layout.data_extents * EXTENT
    if not 0 <= reserve <= data:
        raise BadInput("The pool's reserve must be between zero and its capacity.", field="reserve")
    held = overhead(file_system, data - reserve, reserved_share)
    spares = sum(d.size for d in layout.spares)
    return SpaceAccount(
        raw=raw + spares,
        spares=spares,
        labels=raw - extents * EXTENT,
        uneven=uneven,
        redundancy=redundancy,
        repair=0,
        reserve=reserve,
        file_system=held,
        usable=data - reserve - held,
    )

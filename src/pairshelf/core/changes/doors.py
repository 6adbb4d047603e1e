"""Doors: which later changes a layout leaves open, which cost something, which it closes. The changes themselves say."""

from __future__ import annotations

from pairshelf.core.changes.drives import drain, replace_drive
from pairshelf.core.changes.later import Door, Later
from pairshelf.core.changes.pools import add_drive, add_set, change_scheme, fewer_drives, larger_drives, move_pool
from pairshelf.core.changes.volumes import resize_volume
from pairshelf.core.domain.file_systems import DEFAULT_FILE_SYSTEM, file_system_of
from pairshelf.core.layouts import Layout
from pairshelf.core.layouts.model import Code

#: In the order they are shown.
LATER: tuple[Later, ...] = (
    add_drive.LATER,
    add_set.LATER,
    larger_drives.LATER,
    change_scheme.LATER,
    replace_drive.LATER,
    drain.LATER,
    fewer_drives.LATER,
    move_pool.LATER,
    resize_volume.LATER,
)


def doors(layout: Layout, file_system: str = DEFAULT_FILE_SYSTEM) -> tuple[Door, ...]:
    """Every change that may come, for this layout."""
    system = file_system_of(file_system)
    return tuple(Door(change.id, change.name, *change.door(layout, system)) for change in LATER)


def fixed(layout: Layout) -> tuple[str, ...]:
    """What is decided at building and stays."""
    known = ["The extent size of 1 GiB.", "Whether it is encrypted."]
    if layout.own_protection:
        known.insert(0, f"The failure domain: {layout.domain}.")
    elif layout.scheme.id == "stripe":
        known.insert(0, "The number of drives, and that there is no redundancy.")
    elif layout.scheme.code is Code.COPIES:
        known.insert(0, f"The number of drives in a set ({layout.width}), unless the pool is converted.")
    return tuple(known)

"""Doors: which later changes a layout leaves open, which cost something, which it closes (rules: changes)."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from enum import StrEnum

from pairshelf.core.file_systems import DEFAULT_FILE_SYSTEM, file_system_of
from pairshelf.core.layouts import Layout
from pairshelf.core.layouts.model import Code, Family


class Opening(StrEnum):
    """Whether a later change can be made."""

    #: Whenever wanted.
    OPEN = "open"
    #: It can, but takes drives, hours or space.
    AT_A_COST = "at-a-cost"
    #: Never; the data would have to be copied away and back.
    CLOSED = "closed"


@dataclass(frozen=True, slots=True)
class Door:
    """One later change, whether it can be made, and why."""

    change: str
    name: str
    opening: Opening
    why: str


_AWAY = "Copy the data away, build anew, copy back."


def doors(layout: Layout, file_system: str = DEFAULT_FILE_SYSTEM) -> tuple[Door, ...]:
    """Every change of the table of changes, for this layout."""
    found = [Door(change, name, *judge(layout)) for change, (name, judge) in _DOORS.items()]
    can = file_system_of(file_system)
    shrinks = {"ext4": (Opening.AT_A_COST, "ext4 shrinks unmounted, after a check, if the files fit."),
               "btrfs": (Opening.OPEN, "btrfs shrinks while mounted, if the files fit."),
               "ntfs": (Opening.AT_A_COST, "ntfs shrinks as far as files that cannot be moved allow."),
               "xfs": (Opening.CLOSED, f"xfs never shrinks. {_AWAY}"),
               "none": (Opening.CLOSED, "Without a file system nothing says what may be cut off.")}  # fmt: skip
    found.append(Door("shrink-volume", "make a volume smaller", *shrinks[can.id]))
    return tuple(found)


def fixed(layout: Layout) -> tuple[str, ...]:
    """What is decided at building and stays."""
    known = ["The extent size of 1 GiB.", "Whether it is encrypted."]
    if layout.scheme.id == "stripe":
        known.insert(0, "The number of drives, and that there is no redundancy.")
    elif layout.scheme.family is Family.SETS and len(layout.sets) > 1:
        known.insert(0, f"The number of drives in a set ({layout.width}), unless every set grows by one.")
    return tuple(known)


def _add_drive(layout: Layout) -> tuple[Opening, str]:
    scheme, sets, width = layout.scheme, len(layout.sets), layout.width
    if scheme.id == "span":
        return Opening.OPEN, "Its capacity is there at once."
    if scheme.id == "stripe":
        return Opening.CLOSED, f"A stripe cannot be widened. {_AWAY}"
    if scheme.id == "single":
        return Opening.AT_A_COST, "A second drive makes it copies-2: safer, not larger."
    if scheme.code is Code.COPIES:
        return Opening.CLOSED, f"Copies grow by whole sets of {width}; a single drive can only be a spare."
    if sets > 1:
        return Opening.AT_A_COST, f"One drive for each of the {sets} sets, {sets} at once; everything is restriped."
    return Opening.AT_A_COST, "Everything is restriped; the capacity comes when that ends."


def _add_set(layout: Layout) -> tuple[Opening, str]:
    if layout.scheme.family is Family.STEPPED:
        return Opening.CLOSED, "A stepped pool is one set; add single drives instead."
    if layout.scheme.survives == 0:
        return Opening.CLOSED, "Without redundancy there are no sets to add."
    return Opening.OPEN, f"{layout.width} drives alike; their capacity is there at once."


def _larger(layout: Layout) -> tuple[Opening, str]:
    scheme = layout.scheme
    if scheme.family is Family.STEPPED:
        p = scheme.survives
        return Opening.AT_A_COST, f"One by one, by copying; it grows after drive {p + 1} of a new size."
    if scheme.id == "span":
        return Opening.OPEN, "One by one, by copying; each brings its capacity at once."
    if scheme.id == "stripe":
        return Opening.CLOSED, f"A stripe stays as wide and as high as it is. {_AWAY}"
    if scheme.id == "single":
        return Opening.AT_A_COST, "Copy to the larger drive, then it is larger."
    return Opening.AT_A_COST, f"One by one, by copying; it grows when all {layout.width} of a set are larger."


_NEXT: dict[str, tuple[str, ...]] = {
    "single": ("copies-2",),
    "copies-2": ("copies-3", "parity-1", "parity-2"),
    "copies-3": ("copies-2",),
    "parity-1": ("parity-2", "parity-3"),
    "parity-2": ("parity-1", "parity-3"),
    "parity-3": ("parity-2", "parity-1"),
    "stepped-1": ("stepped-2",),
    "stepped-2": ("stepped-1",),
}


def scheme_changes(scheme: str) -> tuple[str, ...]:
    """Schemes that a pool of this one can become."""
    return _NEXT.get(scheme, ())


def _scheme(layout: Layout) -> tuple[Opening, str]:
    to = scheme_changes(layout.scheme.id)
    if not to:
        return Opening.CLOSED, f"It can become nothing else. {_AWAY}"
    if layout.scheme.id == "copies-2" and len(layout.sets) > 1:
        return Opening.AT_A_COST, "To copies-3, with one more drive a set; to parity only as one set."
    if layout.scheme.id == "stepped-1":
        return Opening.AT_A_COST, "To stepped-2: it shrinks by one drive, or one is added."
    return Opening.AT_A_COST, f"To {' or '.join(to)}, with a drive a set added or freed; everything is restriped."


def _drain(layout: Layout) -> tuple[Opening, str]:
    if layout.scheme.survives == 0:
        return Opening.AT_A_COST, "By copying a drive onto another; nothing can be left out."
    return Opening.AT_A_COST, "A member leaves only when another drive takes its place."


def _replace(layout: Layout) -> tuple[Opening, str]:
    if layout.scheme.survives == 0:
        return Opening.CLOSED, "A failed drive takes the data with it; only one that still reads can be copied."
    return Opening.OPEN, "Rebuilt from the others, while the data can be used."


def _move(layout: Layout) -> tuple[Opening, str]:
    return Opening.OPEN, "The drives are recognised by their labels on another shelf or host."


def _smaller(layout: Layout) -> tuple[Opening, str]:
    return Opening.CLOSED, f"A pool of this family never gives drives back. {_AWAY}"


_DOORS: dict[str, tuple[str, Callable[[Layout], tuple[Opening, str]]]] = {
    "add-drive": ("add one drive", _add_drive),
    "add-set": ("add a set", _add_set),
    "larger-drives": ("put in larger drives, one by one", _larger),
    "change-scheme": ("change the scheme", _scheme),
    "replace-failed": ("replace a failed drive", _replace),
    "drain": ("take a drive out for another", _drain),
    "fewer-drives": ("do with fewer drives", _smaller),
    "move": ("move all drives elsewhere", _move),
}

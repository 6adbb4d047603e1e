"""Changes that may come later: whether a layout leaves their doors open, and what comes of them (rules: changes)."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from enum import StrEnum

from pairshelf.core.changes.growing import Growing, Path
from pairshelf.core.domain.file_systems import FileSystem
from pairshelf.core.layouts import Layout


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


AWAY = "Copy the data away, build anew, copy back."


@dataclass(frozen=True, slots=True)
class Later:
    """A change as it is judged before there is anything to change; its module draws its sheet up, once it can be made."""

    id: str
    name: str
    #: Whether a layout, with a file system on its volumes, leaves it open, and why.
    door: Callable[[Layout, FileSystem], tuple[Opening, str]]
    #: What comes of it, step by step, where it makes a pool larger.
    after: Callable[[Growing], Path] | None = None

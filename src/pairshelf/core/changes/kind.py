"""What a kind of change is: its request, what its plan is made on, and the function that draws its sheet up."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Protocol

from pairshelf.core.changes.sheet import ChangeSheet
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.estate import Estate

#: Books that all shares, or all names on the storage network, stand in together: one change of them at a time.
PEOPLE, NETWORK = "people", "network"


class Planned(Protocol):
    """What every plan has."""

    @property
    def sheet(self) -> ChangeSheet: ...


@dataclass(frozen=True, slots=True)
class Context:
    """What a request names, as it was typed: looked at for its plan, and held while it is carried out.

    Empty names are nothing; names that are not there are left for the plan to refuse.
    """

    #: Pools by number, by name, and by what stands in them: volumes, shares, targets, applications.
    pool_ids: tuple[int, ...] = ()
    pools: tuple[str, ...] = ()
    volumes: tuple[str, ...] = ()
    shares: tuple[str, ...] = ()
    targets: tuple[str, ...] = ()
    #: Their hosts, and what lies in their folders, belong to it too.
    applications: tuple[str, ...] = ()
    drives: tuple[int, ...] = ()
    #: Every one of the drives is read beforehand.
    read_drives: bool = False
    #: The drives' pending partitions are wanted.
    partitions: bool = False
    hosts: tuple[str, ...] = ()
    #: (host, path) of folders that are looked into.
    folders: tuple[tuple[str, str], ...] = ()
    #: One change at a time of all that name one of these.
    alone: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class ChangeKind:
    """A kind of change."""

    id: str
    act: Act
    request: type[Any]
    context: Callable[[Any], Context]
    plan: Callable[[Estate, Any], Planned]

    @property
    def name(self) -> str:
        """What it is called."""
        return self.id.replace("-", " ")

    @property
    def about(self) -> str:
        """What it does, in a sentence."""
        return (self.request.__doc__ or "").split("\n")[0]

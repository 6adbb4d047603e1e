"""What a kind of change is: its request, what its plan is made on, and the function that draws its sheet up."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import MISSING, dataclass, fields
from typing import Any, Protocol, get_args, get_origin, get_type_hints

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
    #: The pools that the drives are in belong to it, too.
    pools_of_drives: bool = False
    #: Every one of the drives is read beforehand.
    read_drives: bool = False
    #: Pools that were taken apart, by number.
    former: tuple[int, ...] = ()
    #: Pools that drives say they belong to, by what they are known by; the drives that say so belong to it, too.
    found: tuple[str, ...] = ()
    #: The drives are asked what they report of themselves.
    identities: bool = False
    #: The drives' pending partitions are wanted.
    partitions: bool = False
    #: All drives of these shelves (by name, or site/name) and of these hosts' shelves, as if they were named.
    shelves: tuple[str, ...] = ()
    drives_of_hosts: tuple[str, ...] = ()
    #: All free drives are looked at, and none of them held: to choose from, for a request that names none.
    free_drives: bool = False
    #: The pools that volumes are being moved to belong to it, too.
    moving_with: bool = False
    #: Drains under way, by number, with their drives and pools.
    drains: tuple[int, ...] = ()
    hosts: tuple[str, ...] = ()
    #: (host, path) of folders that are looked into.
    folders: tuple[tuple[str, str], ...] = ()
    #: (volume, folder on it) of which it is looked up what lies in them.
    taken_in: tuple[tuple[str, str], ...] = ()
    #: One change at a time of all that name one of these.
    alone: tuple[str, ...] = ()


def together(contexts: Iterable[Context]) -> Context:
    """All that any of them names."""
    whole = list(contexts)

    def all_of(name: str) -> Any:
        values = [getattr(c, name) for c in whole]
        return (
            any(values) if isinstance(values[0], bool) else tuple(dict.fromkeys(v for found in values for v in found))
        )

    return Context(**{f.name: all_of(f.name) for f in fields(Context)})


@dataclass(frozen=True, slots=True)
class RequestField:
    """A field of a request, as every front asks for it."""

    name: str
    #: Of the value, or of each of several.
    hint: Any
    several: bool
    required: bool
    #: A list where there are several; nothing where it is required.
    default: Any


@dataclass(frozen=True, slots=True)
class ChangeKind:
    """A kind of change."""

    id: str
    act: Act
    request: type[Any]
    context: Callable[[Any], Context]
    plan: Callable[[Estate, Any], Planned]
    #: Who may approve, where that takes more than drawing up.
    approved_by: Act | None = None
    #: Whether the house may ask for two to approve it.
    in_pairs: bool = False
    #: The request with what was left to be chosen for it, when its sheet is drawn up; that is what is kept.
    choose: Callable[[Estate, Any], Any] | None = None

    @property
    def approving(self) -> Act:
        """The act of whoever approves it."""
        return self.approved_by or self.act

    @property
    def name(self) -> str:
        """What it is called."""
        return self.id.replace("-", " ")

    @property
    def fields(self) -> tuple[RequestField, ...]:
        """What its request asks for, in its order."""
        hints = get_type_hints(self.request)
        found = []
        for one in fields(self.request):
            several, required = get_origin(hints[one.name]) is tuple, one.default is MISSING
            hint = get_args(hints[one.name])[0] if several else hints[one.name]
            usual: Any = None if required else one.default
            default = list(usual) if several and not required else usual
            found.append(RequestField(one.name, hint, several, required, default))
        return tuple(found)

    @property
    def about(self) -> str:
        """What it does, in a sentence."""
        return (self.request.__doc__ or "").split("\n")[0]

"""What can be done to the things that a word finds: the acts of *Find and do*, each with what it applies to."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from urllib.parse import quote


@dataclass(frozen=True, slots=True)
class Thing:
    """Something that has a name: a pool, a volume, a drive, a person."""

    kind: str
    name: str
    link: str
    #: Of a pool: places whose drive is away or has failed, and whether it is locked; None: not encrypted.
    empty: int = 0
    locked: bool | None = None
    bare: bool = False


@dataclass(frozen=True, slots=True)
class Doing:
    """An act on things of one kind."""

    words: tuple[str, ...]
    kind: str
    #: With the thing's name in it.
    says: str
    #: Where it is done, with the thing's link and its name for an address.
    link: str
    when: Callable[[Thing], bool] = lambda thing: True


DOINGS: tuple[Doing, ...] = (
    Doing(("replace", "swap"), "pool", "Replace a drive of pool {name}", "{link}", lambda t: t.empty > 0),
    Doing(("expand", "grow", "larger", "capacity"), "pool", "Expand {name}", "{link}/grow"),
    Doing(("spare", "hot"), "pool", "Add a hot spare to pool {name}", "{link}"),
    Doing(("check", "scrub", "verify"), "pool", "Check pool {name}", "{link}"),
    Doing(("unlock",), "pool", "Unlock pool {name}", "{link}", lambda t: t.locked is True),
    Doing(("lock",), "pool", "Lock pool {name}", "{link}", lambda t: t.locked is False),
    Doing(("backup", "record"), "pool", "Record a backup of {name}", "{link}"),
    Doing(("make", "volume", "add"), "pool", "Make volumes in {name}", "/changes/draw/make-volumes?pool={at}"),
    Doing(("extend", "expand", "grow", "larger", "shrink", "smaller"), "volume", "Extend or shrink {name}", "/changes/draw/resize-volume?volume={at}"),
    Doing(("rename",), "volume", "Rename {name}", "/changes/draw/rename-volume?volume={at}"),
    Doing(("mount",), "volume", "Mount {name}", "/changes/draw/mount-volume?volume={at}", lambda t: not t.bare),
    Doing(("share",), "volume", "Share a folder of {name}", "/changes/draw/make-share?volume={at}", lambda t: not t.bare),
    Doing(("delete", "remove"), "volume", "Delete {name}", "/changes/draw/delete-volume?volume={at}"),
    Doing(("pull", "notice", "power", "impact"), "shelf", "Impact of shelf {name}, and is it safe to power off?", "/notice?kind=shelf&name={at}"),
    Doing(("pull", "notice", "power", "impact"), "host", "Impact of host {name}, and is it safe to power off?", "/notice?kind=host&name={at}"),
    Doing(("smart", "health", "lamp", "locate", "led"), "drive", "SMART health and locate LED of {name}", "{link}"),
    Doing(("partition",), "drive", "Partition drive {name}", "{link}"),
    Doing(("retire", "leave", "sell"), "drive", "Drive {name} leaves the house", "{link}"),
)  # fmt: skip

#: Letters from which a word may stand for an act.
_LEAST = 3


def acts_on(typed: str, things: Iterable[Thing]) -> list[tuple[str, str]]:
    """Acts whose word was typed, on the things whose names have the rest of it: sentence and link."""
    verb, _, rest = typed.strip().lower().partition(" ")
    if len(verb) < _LEAST:
        return []
    wanted = [d for d in DOINGS if any(word.startswith(verb) for word in d.words)]
    rest = rest.strip()
    return [
        (d.says.format(name=t.name), d.link.format(link=t.link, at=quote(t.name)))
        for d in wanted for t in things
        if t.kind == d.kind and d.when(t) and all(part in t.name.lower() for part in rest.split())
    ]  # fmt: skip


def matches(typed: str, things: Iterable[Thing]) -> list[Thing]:
    """Things whose names have every word that was typed; those that begin with it first."""
    words = typed.lower().split()
    found = [t for t in things if words and all(w in t.name.lower() for w in words)]
    return sorted(found, key=lambda t: (not t.name.lower().startswith(words[0]), t.name.lower()))

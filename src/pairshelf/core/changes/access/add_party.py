"""A person, or a group with its members."""

from __future__ import annotations

from dataclasses import dataclass

from pairshelf.core.changes.access.sharing import PartyPlan, read_members
from pairshelf.core.changes.kind import PEOPLE, ChangeKind, Context
from pairshelf.core.changes.sheet import simple_sheet
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.estate import Estate
from pairshelf.core.domain.names import check_name
from pairshelf.core.errors import NameTaken


@dataclass(frozen=True, slots=True)
class AddParty:
    """A person, or a group with its members."""

    name: str
    #: For a group: its members. Without any it is a person.
    members: tuple[str, ...] = ()


def plan(estate: Estate, request: AddParty) -> PartyPlan:
    """The sheet for a new person or group."""
    name = check_name(request.name, "group" if request.members else "person", field="name")
    if any(n.lower() == name.lower() for n, _ in estate.parties):
        raise NameTaken("person or group", name)
    members = read_members(estate, request.members) or None
    sheet = simple_sheet(
        "add-party", f"Add {'group' if members else 'person'} {name}",
        f"With {', '.join(members)}." if members else "Rights on shares can be given to them.",
        steps=("Write them into the books.",),
    )  # fmt: skip
    return PartyPlan(sheet, name, members)


def context(_request: AddParty) -> Context:
    """What the plan is made on, and what is held while it is carried out."""
    return Context(alone=(PEOPLE,))


KIND = ChangeKind("add-party", Act.GIVE_ACCESS, AddParty, context, plan)

"""Who is in a group."""

from __future__ import annotations

from dataclasses import dataclass

from pairshelf.core.changes.access.sharing import PartyPlan, read_members
from pairshelf.core.changes.kind import PEOPLE, ChangeKind, Context
from pairshelf.core.changes.sheet import BeforeAfter, Figure, simple_sheet
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.estate import Estate
from pairshelf.core.domain.words import listed
from pairshelf.core.errors import NotFound


@dataclass(frozen=True, slots=True)
class SetMembers:
    """Who is in a group."""

    group: str
    members: tuple[str, ...] = ()


def plan(estate: Estate, request: SetMembers) -> PartyPlan:
    """The sheet for who is in a group."""
    groups = {n.lower(): (n, m) for n, m in estate.parties if m is not None}
    if request.group.strip().lower() not in groups:
        raise NotFound("group", request.group, field="group")
    name, before = groups[request.group.strip().lower()]
    members = read_members(estate, request.members)
    gone = [p for p in before or () if p not in members]
    reached = sorted({s.name for s in estate.shares if any(p == name for p, _ in s.rights)})
    sheet = simple_sheet(
        "set-members", f"Members of group {name}", "They get the rights that the group has on shares.",
        figures=(BeforeAfter("Members", Figure(text=", ".join(before or ()) or "nobody"), Figure(text=", ".join(members) or "nobody")),),
        cautions=(f"{listed(gone)} no longer {'has' if len(gone) == 1 else 'have'} the rights of {name} on {listed(reached)}.",)
        if gone and reached else (),
        steps=("Write it into the books; it holds at once.",),
    )  # fmt: skip
    return PartyPlan(sheet, name, members)


def context(_request: SetMembers) -> Context:
    """What the plan is made on, and what is held while it is carried out."""
    return Context(alone=(PEOPLE,))


KIND = ChangeKind("set-members", Act.GIVE_ACCESS, SetMembers, context, plan)

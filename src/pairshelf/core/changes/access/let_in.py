"""An initiator let in to a target."""

from __future__ import annotations

from dataclasses import dataclass, replace

from pairshelf.core.changes.access.serving_disks import TargetPlan, read_initiators, target_of, target_plan
from pairshelf.core.changes.kind import NETWORK, ChangeKind, Context
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.estate import Estate
from pairshelf.core.errors import BadInput


@dataclass(frozen=True, slots=True)
class LetIn:
    """Let an initiator in to a target; with ``instead_of``, in the place of another."""

    target: str
    initiator: str
    instead_of: str = ""


def plan(estate: Estate, request: LetIn) -> TargetPlan:
    """The sheet for letting an initiator in."""
    before = target_of(estate, request.target)
    (new,) = read_initiators(estate, (request.initiator,))
    if new[0] in dict(before.initiators):
        raise BadInput("It is let in already.", field="initiator")
    old = request.instead_of.strip()
    if old and old not in dict(before.initiators):
        raise BadInput(f"{old} is not let in.", field="instead_of")
    kept = tuple(i for i in before.initiators if i[0] != old)
    target = replace(before, initiators=(*kept, new))
    steps = (f"Let {new[0]} in." if not old else f"Let {new[0]} in, and no longer {old}.",)
    return target_plan(estate, "let-in", f"Let {new[0]} in", target, before, steps)


def context(request: LetIn) -> Context:
    """What the plan is made on, and what is held while it is carried out."""
    return Context(targets=(request.target,), alone=(NETWORK,))


KIND = ChangeKind("let-in", Act.GIVE_ACCESS, LetIn, context, plan)

"""An initiator no longer let in."""

from __future__ import annotations

from dataclasses import dataclass, replace

from pairshelf.core.changes.access.serving_disks import TargetPlan, target_of, target_plan
from pairshelf.core.changes.kind import NETWORK, ChangeKind, Context
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.estate import Estate
from pairshelf.core.errors import BadInput


@dataclass(frozen=True, slots=True)
class ShutOut:
    """No longer let an initiator in."""

    target: str
    initiator: str


def plan(estate: Estate, request: ShutOut) -> TargetPlan:
    """The sheet for no longer letting one in."""
    before = target_of(estate, request.target)
    name = request.initiator.strip()
    if name not in dict(before.initiators):
        raise BadInput(f"{name} is not let in.", field="initiator")
    target = replace(before, initiators=tuple(i for i in before.initiators if i[0] != name))
    return target_plan(estate, "shut-out", f"No longer let {name} in", target, before,
                  (f"Log {name} out, and let it in no more.",), (f"A host that uses the disk as {name} loses it at once.",))  # fmt: skip


def context(request: ShutOut) -> Context:
    """What the plan is made on, and what is held while it is carried out."""
    return Context(targets=(request.target,), alone=(NETWORK,))


KIND = ChangeKind("shut-out", Act.GIVE_ACCESS, ShutOut, context, plan)

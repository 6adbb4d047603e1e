"""A target no longer served."""

from __future__ import annotations

from dataclasses import dataclass, replace

from pairshelf.core.changes.access.serving_disks import TargetPlan, target_of, target_plan
from pairshelf.core.changes.kind import NETWORK, ChangeKind, Context
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.estate import Estate
from pairshelf.core.errors import NotPossible


@dataclass(frozen=True, slots=True)
class EndTarget:
    """No longer serve a target; its volumes stay."""

    target: str


def plan(estate: Estate, request: EndTarget) -> TargetPlan:
    """The sheet for ending a target."""
    before = target_of(estate, request.target)
    if any(a.volume in [v for _, v in before.luns] for a in estate.applications):
        raise NotPossible("An application stands on one of its disks; move it first.", code="in-use", field="target")
    target = replace(before, luns=(), initiators=())
    return target_plan(estate, "end-target", f"End target {before.iqn}", target, before,
                  ("Log everybody out.", "No longer offer it; its volumes stay."),
                  ("Hosts that use its disks lose them at once.",), before.iqn)  # fmt: skip


def context(request: EndTarget) -> Context:
    """What the plan is made on, and what is held while it is carried out."""
    return Context(targets=(request.target,), alone=(NETWORK,))


KIND = ChangeKind("end-target", Act.GIVE_ACCESS, EndTarget, context, plan)

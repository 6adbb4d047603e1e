"""One disk of a block target taken away."""

from __future__ import annotations

from dataclasses import dataclass, replace

from pairshelf.core.changes.access.serving_disks import TargetPlan, lun_of, target_of, target_plan
from pairshelf.core.changes.kind import NETWORK, ChangeKind, Context
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.estate import Estate
from pairshelf.core.errors import NotPossible


@dataclass(frozen=True, slots=True)
class TakeDisk:
    """Take one disk away from a target; its volume stays."""

    target: str
    volume: str


def plan(estate: Estate, request: TakeDisk) -> TargetPlan:
    """The sheet for one disk less."""
    before = target_of(estate, request.target)
    lun, volume = lun_of(estate, before, request.volume)
    if len(before.luns) == 1:
        raise NotPossible(
            "It is the only disk of this target; end the target instead.", code="only-disk", field="volume"
        )
    if any(a.volume == volume for a in estate.applications):
        raise NotPossible("An application stands on it; move it first.", code="in-use", field="volume")
    target = replace(before, luns=tuple(one for one in before.luns if one != (lun, volume)))
    return target_plan(
        estate, "take-disk", f"Take {volume} away from {before.iqn}", target, before,
        (f"No longer offer LUN {lun}; volume {volume} stays.",), ("A host that uses it loses it at once.",), volume,
    )  # fmt: skip


def context(request: TakeDisk) -> Context:
    """What the plan is made on, and what is held while it is carried out."""
    return Context(targets=(request.target,), alone=(NETWORK,))


KIND = ChangeKind("take-disk", Act.GIVE_ACCESS, TakeDisk, context, plan)

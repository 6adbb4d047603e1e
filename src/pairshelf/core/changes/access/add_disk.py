"""One more disk on a target."""

from __future__ import annotations

from dataclasses import dataclass, replace

from pairshelf.core.changes.access.serving_disks import TargetPlan, read_disk, read_lun, target_of, target_plan
from pairshelf.core.changes.kind import NETWORK, ChangeKind, Context
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.estate import Estate


@dataclass(frozen=True, slots=True)
class AddDisk:
    """One more disk on a target."""

    target: str
    volume: str
    lun: int = -1


def plan(estate: Estate, request: AddDisk) -> TargetPlan:
    """The sheet for one more disk."""
    before = target_of(estate, request.target)
    volume = read_disk(estate, request.volume)
    lun = read_lun(estate, request.lun, before)
    target = replace(before, luns=tuple(sorted((*before.luns, (lun, volume)))))
    return target_plan(
        estate, "add-disk", f"Add {volume} to {before.iqn}", target, before, (f"Offer {volume} as LUN {lun}.",)
    )


def context(request: AddDisk) -> Context:
    """What the plan is made on, and what is held while it is carried out."""
    return Context(targets=(request.target,), volumes=(request.volume,), alone=(NETWORK,))


KIND = ChangeKind("add-disk", Act.GIVE_ACCESS, AddDisk, context, plan)

"""Another number for a disk of a block target."""

from __future__ import annotations

from dataclasses import dataclass, replace

from pairshelf.core.changes.access.serving_disks import TargetPlan, lun_of, read_lun, target_of, target_plan
from pairshelf.core.changes.kind import NETWORK, ChangeKind, Context
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.estate import Estate
from pairshelf.core.errors import BadInput


@dataclass(frozen=True, slots=True)
class ChangeLun:
    """Give a disk of a target another LUN."""

    target: str
    volume: str
    lun: int


def plan(estate: Estate, request: ChangeLun) -> TargetPlan:
    """The sheet for another LUN."""
    before = target_of(estate, request.target)
    old, volume = lun_of(estate, before, request.volume)
    if request.lun == old:
        raise BadInput(f"LUN {old} is its number already.", field="lun")
    if request.lun < 0:
        raise BadInput("A LUN is 0 or more.", field="lun")
    new = read_lun(estate, request.lun, before)
    luns = tuple(sorted((new, v) if v == volume else (n, v) for n, v in before.luns))
    return target_plan(
        estate, "change-lun", f"LUN {new} for {volume}", replace(before, luns=luns), before,
        (f"Offer {volume} as LUN {new}, and no longer as LUN {old}.",),
        ("A host that is logged in sees the disk go and come back under the other number; log it out first.",),
    )  # fmt: skip


def context(request: ChangeLun) -> Context:
    """What the plan is made on, and what is held while it is carried out."""
    return Context(targets=(request.target,), alone=(NETWORK,))


KIND = ChangeKind("change-lun", Act.GIVE_ACCESS, ChangeLun, context, plan)

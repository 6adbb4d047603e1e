"""A volume without a file system as a disk for other hosts."""

from __future__ import annotations

from dataclasses import dataclass

from pairshelf.core.changes.access.serving_disks import (
    TargetPlan,
    known_names,
    read_disk,
    read_initiators,
    read_lun,
    target_plan,
)
from pairshelf.core.changes.kind import NETWORK, ChangeKind, Context
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.estate import Estate, EstateTarget
from pairshelf.core.domain.names import check_iqn
from pairshelf.core.errors import BadInput


@dataclass(frozen=True, slots=True)
class MakeTarget:
    """A volume without a file system as a disk for other hosts."""

    iqn: str
    #: The host that serves it.
    host: str
    volume: str
    initiators: tuple[str, ...] = ()
    #: The disk's number; -1 takes one that no other disk has.
    lun: int = -1
    #: Several hosts may use it at once.
    shared: bool = False


def plan(estate: Estate, request: MakeTarget) -> TargetPlan:
    """The sheet for a new target with its first disk."""
    iqn = check_iqn(request.iqn, field="iqn")
    if any(t.iqn == iqn for t in estate.targets) or iqn in known_names(estate):
        raise BadInput("This name is taken; every target and initiator has its own.", code="name-taken", field="iqn")
    host = estate.host(request.host)
    volume = read_disk(estate, request.volume)
    initiators = read_initiators(estate, request.initiators)
    target = EstateTarget(iqn, host.name, request.shared, ((read_lun(estate, request.lun, None), volume),), initiators)
    return target_plan(estate, "make-target", f"Serve {volume} as a block target", target, None,
                  (f"Offer {volume} as {iqn} from {host.name}.", "Let in the initiators above, and nobody else."))  # fmt: skip


def context(request: MakeTarget) -> Context:
    """What the plan is made on, and what is held while it is carried out."""
    return Context(volumes=(request.volume,), hosts=(request.host,), alone=(NETWORK,))


KIND = ChangeKind("make-target", Act.GIVE_ACCESS, MakeTarget, context, plan)

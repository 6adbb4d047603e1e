"""A volume without a file system as a disk for other hosts."""

from __future__ import annotations

from dataclasses import dataclass, replace

from pairshelf.core.changes.access.serving_disks import (
    TargetPlan,
    known_names,
    read_disk,
    read_initiators,
    read_lun,
    target_plan,
)
from pairshelf.core.changes.kind import NETWORK, ChangeKind, Context
from pairshelf.core.changes.volumes import make_volumes
from pairshelf.core.changes.volumes.make_volumes import MakeVolumes, MakeVolumesPlan
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.estate import Estate, EstateTarget, EstateVolume
from pairshelf.core.domain.names import check_iqn
from pairshelf.core.errors import BadInput, PairShelfError


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
    #: Hosts that will use it: each is let in by its own initiator name, which is declared if it was not.
    for_hosts: tuple[str, ...] = ()
    #: A new volume of this size is created for it; empty: the volume is there. In a spread pool with its protection.
    size: str = ""
    protection: str = ""


def plan(estate: Estate, request: MakeTarget) -> TargetPlan:
    """The sheet for a new target with its first disk."""
    iqn = check_iqn(request.iqn, field="iqn")
    if any(t.iqn == iqn for t in estate.targets) or iqn in known_names(estate):
        raise BadInput("This name is taken; every target and initiator has its own.", code="name-taken", field="iqn")
    host = estate.host(request.host)
    makes = _made(estate, request)
    if makes is not None:
        estate = replace(estate, volumes=(*estate.volumes, *(
            EstateVolume(0, makes.pool.name, s.name, s.size, s.thin, s.file_system, s.reserved_share, 0, "") for s in makes.specs
        )))  # fmt: skip
    volume = read_disk(estate, request.volume)
    own = _of_hosts(estate, request.for_hosts)
    declares = tuple((i, h) for i, h in own if i not in dict(estate.initiators))
    estate = replace(estate, initiators=(*estate.initiators, *declares))
    initiators = read_initiators(estate, tuple(dict.fromkeys((*request.initiators, *(i for i, _ in own)))))
    target = EstateTarget(iqn, host.name, request.shared, ((read_lun(estate, request.lun, None), volume),), initiators)
    found = target_plan(estate, "make-target", f"Serve {volume} as a block target", target, None, (
        *(makes.sheet.steps if makes else ()),
        *(f"Declare {i}, the initiator name of {h}." for i, h in declares),
        f"Offer {volume} as {iqn} from {host.name}.", "Let in the initiators above, and nobody else.",
    ))  # fmt: skip
    sheet = found.sheet
    if makes is not None:
        sheet = replace(
            sheet, figures=(*makes.sheet.figures, *sheet.figures), effect=makes.sheet.effect, takes=makes.sheet.takes,
            cautions=(*makes.sheet.cautions, *sheet.cautions),
        )  # fmt: skip
    return replace(found, sheet=sheet, makes=makes, declares=declares)


def _made(estate: Estate, request: MakeTarget) -> MakeVolumesPlan | None:
    """The volume that is created for it, where a size is given; refusals at the fields that are shown here."""
    if not request.size.strip():
        return None
    pool, _, name = request.volume.strip().partition("/")
    if not name:
        raise BadInput("Write the new volume as pool/volume.", field="volume")
    try:
        return make_volumes.plan(
            estate, MakeVolumes(pool, name, request.size, protection=request.protection, file_system="none")
        )
    except PairShelfError as error:
        error.field = "volume" if error.field in ("pool", "name") else error.field
        raise


def _of_hosts(estate: Estate, names: tuple[str, ...]) -> list[tuple[str, str]]:
    """The initiator names of these hosts, each with its host."""
    found = []
    for name in dict.fromkeys(names):
        host = estate.host(name, field="for_hosts")
        if host.iqn is None:
            raise BadInput(
                f"{host.name} has no initiator name yet; give it one in its network settings (Access, Hosts).",
                code="no-initiator", field="for_hosts",
            )  # fmt: skip
        found.append((host.iqn, host.name))
    return found


def context(request: MakeTarget) -> Context:
    """What the plan is made on, and what is held while it is carried out."""
    hosts = (request.host, *request.for_hosts)
    if request.size.strip():
        return Context(pools=(request.volume.strip().partition("/")[0],), hosts=hosts, alone=(NETWORK,))
    return Context(volumes=(request.volume,), hosts=hosts, alone=(NETWORK,))


KIND = ChangeKind("make-target", Act.GIVE_ACCESS, MakeTarget, context, plan)

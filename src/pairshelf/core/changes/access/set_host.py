"""What a host is on the network."""

from __future__ import annotations

from dataclasses import dataclass, replace
from ipaddress import ip_interface

from pairshelf.core.changes.access.serving_disks import slips
from pairshelf.core.changes.kind import NETWORK, ChangeKind, Context
from pairshelf.core.changes.sheet import BeforeAfter, ChangeSheet, Figure, Finding, simple_sheet
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.block_targets import check_address, check_storage_address
from pairshelf.core.domain.estate import Estate, EstateHost
from pairshelf.core.domain.names import check_iqn
from pairshelf.core.domain.units import format_size, parse_rate
from pairshelf.core.errors import BadInput


@dataclass(frozen=True, slots=True)
class SetHost:
    """What a host is on the network: addresses, link, initiator name, drive letters."""

    host: str
    address: str = ""
    #: Its address on the storage network, with the network's size; it has no gateway there.
    storage_address: str = ""
    #: Of the storage network; must stay empty.
    gateway: str = ""
    #: Speed of its storage link, such as 10 Gbit/s.
    link: str = ""
    iqn: str = ""
    letters: bool = False


@dataclass(frozen=True, slots=True)
class HostPlan:
    """A host as it will be."""

    sheet: ChangeSheet
    host: EstateHost


def plan(estate: Estate, request: SetHost) -> HostPlan:
    """The sheet for a host's addresses and names."""
    host = estate.host(request.host)
    if request.gateway.strip():
        raise BadInput(
            "A storage network has no gateway: with one, other traffic finds its way in. Leave it empty.",
            field="gateway",
        )
    iqn = check_iqn(request.iqn, field="iqn") if request.iqn.strip() else None
    if iqn and any(h.iqn == iqn and h.name != host.name for h in estate.machines):
        raise BadInput("Another host has this initiator name; each needs its own.", code="name-taken", field="iqn")
    storage = check_storage_address(request.storage_address)
    address = check_address(request.address)
    for other in estate.machines:
        if storage and other.name != host.name and other.storage_address and (
            ip_interface(other.storage_address).ip == ip_interface(storage).ip
        ):  # fmt: skip
            raise BadInput(f"{other.name} has this address.", code="taken", field="storage_address")
    if storage and address and ip_interface(address).ip in ip_interface(storage).network:
        raise BadInput(
            "Both addresses are in one network; the storage network is one of its own.", field="storage_address"
        )
    if request.letters != host.letters and any(m.host == host.name for m in estate.mounts):
        raise BadInput("It mounts volumes; unmount them before it names them otherwise.", field="letters")
    after = EstateHost(
        host.name, host.site, request.letters, address, storage, iqn,
        parse_rate(request.link, field="link") if request.link.strip() else None,
    )  # fmt: skip

    def row(label: str, before: object, then: object) -> BeforeAfter:
        return BeforeAfter(label, Figure(text=str(before or "none")), Figure(text=str(then or "none")))

    # The name that it has now is not one that another was meant by.
    others = replace(
        estate, machines=tuple(m for m in estate.machines if m.name != host.name),
        initiators=tuple((i, h) for i, h in estate.initiators if h != host.name),
    )  # fmt: skip
    findings = slips(others, iqn) if iqn and iqn != host.iqn else []
    if storage and not after.link:
        findings.append(Finding("Without the speed of its link nothing can be said about what it limits."))
    sheet = simple_sheet(
        "set-host", f"Host {host.name} on the network", "Its addresses, its link, and the name it logs in by.",
        figures=(
            row("Address", host.address, address), row("Storage address", host.storage_address, storage),
            row("Storage link", host.link and f"{format_size(host.link, digits=0)}/s", after.link and f"{format_size(after.link, digits=0)}/s"),
            row("Initiator name", host.iqn, iqn),
            row("Names volumes by", "letters" if host.letters else "folders", "letters" if after.letters else "folders"),
        ),
        findings=findings, steps=("Write it into the books.",),
    )  # fmt: skip
    return HostPlan(sheet, after)


def context(request: SetHost) -> Context:
    """What the plan is made on, and what is held while it is carried out."""
    return Context(hosts=(request.host,), alone=(NETWORK,))


KIND = ChangeKind("set-host", Act.GIVE_ACCESS, SetHost, context, plan)

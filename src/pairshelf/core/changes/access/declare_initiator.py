"""A name that may be let in to targets."""

from __future__ import annotations

from dataclasses import dataclass

from pairshelf.core.changes.access.serving_disks import slips
from pairshelf.core.changes.kind import NETWORK, ChangeKind, Context
from pairshelf.core.changes.sheet import ChangeSheet, Finding, simple_sheet
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.estate import Estate
from pairshelf.core.domain.names import check_iqn
from pairshelf.core.errors import BadInput


@dataclass(frozen=True, slots=True)
class DeclareInitiator:
    """A name that may be let in to targets, perhaps before its host is there."""

    iqn: str
    host: str = ""


@dataclass(frozen=True, slots=True)
class InitiatorPlan:
    """A declared name."""

    sheet: ChangeSheet
    iqn: str
    host: str | None


def plan(estate: Estate, request: DeclareInitiator) -> InitiatorPlan:
    """The sheet for declaring a name."""
    iqn = check_iqn(request.iqn, field="iqn")
    if any(i == iqn for i, _ in estate.initiators):
        raise BadInput("This name is declared already.", code="name-taken", field="iqn")
    host = estate.host(request.host).name if request.host.strip() else None
    findings = slips(estate, iqn)
    owner = next((h.name for h in estate.machines if h.iqn == iqn), None)
    if owner is None and host is None:
        findings.append(Finding("No known host has this name yet; it is declared ahead."))
    elif owner is None:
        findings.append(Finding(f"{host} does not log in by this name yet: give it that, or it is refused."))
    sheet = simple_sheet(
        "declare-initiator", f"Declare initiator {iqn}",
        f"The name {host or owner or 'a host to come'} logs in by.", findings=findings, steps=("Write it into the books.",),
    )  # fmt: skip
    return InitiatorPlan(sheet, iqn, host or owner)


def context(request: DeclareInitiator) -> Context:
    """What the plan is made on, and what is held while it is carried out."""
    return Context(hosts=(request.host,), alone=(NETWORK,))


KIND = ChangeKind("declare-initiator", Act.GIVE_ACCESS, DeclareInitiator, context, plan)

"""What all changes of block targets and of the names on their network have in common."""

from __future__ import annotations

from dataclasses import dataclass, replace
from ipaddress import ip_interface

from pairshelf.core.changes.sheet import BeforeAfter, ChangeSheet, Figure, Finding, Text, simple_sheet
from pairshelf.core.changes.volumes.make_volumes import MakeVolumesPlan
from pairshelf.core.domain.block_targets import link_advice
from pairshelf.core.domain.estate import Estate, EstateTarget
from pairshelf.core.domain.names import check_iqn, near_misses
from pairshelf.core.errors import BadInput, NotFound
from pairshelf.core.figures.speed import sequential_read

MOST_LUN = 16383


@dataclass(frozen=True, slots=True)
class TargetPlan:
    """A target as it will be; ``before`` is what there was."""

    sheet: ChangeSheet
    target: EstateTarget
    before: EstateTarget | None = None
    #: The volume that is created for it, and the initiators that are declared with it, each with its host.
    makes: MakeVolumesPlan | None = None
    declares: tuple[tuple[str, str], ...] = ()


def target_of(estate: Estate, iqn: str) -> EstateTarget:
    """The target of that name; BadInput with the nearest otherwise."""
    found = next((t for t in estate.targets if t.iqn == iqn.strip()), None)
    if found is None:
        close = near_misses(iqn.strip(), [t.iqn for t in estate.targets])
        hint = f"Did you mean {close[0]}?" if close else ""
        raise NotFound("target", iqn or "without a name", field="target", hint=hint)
    return found


def known_names(estate: Estate) -> list[str]:
    return [h.iqn for h in estate.machines if h.iqn] + [i for i, _ in estate.initiators]


def slips(estate: Estate, iqn: str) -> list[Finding]:
    """Known names that this one may have been meant for."""
    hosts = {h.iqn: h.name for h in estate.machines if h.iqn}
    return [
        Finding(f"{iqn} is almost {c}{f', which {hosts[c]} has' if c in hosts else ''}. If you meant that one, a slip "
                "here is the commonest reason for a refused log-in.")
        for c in near_misses(iqn, known_names(estate))
    ]  # fmt: skip


def read_lun(estate: Estate, lun: int, target: EstateTarget | None) -> int:
    used = {n for t in estate.targets for n, _ in t.luns}
    if lun == -1:
        return next(n for n in range(MOST_LUN + 1) if n not in used)
    if not 0 <= lun <= MOST_LUN:
        raise BadInput(f"A LUN is 0 to {MOST_LUN}.", field="lun")
    if target and any(n == lun for n, _ in target.luns):
        raise BadInput(f"LUN {lun} of this target is taken.", code="taken", field="lun")
    return lun


def lun_of(estate: Estate, target: EstateTarget, ref: str) -> tuple[int, str]:
    """The number and volume of a target's disk; BadInput where it has no such disk."""
    volume = estate.volume(ref).ref
    found = next(((n, v) for n, v in target.luns if v == volume), None)
    if found is None:
        raise BadInput(f"{volume} is no disk of this target.", field="volume")
    return found


def read_disk(estate: Estate, ref: str) -> str:
    volume = estate.volume(ref)
    if not volume.bare:
        raise BadInput(
            f"{volume.ref} has a file system ({volume.file_system}) of its own; a block target serves bare volumes. "
            "Make one with file system none.",
            field="volume",
        )
    if any(v == volume.ref for t in estate.targets for _, v in t.luns):
        raise BadInput(f"{volume.ref} is served by a target already.", code="taken", field="volume")
    return volume.ref


def read_initiators(estate: Estate, names: tuple[str, ...]) -> tuple[tuple[str, bool], ...]:
    known = {i for i, _ in estate.initiators}
    for name in names:
        iqn = check_iqn(name, field="initiators")
        if iqn not in known:
            close = near_misses(iqn, known)
            hint = f" Did you mean {close[0]}?" if close else ""
            raise BadInput(f"{iqn} is not declared; declare it first.{hint}", code="not-declared", field="initiators")
    return tuple((n.strip(), False) for n in dict.fromkeys(names))


def advice(estate: Estate, target: EstateTarget) -> list[Finding]:
    serving = estate.host(target.host)
    found = []
    for _, ref in target.luns:
        pool = estate.pool_named(estate.volume(ref).pool)
        found.append(Finding(link_advice(serving.link, sequential_read(pool.layout))))
        break
    if not serving.storage_address:
        found.append(
            Finding(
                f"{serving.name} has no storage network of its own; block traffic shares the network with everything else."
            )
        )
    if len(target.initiators) > 1:
        found.append(
            Finding("Several hosts are let in: unless their file system is made for that, the second to write destroys what "
                    "the first wrote.")
            if target.shared else
            Finding("Several hosts are let in, and it is for one at a time: only the first to log in gets it.")
        )  # fmt: skip
    hosts = dict(estate.initiators)
    real = {h.iqn for h in estate.machines}
    for name, chap in target.initiators:
        if name not in real:
            found.append(
                Finding(
                    f"{name}: no known host has this name{f' ({hosts[name]} has another)' if hosts.get(name) else ''}."
                )
            )
            found.extend(slips(replace(estate, initiators=()), name))
        if not chap:
            found.append(
                Finding(f"{name} is let in by its name alone; set a CHAP secret so that it has to prove itself.")
            )
    return found


def target_texts(estate: Estate, target: EstateTarget) -> list[Text]:
    serving = estate.host(target.host)
    address = (
        str(ip_interface(serving.storage_address).ip) if serving.storage_address else serving.address or serving.name
    )
    return [Text("Target", target.iqn), Text("Address", f"{address}:3260")]


def target_plan(
    estate: Estate, kind: str, title: str, target: EstateTarget, before: EstateTarget | None, steps: tuple[str, ...],
    cautions: tuple[str, ...] = (), confirm: str | None = None,
) -> TargetPlan:  # fmt: skip
    def disks(one: EstateTarget | None) -> str:
        return ", ".join(f"LUN {n}: {v}" for n, v in one.luns) if one and one.luns else "none"

    def names(one: EstateTarget | None) -> str:
        return ", ".join(n for n, _ in one.initiators) if one and one.initiators else "nobody"

    sheet = simple_sheet(
        kind, title, "Disks for other hosts, by iSCSI.", steps=steps, cautions=cautions, confirm=confirm,
        figures=(
            BeforeAfter("Disks", Figure(text=disks(before)), Figure(text=disks(target))),
            BeforeAfter("Let in", Figure(text=names(before)), Figure(text=names(target))),
        ),
        findings=advice(estate, target), texts=target_texts(estate, target) if target.luns else (),
    )  # fmt: skip
    return TargetPlan(sheet, target, before)

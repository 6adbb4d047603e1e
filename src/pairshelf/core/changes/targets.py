"""Block targets: disks for other hosts, the initiators that are let in, and what a host is on the network."""

from __future__ import annotations

from dataclasses import dataclass, replace
from ipaddress import ip_interface

from pairshelf.core.changes.sheet import BeforeAfter, ChangeSheet, Figure, Finding, Text, simple_sheet
from pairshelf.core.errors import BadInput, NotPossible
from pairshelf.core.estate import Estate, EstateHost, EstateTarget
from pairshelf.core.figures.speed import sequential_read
from pairshelf.core.names import check_iqn, near_misses
from pairshelf.core.targets import check_address, check_storage_address, link_advice
from pairshelf.core.units import format_size, parse_rate

MOST_LUN = 16383


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
class DeclareInitiator:
    """A name that may be let in to targets, perhaps before its host is there."""

    iqn: str
    host: str = ""


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


@dataclass(frozen=True, slots=True)
class AddDisk:
    """One more disk on a target."""

    target: str
    volume: str
    lun: int = -1


@dataclass(frozen=True, slots=True)
class LetIn:
    """Let an initiator in to a target; with ``instead_of``, in the place of another."""

    target: str
    initiator: str
    instead_of: str = ""


@dataclass(frozen=True, slots=True)
class ShutOut:
    """No longer let an initiator in."""

    target: str
    initiator: str


@dataclass(frozen=True, slots=True)
class EndTarget:
    """No longer serve a target; its volumes stay."""

    target: str


@dataclass(frozen=True, slots=True)
class HostPlan:
    """A host as it will be."""

    sheet: ChangeSheet
    host: EstateHost


@dataclass(frozen=True, slots=True)
class InitiatorPlan:
    """A declared name."""

    sheet: ChangeSheet
    iqn: str
    host: str | None


@dataclass(frozen=True, slots=True)
class TargetPlan:
    """A target as it will be; ``before`` is what there was."""

    sheet: ChangeSheet
    target: EstateTarget
    before: EstateTarget | None = None


def target_of(estate: Estate, iqn: str) -> EstateTarget:
    """The target of that name; BadInput with the nearest otherwise."""
    found = next((t for t in estate.targets if t.iqn == iqn.strip()), None)
    if found is None:
        close = near_misses(iqn.strip(), [t.iqn for t in estate.targets])
        hint = f" Did you mean {close[0]}?" if close else ""
        raise BadInput(f"There is no target {iqn or 'without a name'}.{hint}", field="target")
    return found


def _known_names(estate: Estate) -> list[str]:
    return [h.iqn for h in estate.machines if h.iqn] + [i for i, _ in estate.initiators]


def _slips(estate: Estate, iqn: str) -> list[Finding]:
    hosts = {h.iqn: h.name for h in estate.machines if h.iqn}
    return [
        Finding(f"{iqn} is almost {c}{f', which {hosts[c]} has' if c in hosts else ''}. If you meant that one, a slip "
                "here is the commonest reason for a refused log-in.")
        for c in near_misses(iqn, _known_names(estate))
    ]  # fmt: skip


def set_host(estate: Estate, request: SetHost) -> HostPlan:
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

    findings = _slips(estate, iqn) if iqn and iqn != host.iqn else []
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


def declare(estate: Estate, request: DeclareInitiator) -> InitiatorPlan:
    """The sheet for declaring a name."""
    iqn = check_iqn(request.iqn, field="iqn")
    if any(i == iqn for i, _ in estate.initiators):
        raise BadInput("This name is declared already.", code="name-taken", field="iqn")
    host = estate.host(request.host).name if request.host.strip() else None
    findings = _slips(estate, iqn)
    owner = next((h.name for h in estate.machines if h.iqn == iqn), None)
    if owner is None:
        findings.append(Finding("No known host has this name yet; it is declared ahead."))
    sheet = simple_sheet(
        "declare-initiator", f"Declare initiator {iqn}",
        f"The name {host or owner or 'a host to come'} logs in by.", findings=findings, steps=("Write it into the books.",),
    )  # fmt: skip
    return InitiatorPlan(sheet, iqn, host or owner)


def _lun(estate: Estate, lun: int, target: EstateTarget | None) -> int:
    used = {n for t in estate.targets for n, _ in t.luns}
    if lun == -1:
        return next(n for n in range(MOST_LUN + 1) if n not in used)
    if not 0 <= lun <= MOST_LUN:
        raise BadInput(f"A LUN is 0 to {MOST_LUN}.", field="lun")
    if target and any(n == lun for n, _ in target.luns):
        raise BadInput(f"LUN {lun} of this target is taken.", code="taken", field="lun")
    return lun


def _disk(estate: Estate, ref: str) -> str:
    volume = estate.volume(ref)
    if volume.file_system != "none":
        raise BadInput(
            f"{volume.ref} has a file system ({volume.file_system}) of its own; a block target serves bare volumes. "
            "Make one with file system none.",
            field="volume",
        )
    if any(v == volume.ref for t in estate.targets for _, v in t.luns):
        raise BadInput(f"{volume.ref} is served by a target already.", code="taken", field="volume")
    return volume.ref


def _initiators(estate: Estate, names: tuple[str, ...]) -> tuple[tuple[str, bool], ...]:
    known = {i for i, _ in estate.initiators}
    for name in names:
        iqn = check_iqn(name, field="initiators")
        if iqn not in known:
            close = near_misses(iqn, known)
            hint = f" Did you mean {close[0]}?" if close else ""
            raise BadInput(f"{iqn} is not declared; declare it first.{hint}", code="not-declared", field="initiators")
    return tuple((n.strip(), False) for n in dict.fromkeys(names))


def _advice(estate: Estate, target: EstateTarget) -> list[Finding]:
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
            found.extend(_slips(replace(estate, initiators=()), name))
        if not chap:
            found.append(
                Finding(f"{name} is let in by its name alone; set a CHAP secret so that it has to prove itself.")
            )
    return found


def _texts(estate: Estate, target: EstateTarget) -> list[Text]:
    serving = estate.host(target.host)
    address = (
        str(ip_interface(serving.storage_address).ip) if serving.storage_address else serving.address or serving.name
    )
    return [Text("Target", target.iqn), Text("Address", f"{address}:3260")]


def _sheet(
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
        findings=_advice(estate, target), texts=_texts(estate, target),
    )  # fmt: skip
    return TargetPlan(sheet, target, before)


def make(estate: Estate, request: MakeTarget) -> TargetPlan:
    """The sheet for a new target with its first disk."""
    iqn = check_iqn(request.iqn, field="iqn")
    if any(t.iqn == iqn for t in estate.targets) or iqn in _known_names(estate):
        raise BadInput("This name is taken; every target and initiator has its own.", code="name-taken", field="iqn")
    host = estate.host(request.host)
    volume = _disk(estate, request.volume)
    initiators = _initiators(estate, request.initiators)
    target = EstateTarget(iqn, host.name, request.shared, ((_lun(estate, request.lun, None), volume),), initiators)
    return _sheet(estate, "make-target", f"Serve {volume} as a block target", target, None,
                  (f"Offer {volume} as {iqn} from {host.name}.", "Let in the initiators above, and nobody else."))  # fmt: skip


def add_disk(estate: Estate, request: AddDisk) -> TargetPlan:
    """The sheet for one more disk."""
    before = target_of(estate, request.target)
    volume = _disk(estate, request.volume)
    lun = _lun(estate, request.lun, before)
    target = replace(before, luns=tuple(sorted((*before.luns, (lun, volume)))))
    return _sheet(
        estate, "add-disk", f"Add {volume} to {before.iqn}", target, before, (f"Offer {volume} as LUN {lun}.",)
    )


def let_in(estate: Estate, request: LetIn) -> TargetPlan:
    """The sheet for letting an initiator in."""
    before = target_of(estate, request.target)
    (new,) = _initiators(estate, (request.initiator,))
    if new[0] in dict(before.initiators):
        raise BadInput("It is let in already.", field="initiator")
    old = request.instead_of.strip()
    if old and old not in dict(before.initiators):
        raise BadInput(f"{old} is not let in.", field="instead_of")
    kept = tuple(i for i in before.initiators if i[0] != old)
    target = replace(before, initiators=(*kept, new))
    steps = (f"Let {new[0]} in." if not old else f"Let {new[0]} in, and no longer {old}.",)
    return _sheet(estate, "let-in", f"Let {new[0]} in", target, before, steps)


def shut_out(estate: Estate, request: ShutOut) -> TargetPlan:
    """The sheet for no longer letting one in."""
    before = target_of(estate, request.target)
    name = request.initiator.strip()
    if name not in dict(before.initiators):
        raise BadInput(f"{name} is not let in.", field="initiator")
    target = replace(before, initiators=tuple(i for i in before.initiators if i[0] != name))
    return _sheet(estate, "shut-out", f"No longer let {name} in", target, before,
                  (f"Log {name} out, and let it in no more.",), (f"A host that uses the disk as {name} loses it at once.",))  # fmt: skip


def end(estate: Estate, request: EndTarget) -> TargetPlan:
    """The sheet for ending a target."""
    before = target_of(estate, request.target)
    if any(a.volume in [v for _, v in before.luns] for a in estate.applications):
        raise NotPossible("An application stands on one of its disks; move it first.", code="in-use", field="target")
    target = replace(before, luns=(), initiators=())
    return _sheet(estate, "end-target", f"End target {before.iqn}", target, before,
                  ("Log everybody out.", "No longer offer it; its volumes stay."),
                  ("Hosts that use its disks lose them at once.",), before.iqn)  # fmt: skip

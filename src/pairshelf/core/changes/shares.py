"""Shares: folders of a volume over the network, and the people and groups they are for."""

from __future__ import annotations

from dataclasses import dataclass, replace

from pairshelf.core.changes.sheet import BeforeAfter, ChangeSheet, Figure, Finding, Text, simple_sheet
from pairshelf.core.errors import BadInput, NotPossible
from pairshelf.core.estate import Estate, EstateShare, EstateVolume
from pairshelf.core.file_systems import file_system_of
from pairshelf.core.names import check_folder, check_name
from pairshelf.core.units import format_size, parse_size
from pairshelf.core.volumes import check_purpose

RIGHTS = ("read", "write")


@dataclass(frozen=True, slots=True)
class MakeShare:
    """A folder of a mounted volume, offered over the network."""

    volume: str
    name: str
    #: The folder on the volume; empty for all of it.
    folder: str = ""
    #: Who may do what: NAME:read or NAME:write.
    rights: tuple[str, ...] = ()
    #: The most it may take; empty for no limit.
    quota: str = ""
    #: Days that deleted files are kept in its bin; 0: not kept.
    bin_days: int = 0
    #: Whether the traffic is encrypted.
    encrypted: bool = True
    purpose: str = ""


@dataclass(frozen=True, slots=True)
class ChangeShare:
    """Other rights, quota, bin or encryption of a share; what is given stands in the place of what was."""

    share: str
    rights: tuple[str, ...] = ()
    quota: str = ""
    bin_days: int = 0
    encrypted: bool = True


@dataclass(frozen=True, slots=True)
class EndShare:
    """No longer offer a folder; its files stay."""

    share: str


@dataclass(frozen=True, slots=True)
class AddParty:
    """A person, or a group with its members."""

    name: str
    #: For a group: its members. Without any it is a person.
    members: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class SetMembers:
    """Who is in a group."""

    group: str
    members: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class SharePlan:
    """A share as it will be; ``before`` is what there was."""

    sheet: ChangeSheet
    share: EstateShare
    before: EstateShare | None = None


@dataclass(frozen=True, slots=True)
class PartyPlan:
    """A person or group as it will be."""

    sheet: ChangeSheet
    name: str
    members: tuple[str, ...] | None


def share_of(estate: Estate, name: str) -> EstateShare:
    """The share of that name; BadInput otherwise."""
    found = next((s for s in estate.shares if s.name.lower() == name.strip().lower()), None)
    if found is None:
        raise BadInput(f"There is no share {name or 'without a name'}.", field="share")
    return found


def addresses(estate: Estate, share: EstateShare) -> list[Text]:
    """How each kind of client reaches it, through the host that mounts its volume."""
    volume = estate.volume(share.volume)
    return [
        text
        for m in estate.mounts_of(volume)
        for text in (
            Text("Hosts with drive letters", f"\\\\{m.host}\\{share.name}"),
            Text("Desktops that take an address", f"smb://{m.host}/{share.name}"),
            Text("Hosts that mount in folders", f"{m.host}:{'/'.join(p for p in (m.at, share.folder) if p)}"),
        )
    ]


def who_may(estate: Estate, share: EstateShare) -> dict[str, str]:
    """Each person with the right that counts: their own or their groups', the widest."""
    found: dict[str, str] = {}
    for name, may in share.rights:
        for person in estate.groups.get(name, (name,)):
            if found.get(person) != "write":
                found[person] = may
    return found


def _rights(estate: Estate, rights: tuple[str, ...]) -> tuple[tuple[str, str], ...]:
    known = {name.lower(): name for name, _ in estate.parties}
    found: dict[str, str] = {}
    for text in rights:
        name, _, may = text.strip().rpartition(":")
        if may not in RIGHTS or not name:
            raise BadInput(f"“{text}” is not a right; write NAME:read or NAME:write.", field="rights")
        if name.lower() not in known:
            raise BadInput(f"There is no person or group {name}; add them first.", field="rights")
        if found.setdefault(known[name.lower()], may) != may:
            raise BadInput(f"{name} is given both rights; writing includes reading.", field="rights")
    return tuple(sorted(found.items()))


def _quota(volume: EstateVolume, text: str) -> int | None:
    if not text.strip():
        return None
    quota = parse_size(text, field="quota")
    room = volume.size - volume.overhead
    if quota == 0:
        raise BadInput("A quota of zero lets nobody write; leave it empty for no limit.", field="quota")
    if quota > room:
        raise BadInput(
            f"{volume.ref} has {format_size(room)} for files; a quota of {format_size(quota)} is "
            f"{format_size(quota - room)} more.",
            field="quota",
        )
    if "folders" not in file_system_of(volume.file_system).quotas:
        raise BadInput(f"{volume.file_system} cannot limit a folder; leave the quota empty.", field="quota")
    return quota


def _bin(days: int) -> int | None:
    if not 0 <= days <= 3650:
        raise BadInput("Deleted files are kept for 1 to 3650 days, or 0 for not at all.", field="bin_days")
    return days or None


def _findings(estate: Estate, share: EstateShare) -> list[Finding]:
    found = []
    people = who_may(estate, share)
    writers = sorted(p for p, may in people.items() if may == "write")
    readers = sorted(p for p, may in people.items() if may == "read")
    found.append(Finding(f"May write: {', '.join(writers) or 'nobody'}. May read: {', '.join(readers) or 'nobody'}."))
    if not people:
        found.append(Finding("Nobody is given a right yet: it can be seen and not opened."))
    if not share.encrypted:
        found.append(Finding("The traffic is not encrypted: whoever listens on the network can read it."))
    for other in estate.shares:
        if other.volume == share.volume and other.name != share.name and (
            other.folder == share.folder or not other.folder or not share.folder
            or share.folder.startswith(other.folder + "/") or other.folder.startswith(share.folder + "/")
        ):  # fmt: skip
            found.append(Finding(f"Share {other.name} reaches the same files; its rights count there."))
    return found


def _figures(share: EstateShare, before: EstateShare | None) -> tuple[BeforeAfter, ...]:
    def size(quota: int | None) -> Figure:
        return Figure(bytes=quota) if quota else Figure(text="no limit")

    def days(one: EstateShare) -> str:
        return f"{one.bin_days} days" if one.bin_days else "not kept"

    def rights(one: EstateShare) -> str:
        return ", ".join(f"{n}: {m}" for n, m in one.rights) or "nobody"

    none = Figure(text="none")
    return (
        BeforeAfter("Rights", Figure(text=rights(before)) if before else none, Figure(text=rights(share))),
        BeforeAfter("Quota", size(before.quota) if before else none, size(share.quota)),
        BeforeAfter("Deleted files", Figure(text=days(before)) if before else none, Figure(text=days(share))),
        BeforeAfter("Traffic", Figure(text="encrypted" if before.encrypted else "open") if before else none,
                    Figure(text="encrypted" if share.encrypted else "open")),
    )  # fmt: skip


def make(estate: Estate, request: MakeShare) -> SharePlan:
    """The sheet for a new share."""
    volume = estate.volume(request.volume)
    name = check_name(request.name, "share", field="name")
    if any(s.name.lower() == name.lower() for s in estate.shares):
        raise BadInput(f"There is a share named {name} already.", code="name-taken", field="name")
    if not estate.mounts_of(volume):
        raise NotPossible(
            f"No host mounts {volume.ref}; mount it first, then its folders can be shared.",
            code="not-mounted",
            field="volume",
        )
    if all(m.read_only for m in estate.mounts_of(volume)) and any(r.endswith(":write") for r in request.rights):
        raise BadInput("The volume is mounted for reading only; nobody can be given writing.", field="rights")
    share = EstateShare(
        name, volume.ref, check_folder(request.folder), _quota(volume, request.quota), _bin(request.bin_days),
        request.encrypted, _rights(estate, request.rights),
    )  # fmt: skip
    sheet = simple_sheet(
        "make-share", f"Share {name}: {volume.ref}{'/' + share.folder if share.folder else ''}",
        check_purpose(request.purpose) or "A folder over the network.",
        figures=_figures(share, None), findings=_findings(estate, share), texts=addresses(estate, share),
        steps=(
            *((f"Make the folder {share.folder} on the volume.",) if share.folder else ()),
            f"Offer it as {name}, with the rights above.",
        ),
        meanwhile=("Nothing that exists is changed.",),
    )  # fmt: skip
    return SharePlan(sheet, share)


def change(estate: Estate, request: ChangeShare) -> SharePlan:
    """The sheet for another right, quota, bin or encryption."""
    before = share_of(estate, request.share)
    volume = estate.volume(before.volume)
    share = EstateShare(
        before.name, before.volume, before.folder, _quota(volume, request.quota), _bin(request.bin_days),
        request.encrypted, _rights(estate, request.rights), before.visitors,
    )  # fmt: skip
    lost = sorted(set(who_may(estate, before)) - set(who_may(estate, share)))
    here = [v for v in before.visitors if v in lost]
    cautions = (
        [f"{', '.join(lost)} can no longer reach it" + (f"; {', '.join(here)} is connected now." if here else ".")]
        if lost
        else []
    )
    if before.bin_days and not share.bin_days:
        cautions.append("What is in its bin is deleted for good.")
    sheet = simple_sheet(
        "change-share", f"Change share {before.name}", "What is given here stands in the place of what was.",
        figures=_figures(share, before), findings=_findings(estate, share), cautions=cautions,
        steps=("Write the new rights and limits; they hold at once.",),
    )  # fmt: skip
    return SharePlan(sheet, share, before)


def end(estate: Estate, request: EndShare) -> SharePlan:
    """The sheet for ending a share."""
    share = share_of(estate, request.share)
    cautions = [f"{', '.join(share.visitors)} is connected now and is cut off."] if share.visitors else []
    sheet = simple_sheet(
        "end-share", f"End share {share.name}", f"Its files stay on {share.volume}.", cautions=cautions,
        # What goes: a share that is changed meanwhile is not the one this sheet was about.
        figures=_figures(replace(share, rights=(), quota=None, bin_days=None), share),
        steps=("Cut off who is connected.", "No longer offer it."), confirm=share.name,
    )  # fmt: skip
    return SharePlan(sheet, share, share)


def _members(estate: Estate, members: tuple[str, ...]) -> tuple[str, ...]:
    people = {name.lower(): name for name, inside in estate.parties if inside is None}
    found = []
    for member in members:
        if member.strip().lower() not in people:
            raise BadInput(f"There is no person {member}; add them first.", field="members")
        found.append(people[member.strip().lower()])
    return tuple(dict.fromkeys(found))


def add_party(estate: Estate, request: AddParty) -> PartyPlan:
    """The sheet for a new person or group."""
    name = check_name(request.name, "group" if request.members else "person", field="name")
    if any(n.lower() == name.lower() for n, _ in estate.parties):
        raise BadInput(f"There is a person or group {name} already.", code="name-taken", field="name")
    members = _members(estate, request.members) or None
    sheet = simple_sheet(
        "add-party", f"Add {'group' if members else 'person'} {name}",
        f"With {', '.join(members)}." if members else "Rights on shares can be given to them.",
        steps=("Write them into the books.",),
    )  # fmt: skip
    return PartyPlan(sheet, name, members)


def set_members(estate: Estate, request: SetMembers) -> PartyPlan:
    """The sheet for who is in a group."""
    groups = {n.lower(): (n, m) for n, m in estate.parties if m is not None}
    if request.group.strip().lower() not in groups:
        raise BadInput(f"There is no group {request.group}.", field="group")
    name, before = groups[request.group.strip().lower()]
    members = _members(estate, request.members)
    sheet = simple_sheet(
        "set-members", f"Members of group {name}", "They get the rights that the group has on shares.",
        figures=(BeforeAfter("Members", Figure(text=", ".join(before or ()) or "nobody"), Figure(text=", ".join(members) or "nobody")),),
        steps=("Write it into the books; it holds at once.",),
    )  # fmt: skip
    return PartyPlan(sheet, name, members)

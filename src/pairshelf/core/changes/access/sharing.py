"""What all changes of shares and of people have in common: who may do what, and what is found beforehand."""

from __future__ import annotations

from dataclasses import dataclass

from pairshelf.core.changes.sheet import BeforeAfter, ChangeSheet, Figure, Finding, Text
from pairshelf.core.domain.estate import Estate, EstateShare, EstateVolume
from pairshelf.core.domain.file_systems import file_system_of
from pairshelf.core.domain.units import format_size, parse_size
from pairshelf.core.errors import BadInput, NotFound

RIGHTS = ("read", "write")


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
        raise NotFound("share", name or "without a name", field="share")
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


def read_rights(estate: Estate, rights: tuple[str, ...]) -> tuple[tuple[str, str], ...]:
    known = {name.lower(): name for name, _ in estate.parties}
    found: dict[str, str] = {}
    for text in rights:
        name, _, may = text.strip().rpartition(":")
        if may not in RIGHTS or not name:
            raise BadInput(f"“{text}” is not a right; write NAME:read or NAME:write.", field="rights")
        if name.lower() not in known:
            raise NotFound("person or group", name, field="rights", hint="Add them first.")
        if found.setdefault(known[name.lower()], may) != may:
            raise BadInput(f"{name} is given both rights; writing includes reading.", field="rights")
    return tuple(sorted(found.items()))


def read_quota(volume: EstateVolume, text: str) -> int | None:
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


def read_bin(days: int) -> int | None:
    if not 0 <= days <= 3650:
        raise BadInput("Deleted files are kept for 1 to 3650 days, or 0 for not at all.", field="bin_days")
    return days or None


def quota_said(share: EstateShare, taken: int) -> tuple[str, ...]:
    """What is to be known of a quota where more than that lies in the folder already."""
    if share.quota is None or taken <= share.quota:
        return ()
    return (
        f"Its folder holds more than {format_size(share.quota)} already: nothing can be written there until that is "
        "less.",
    )


def share_findings(estate: Estate, share: EstateShare) -> list[Finding]:
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


def share_figures(share: EstateShare, before: EstateShare | None) -> tuple[BeforeAfter, ...]:
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


def read_members(estate: Estate, members: tuple[str, ...]) -> tuple[str, ...]:
    people = {name.lower(): name for name, inside in estate.parties if inside is None}
    found = []
    for member in members:
        if member.strip().lower() not in people:
            raise NotFound("person", member, field="members", hint="Add them first.")
        found.append(people[member.strip().lower()])
    return tuple(dict.fromkeys(found))

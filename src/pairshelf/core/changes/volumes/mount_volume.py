"""Mounting a volume on a host."""

from __future__ import annotations

from dataclasses import dataclass

from pairshelf.core.changes.kind import ChangeKind, Context
from pairshelf.core.changes.sheet import ChangeSheet, Finding, Text, simple_sheet
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.estate import Estate, EstateMount
from pairshelf.core.domain.mounting import MountLine, aside_name, in_order, inside, mount_folders, plan_mount
from pairshelf.core.domain.units import format_size
from pairshelf.core.errors import Locked, NotPossible


@dataclass(frozen=True, slots=True)
class MountVolume:
    """An entry in a host's mount table."""

    volume: str
    host: str
    mount_point: str
    read_only: bool = False
    #: Note the time of every reading.
    access_times: bool = False
    #: The host refuses to start without it.
    required: bool = False
    #: Move what lies in the folder aside.
    move_aside: bool = False


@dataclass(frozen=True, slots=True)
class MountPlan:
    """The entry that is written, or taken out."""

    sheet: ChangeSheet
    line: MountLine
    #: The entry there is, when it is taken out.
    entry: EstateMount | None = None


def plan(estate: Estate, request: MountVolume) -> MountPlan:
    """The sheet for mounting."""
    volume = estate.volume(request.volume)
    pool = estate.pool_named(volume.pool)
    if pool.locked:
        raise Locked(pool.name)
    if volume.bare:
        raise NotPossible("It has no file system to mount; give it one, or serve it as a block target.", code="bare")
    if any(v == volume.ref for t in estate.targets for _, v in t.luns):
        raise NotPossible(
            "A block target serves it; written from two sides at once, its files would be destroyed.", code="in-use"
        )
    elsewhere = [m for m in estate.mounts_of(volume) if m.host != request.host.strip()]
    if elsewhere:
        raise NotPossible(
            f"{elsewhere[0].host} mounts it already, and {volume.file_system} may be mounted by one host at a time. "
            "Share it over the network instead.",
            code="mounted-elsewhere", field="host",
        )  # fmt: skip
    line = plan_mount(
        estate, request.host, volume.ref, request.mount_point, volume.file_system, uuid=volume.uuid,
        read_only=request.read_only, access_times=request.access_times, required=request.required,
        move_aside=request.move_aside,
    )  # fmt: skip
    own = [
        MountLine(m.host, m.volume, m.at, estate.volume(m.volume).file_system, estate.volume(m.volume).uuid,
                  m.read_only, m.access_times, m.required)
        for m in estate.mounts if m.host == line.host
    ]  # fmt: skip
    findings = []
    if outer := [m.at for m in own if inside(line.at, m.at)]:
        findings.append(Finding(f"The folder {line.at} lies inside {max(outer, key=len)}, which is mounted before it."))
    elif line.aside:
        entries = "one entry" if len(line.aside) == 1 else f"{len(line.aside)} entries"
        size = format_size(sum(e.size for e in line.aside))
        findings.append(Finding(f"The folder {line.at} holds {entries}, {size}, moved to {aside_name(line.at)}."))
    elif not line.letter:
        findings.append(Finding(f"The folder {line.at} is {'made' if line.makes_folder else 'there and is empty'}."))
    table = "\n".join(m.text() for m in in_order([*own, line]) if m.by_table)
    sheet = simple_sheet(
        "mount-volume", f"Mount {volume.ref} on {line.host} at {line.at}",
        "By the UUID of its file system: a name that stays when drives move and when labels are double.",
        steps=line.steps(), meanwhile=line.explained(), findings=findings, role="operator",
        texts=(
            Text("The line for the mount table" if line.by_table else "The letter" if line.letter else "The folder", line.text()),
            *((Text(f"The mount table of {line.host}, outer folders first", table),) if len(own) and table else ()),
        ),
    )  # fmt: skip
    return MountPlan(sheet, line)


def context(request: MountVolume) -> Context:
    """What the plan is made on, and what is held while it is carried out."""
    return Context(
        volumes=(request.volume,), hosts=(request.host,), folders=mount_folders(request.host, [request.mount_point]),
    )  # fmt: skip


KIND = ChangeKind("mount-volume", Act.MANAGE_VOLUMES, MountVolume, context, plan)

"""Unmounting a volume."""

from __future__ import annotations

from dataclasses import dataclass

from pairshelf.core.changes.kind import ChangeKind, Context
from pairshelf.core.changes.sheet import Text, simple_sheet
from pairshelf.core.changes.volumes.mount_volume import MountPlan
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.estate import Estate
from pairshelf.core.domain.mounting import MountLine, inside
from pairshelf.core.errors import BadInput, NotPossible


@dataclass(frozen=True, slots=True)
class UnmountVolume:
    """Take an entry out of a host's mount table."""

    host: str
    mount_point: str


def plan(estate: Estate, request: UnmountVolume) -> MountPlan:
    """The sheet for unmounting."""
    at = request.mount_point.strip()
    entry = next((m for m in estate.mounts if (m.host, m.at) == (request.host.strip(), at)), None)
    if entry is None:
        raise BadInput(f"{request.host} mounts nothing at {at}.", field="mount_point")
    if within := [m for m in estate.mounts if m.host == entry.host and inside(m.at, entry.at)]:
        raise NotPossible(
            f"{within[0].at} is mounted inside it; unmount that first.", code="in-use", field="mount_point"
        )
    users = [
        a.name for a in estate.applications
        if a.host == entry.host and a.running and (a.folder == entry.at or inside(a.folder, entry.at))
    ]  # fmt: skip
    if users:
        raise NotPossible(
            f"{', '.join(users)} writes there; move it or stop it first.", code="in-use", field="mount_point"
        )
    volume = estate.volume(entry.volume)
    line = MountLine(entry.host, entry.volume, at, volume.file_system, volume.uuid, entry.read_only,
                     entry.access_times, entry.required)  # fmt: skip
    sheet = simple_sheet(
        "unmount-volume", f"Unmount {volume.ref} from {entry.host}, {entry.at}",
        "Its files stay as they are and can be mounted again.", role="operator",
        steps=("Write everything out.", f"Unmount it, and take the line out of the mount table of {entry.host}."),
        texts=(Text("The line that goes", line.text()),),
        meanwhile=("What is written to the folder from now on lies on the host's own disk.",),
    )  # fmt: skip
    return MountPlan(sheet, line, entry)


def context(request: UnmountVolume) -> Context:
    """What the plan is made on, and what is held while it is carried out."""
    return Context(hosts=(request.host,))


KIND = ChangeKind("unmount-volume", Act.MANAGE_VOLUMES, UnmountVolume, context, plan)

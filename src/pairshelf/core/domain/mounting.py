"""Mounting: by the UUID of the file system, in the right order, onto folders that are there and empty."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from pairshelf.core.domain.estate import Entry, Estate
from pairshelf.core.domain.names import as_path, check_mount_point, on_letter
from pairshelf.core.domain.units import format_size
from pairshelf.core.errors import BadInput, NotPossible

#: Folders of a host's own system that a volume would hide.
SYSTEM_FOLDERS = frozenset(
    (
        "/bin",
        "/boot",
        "/dev",
        "/etc",
        "/lib",
        "/proc",
        "/root",
        "/run",
        "/sbin",
        "/sys",
        "/tmp",  # noqa: S108 - a name; nothing is written there
        "/usr",
        "/var",
        "/home",
    )
)


@dataclass(frozen=True, slots=True)
class MountLine:
    """One entry of a host's mount table."""

    host: str
    volume: str
    at: str
    file_system: str
    uuid: str | None = None
    read_only: bool = False
    access_times: bool = False
    required: bool = False
    #: What lies in the folder now and is moved aside.
    aside: tuple[Entry, ...] = ()
    #: Whether the folder has to be made.
    makes_folder: bool = False

    @property
    def letter(self) -> bool:
        """Whether it is a drive letter."""
        return self.at.endswith(":")

    @property
    def by_table(self) -> bool:
        """Whether its host keeps a mount table of lines: one with drive letters keeps the volume's own number."""
        return not on_letter(self.at)

    def options(self) -> str:
        """The options of its line."""
        chosen = ["ro"] if self.read_only else []
        chosen += [] if self.access_times else ["noatime"]
        chosen += [] if self.required else ["nofail"]
        return ",".join(chosen) or "defaults"

    def text(self) -> str:
        """The line for the host's mount table (the six fields of fstab): by UUID, never by a path or label."""
        uuid = self.uuid or "(of the new file system)"
        if not self.by_table:
            return f"{self.at} is the volume with UUID {uuid}"
        return f"UUID={uuid} {self.at} {self.file_system} {self.options()} 0 {0 if self.file_system in ('xfs', 'btrfs') else 2}"

    def explained(self) -> list[str]:
        """Each option in a sentence."""
        if not self.by_table:
            return ["It can be read only." if self.read_only else "It can be read and written."]
        return [
            "It can be read only." if self.read_only else "It can be read and written.",
            "Reading a file notes the time of it, which writes." if self.access_times
            else "Reading a file does not note the time of it: fewer writes.",
            f"{self.host} does not start without it." if self.required
            else f"{self.host} starts without it when it is absent; the empty folder is closed, so nothing can be "
            "written underneath meanwhile.",
        ]  # fmt: skip

    def steps(self) -> list[str]:
        """What is done on the host."""
        if self.letter:
            return [f"Give it the letter {self.at} on {self.host}."]
        return [
            *([f"Make the folder {self.at} on {self.host}."] if self.makes_folder else []),
            *([f"Move what lies in {self.at} aside, to {aside_name(self.at)}."] if self.aside else []),
            *([] if self.required else [f"Close the empty folder {self.at}, so that nothing is written underneath."]),
            f"Write the line into the mount table of {self.host}, and mount it."
            if self.by_table
            else f"Mount it there on {self.host}, by its UUID.",
        ]


def aside_name(path: str) -> str:
    """Where a folder's contents go."""
    return f"{path}.aside"


def mount_folders(host: str, points: Iterable[str]) -> tuple[tuple[str, str], ...]:
    """The folders to look into, (host, path), before something is mounted there: each, and what stands aside of it."""
    wanted = [as_path(p) for p in points]
    return tuple((host.strip(), path) for p in wanted if p and host.strip() for path in (p, aside_name(p)))


def inside(path: str, outer: str) -> bool:
    """Whether a path lies inside another. Behind a drive letter, large and small letters are the same."""
    if on_letter(path) and on_letter(outer):
        path, outer = path.lower(), outer.lower()
    return path != outer and path.startswith(outer.rstrip("/") + "/")


def in_order(lines: Sequence[MountLine]) -> list[MountLine]:
    """Outer mounts before what is mounted inside them."""
    return sorted(lines, key=lambda m: (m.at.count("/"), m.at))


def plan_mount(
    estate: Estate, host_name: str, volume: str, at: str, file_system: str, *, uuid: str | None = None,
    read_only: bool = False, access_times: bool = False, required: bool = False, move_aside: bool = False,
    also: Sequence[MountLine | None] = (),
) -> MountLine:  # fmt: skip
    """The entry, or BadInput at the field. ``also`` are entries planned before it."""
    host = estate.host(host_name)
    at = check_mount_point(at)
    letter = at.endswith(":")
    if host.letters != on_letter(at):
        raise BadInput(
            f"{host.name} names volumes by drive letters, such as S:, or mounts them in folders such as C:/scans."
            if host.letters
            else f"{host.name} mounts volumes in folders, such as /srv/scans.",
            field="mount_point",
        )  # fmt: skip
    if host.letters and file_system not in ("ntfs",):
        raise BadInput(f"{host.name} reads ntfs; make the volume's file system ntfs.", field="mount_point")
    there = [(m.at, m.volume) for m in estate.mounts if m.host == host.name]
    there += [(m.at, m.volume) for m in also if m and m.host == host.name]
    for other, what in there:
        if other == at or (on_letter(at) and other.lower() == at.lower()):
            raise BadInput(f"{host.name} mounts {what} at {at} already.", code="taken", field="mount_point")
        if what == volume and (inside(at, other) or inside(other, at)):
            raise BadInput(
                f"{volume} is mounted at {other} already; mounted inside itself it would go round in a circle.",
                field="mount_point",
            )
        if not letter and inside(other, at):
            raise NotPossible(
                f"{what} is mounted inside, at {other}; it would be hidden. Unmount it, mount this, then mount it again.",
                code="would-hide", field="mount_point",
            )  # fmt: skip
    if letter:
        return MountLine(host.name, volume, at, file_system, uuid, read_only, access_times, required)
    if at in SYSTEM_FOLDERS:
        raise BadInput(
            f"{at} belongs to the system of {host.name}; choose a folder such as /srv/scans.", field="mount_point"
        )
    within = any(inside(at, other) for other, _ in there)
    entries = () if within else estate.entries(host.name, at)
    if entries and not move_aside:
        shown = ", ".join(f"{e.name}{'/' if e.folder else f' ({format_size(e.size)})'}" for e in entries[:5])
        more = f" and {len(entries) - 5} more" if len(entries) > 5 else ""
        raise NotPossible(
            f"{at} on {host.name} is not empty: {shown}{more}. Mounted over, they would be hidden and keep their room. "
            f"Have them moved aside to {aside_name(at)}, or choose another folder.",
            code="not-empty", field="mount_point",
        )  # fmt: skip
    if entries and estate.entries(host.name, aside_name(at)):
        raise NotPossible(
            f"{aside_name(at)} is there already; see to it first.", code="aside-taken", field="mount_point"
        )
    return MountLine(
        host.name, volume, at, file_system, uuid, read_only, access_times, required, entries or (), entries is None
    )

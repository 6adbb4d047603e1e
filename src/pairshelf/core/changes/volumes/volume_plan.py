"""What all changes of one volume have in common."""

from __future__ import annotations

from dataclasses import dataclass

from pairshelf.core.changes.sheet import ChangeSheet
from pairshelf.core.domain.estate import Estate, EstatePool, EstateVolume
from pairshelf.core.domain.file_systems import overhead
from pairshelf.core.domain.partitions import Part, Table
from pairshelf.core.domain.units import format_size
from pairshelf.core.domain.volume_spec import Spec
from pairshelf.core.domain.words import as_sentence, every
from pairshelf.core.errors import Locked, NotPossible, NotServing, reason_of
from pairshelf.core.layouts.protections import parse_protection


@dataclass(frozen=True, slots=True)
class VolumePlan:
    """One volume as it is, and as it will be."""

    sheet: ChangeSheet
    volume: EstateVolume
    after: Spec
    #: Of a partition: the table of its drive afterwards.
    table: Table | None = None


def serving(pool: EstatePool) -> None:
    """NotPossible while a pool's data cannot be reached."""
    if pool.state in ("lost", "unreachable"):
        raise NotServing(pool.name, pool.state, "nothing can be changed in it now")
    if pool.locked:
        raise Locked(pool.name)


def why_closed(pool: EstatePool) -> str | None:
    """Why nothing can be changed in a pool, or None if it can."""
    return reason_of(serving, pool)


def require_unused(estate: Estate, volume: EstateVolume) -> None:
    """NotPossible while something stands on a volume."""
    if users := users_of(estate, volume):
        raise NotPossible(f"It is in use: {'; '.join(users)}. End that first.", code="in-use", field="volume")


def why_in_use(estate: Estate, volume: EstateVolume) -> str | None:
    """Why a volume cannot be given up, or None if nothing stands on it."""
    return reason_of(require_unused, estate, volume)


def serving_pool_of(estate: Estate, volume: EstateVolume) -> EstatePool:
    pool = estate.pool_named(volume.pool)
    serving(pool)
    return pool


def partition_of(pool: EstatePool, volume: EstateVolume) -> tuple[Table, Part] | None:
    """The table and the entry of a volume that is a partition."""
    if pool.table is None or volume.partition is None:
        return None
    return pool.table, pool.table.part(volume.partition)


def inside_of(pool: EstatePool, table: Table | None, volume: EstateVolume) -> int | None:
    """The whole extents inside a partition, as a table has it; None for what is no partition."""
    if table is None or volume.partition is None:
        return None
    return table.part(volume.partition).extents(table.sector, pool.layout.members[0].size)[1]


def spec_of(
    volume: EstateVolume, *, name: str | None = None, size: int | None = None, inside: int | None = None
) -> Spec:
    """A volume with another name or size; its file system's overhead worked out anew."""
    size = volume.size if size is None else size
    held = overhead(volume.file_system, size, volume.reserved_share)
    own = parse_protection(volume.protection) if volume.protection else None
    return Spec(
        name or volume.name,
        size,
        volume.thin,
        volume.file_system,
        volume.reserved_share,
        held,
        volume.purpose,
        own,
        inside,
    )


def files_given_up(volume: EstateVolume) -> tuple[str, ...]:
    if volume.bare:
        return (
            f"Whatever hosts wrote on volume {volume.ref}: it has no file system, so nothing here can say what that is.",
        )
    if not volume.files:
        return (f"Nothing is lost: volume {volume.ref} holds no files.",)
    return (as_sentence(f"{every(volume.files, 'file')} of volume {volume.ref}, {format_size(volume.files_bytes)}."),)


def backup_said(estate: Estate, volume: EstateVolume) -> tuple[str, ...]:
    """What is to be known of a volume's backup before what is on it goes; nothing where it holds no files."""
    if not volume.files and not volume.bare:
        return ()
    found = estate.backup_of(volume)
    if found is None:
        return (f"No backup of {volume.ref} is recorded: what is on it is nowhere else.",)
    said = f"; that it is there was last said on {found.said_on} by {found.said_by}" if found.said_on else ""
    return (f"Its backup, {found.place}, is of {found.of}{said}: what was written since is in no backup.",)


def users_of(estate: Estate, volume: EstateVolume) -> list[str]:
    """What stands on a volume, in words."""
    found = [f"{m.host} mounts it at {m.at}" for m in estate.mounts_of(volume)]
    found += [f"share {s.name} is on it" for s in estate.shares if s.volume == volume.ref]
    found += [f"target {t.iqn} serves it" for t in estate.targets if any(v == volume.ref for _, v in t.luns)]
    found += [f"{a.name} on {a.host} writes to it" for a in estate.applications if a.volume == volume.ref]
    return found

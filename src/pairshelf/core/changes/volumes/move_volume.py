"""A volume moved to another pool while it is used: copied, kept up with, compared, and switched over with all that hangs
on it."""

from __future__ import annotations

from dataclasses import dataclass, replace

from pairshelf.core.changes.kind import ChangeKind, Context
from pairshelf.core.changes.sheet import BeforeAfter, ChangeSheet, Figure, Takes, pool_effect, simple_sheet, together
from pairshelf.core.changes.volumes.volume_plan import serving, serving_pool_of, users_of
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.estate import Estate, EstatePool, EstateVolume
from pairshelf.core.domain.file_systems import FILE_SYSTEMS
from pairshelf.core.domain.units import EXTENT, format_size
from pairshelf.core.domain.volume_spec import Spec, check_size, plan_volume
from pairshelf.core.errors import BadInput, Busy, NotPossible
from pairshelf.core.figures.durations import at_rate
from pairshelf.core.figures.speed import sequential_read, sequential_write
from pairshelf.core.layouts import Layout
from pairshelf.core.layouts.protections import parse_protection
from pairshelf.core.policies.beside import Under, refused


@dataclass(frozen=True, slots=True)
class MoveVolume:
    """Move a volume to another pool while it is used; mounts, shares, targets and rules follow."""

    volume: str
    #: The pool it goes to.
    pool: str
    #: Its name there; empty: the same.
    name: str = ""
    #: In a spread pool: copies-2, copies-3, parity-1:W, parity-2:W.
    protection: str = ""
    #: Empty: the same. Another one is copied file by file.
    file_system: str = ""
    #: thick or thin; empty: as it is. The other is copied file by file.
    provision: str = ""
    #: Whether the source is kept, with its files, as a volume that nothing uses.
    keep: bool = False


@dataclass(frozen=True, slots=True)
class MoveVolumePlan:
    """The volume, where it goes, and how."""

    sheet: ChangeSheet
    volume: EstateVolume
    source: EstatePool
    target: EstatePool
    spec: Spec
    by_files: bool
    keep: bool
    seconds: float


def moving_seconds(source: Layout, target: Layout, extents: int) -> float:
    """The drives' time to copy so many extents from one pool to another and to compare them: the slower counts."""
    read = sequential_read(source)
    return extents * EXTENT * (1 / min(read, sequential_write(target)) + 1 / min(read, sequential_read(target)))


def plan(estate: Estate, request: MoveVolume) -> MoveVolumePlan:
    """The sheet. Raises where there is no room, or the target is none, naming the field."""
    volume = estate.volume(request.volume)
    source = serving_pool_of(estate, volume)
    target = estate.pool_named(request.pool)
    if target.id == source.id:
        raise BadInput(f"{volume.ref} is in {target.name} already; choose another pool.", field="pool")
    serving(target)
    if target.table is not None:
        raise NotPossible(
            f"{target.name} is a drive divided into partitions; it takes no volumes.", code="divided", field="pool"
        )
    if volume.partition is not None and not request.keep:
        raise BadInput(
            "It is a partition: keep it, and delete the partition when what is on it has arrived.", field="keep"
        )
    if found := refused(Under("move-volume", volume.id), source.under_way):
        raise Busy(found.said, job=None, kind="move-volume", code=found.code)
    spec = _spec(estate, request, volume, target)
    by_files = spec.file_system != volume.file_system or spec.thin != volume.thin
    if spec.file_system != volume.file_system and not volume.bare:
        _require_fitting(estate, volume, spec.file_system)
    if by_files and volume.bare:
        raise NotPossible(
            f"{volume.ref} is bare: what is on it is not made of files that we know, so it stays bare, and as it is provided.",
            code="bare", field="provision" if spec.thin != volume.thin else "file_system",
        )  # fmt: skip
    room = target.largest(spec.protection.name if spec.protection else None)
    check_size(spec.size, room, thin=spec.thin, field="pool")
    extents = -(-volume.files_bytes // EXTENT) if by_files else _stored(volume)
    if spec.thin and extents * EXTENT > room:
        raise BadInput(
            f"{target.name} has room for {format_size(room)}, and {format_size(extents * EXTENT)} are written.",
            field="pool",
        )
    if by_files and volume.files_bytes > spec.for_files:
        raise BadInput(
            f"Its files take {format_size(volume.files_bytes)}; {spec.file_system} leaves {format_size(spec.for_files)} of "
            f"{format_size(spec.size)}.", field="file_system",
        )  # fmt: skip
    seconds = moving_seconds(source.layout, target.layout, extents)
    # A thin one takes there what is written to it.
    taken = spec.pool_use if not spec.thin else replace(spec, size=extents * EXTENT, thin=False).pool_use
    sheet = _sheet(estate, request, volume, source, target, spec, seconds, taken, by_files=by_files)
    return MoveVolumePlan(sheet, volume, source, target, spec, by_files, request.keep, seconds)


def _stored(volume: EstateVolume) -> int:
    """Extents that are copied: all of a thick one, what was written of a thin one."""
    return volume.written if volume.thin else -(-volume.size // EXTENT)


def _spec(estate: Estate, request: MoveVolume, volume: EstateVolume, target: EstatePool) -> Spec:
    provision = request.provision.strip().lower()
    if provision not in ("", "thick", "thin"):
        raise BadInput("It is thick or thin.", field="provision")
    thin = volume.thin if not provision else provision == "thin"
    system = request.file_system.strip() or volume.file_system
    taken = [v.name for v in estate.volumes if v.pool == target.name]
    spec = plan_volume(
        request.name.strip() or volume.name, volume.size, system,
        volume.reserved_share if system == volume.file_system else None, thin=thin, purpose=volume.purpose,
        protection=request.protection, spread=target.spread, taken=taken,
    )  # fmt: skip
    # Copied extent by extent it holds what it held, whatever would be made of it now.
    return replace(spec, overhead=volume.overhead) if (system, thin) == (volume.file_system, volume.thin) else spec


def _require_fitting(estate: Estate, volume: EstateVolume, file_system: str) -> None:
    """Whoever uses it has to be able to with another file system."""
    if file_system == "none":
        raise BadInput(
            "What is on it is files, and a bare volume holds none; choose a file system.", field="file_system"
        )
    hosts = {h.name: h for h in estate.machines}
    for mount in estate.mounts_of(volume):
        host = hosts.get(mount.host)
        if host is not None and host.letters and file_system != "ntfs":
            raise BadInput(f"{mount.host} mounts it, and takes ntfs alone.", field="file_system")
    quota = any(s.volume == volume.ref and s.quota for s in estate.shares)
    if quota and "folders" not in FILE_SYSTEMS[file_system].quotas:
        raise BadInput(f"A share on it has a quota, and {file_system} cannot limit a folder.", field="file_system")


def _sheet(
    estate: Estate, request: MoveVolume, volume: EstateVolume, source: EstatePool, target: EstatePool, spec: Spec,
    seconds: float, taken: int, *, by_files: bool,
) -> ChangeSheet:  # fmt: skip
    back = 0 if request.keep else volume.placed
    users = users_of(estate, volume)
    of_drives = " (drives' capacity)"
    return simple_sheet(
        "move-volume", f"Move volume {volume.ref} to pool {target.name}",
        f"It stays in use meanwhile{f', and is {spec.name} there' if spec.name != volume.name else ''}.",
        figures=(
            BeforeAfter("Pool", Figure(text=source.name), Figure(text=target.name)),
            BeforeAfter("Size", Figure(bytes=volume.size), Figure(bytes=spec.size)),
            BeforeAfter("Left for files", Figure(bytes=volume.size - volume.overhead), Figure(bytes=spec.for_files)),
            *((BeforeAfter("File system", Figure(text=volume.file_system), Figure(text=spec.file_system)),)
              if spec.file_system != volume.file_system else ()),
            *((BeforeAfter("Provided", Figure(text="thin" if volume.thin else "thick"), Figure(text="thin" if spec.thin else "thick")),)
              if spec.thin != volume.thin else ()),
            BeforeAfter(f"Left in {target.name}{of_drives if target.spread else ''}",
                        Figure(bytes=target.free * EXTENT), Figure(bytes=(target.free - taken) * EXTENT)),
            BeforeAfter(f"Left in {source.name}{of_drives if source.spread else ''}",
                        Figure(bytes=source.free * EXTENT), Figure(bytes=(source.free + back) * EXTENT)),
        ),
        takes=(Takes.of("Copying and comparing", at_rate(seconds)),),
        effect=together(pool_effect(target.spread, given=taken * EXTENT), pool_effect(source.spread, given=-back * EXTENT)),
        meanwhile=(
            "Reading and writing go on. What is written meanwhile is copied again, until nothing is behind.",
            "When all is compared it is switched over in one step; whoever writes just then waits for a moment. If it is "
            "written to faster than it is copied, what is left is copied in that step, and the moment is longer.",
            *(("It is copied file by file, since extents of another file system, or otherwise provided, are not the same.",)
              if by_files else ("It is copied extent by extent, with its file system and its UUID.",)),
            "Until the switch the source is what counts: it can be paused, or left off, and nothing has changed. Power may go "
            "off; it goes on where it stopped.",
        ),
        fixed=(
            *((f"Follows to {target.name}: {one}.") for one in users),
            f"{volume.ref} stays, with its files, and nothing uses it." if request.keep
            else f"{volume.ref} is deleted once everything has been compared and switched over; its capacity is free again.",
        ),
        steps=(
            f"Take {format_size(spec.size)} from {target.name}." if not spec.thin else f"Note in {target.name} the size it may grow to.",
            "Copy, keep up with what is written, compare checksums.",
            "Switch over: mounts, shares, targets, rules and backups name the new one.",
            "Keep the source." if request.keep else "Delete the source.",
        ),
        cautions=(
            *((f"{target.name} promises less than {source.name}: it survives "
               f"{_survives(target, spec)} failures instead of {_survives(source, None, volume)}.",)
              if _survives(target, spec) < _survives(source, None, volume) else ()),
            *((f"{target.name} is not encrypted, and {source.name} is.",) if source.encrypted and not target.encrypted else ()),
        ),
    )  # fmt: skip


def _survives(pool: EstatePool, spec: Spec | None, volume: EstateVolume | None = None) -> int:
    """Failures that a volume in a pool survives."""
    if spec is not None and spec.protection is not None:
        return spec.protection.survives
    if volume is not None and volume.protection:
        return parse_protection(volume.protection).survives
    return pool.layout.scheme.survives


def context(request: MoveVolume) -> Context:
    """What the plan is made on, and what is held while it is carried out."""
    return Context(volumes=(request.volume,), pools=(request.pool,))


KIND = ChangeKind("move-volume", Act.BUILD_POOLS, MoveVolume, context, plan)

"""Build a pool on free drives, with one first volume (thick) on it."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass, replace

from pairshelf.core.assess import assess
from pairshelf.core.assumptions import Assumptions
from pairshelf.core.changes.sheet import BeforeAfter, ChangeSheet, Erased, Figure, Takes
from pairshelf.core.errors import BadInput, NotPossible
from pairshelf.core.estate import Estate, EstateDrive
from pairshelf.core.figures.durations import first_sync, slowest_rebuild
from pairshelf.core.figures.survival import survival
from pairshelf.core.file_systems import file_system_of, overhead
from pairshelf.core.layouts import Layout, build_layout
from pairshelf.core.layouts.registry import trade_name
from pairshelf.core.names import check_mount_point, check_name
from pairshelf.core.search import describe
from pairshelf.core.units import EXTENT, format_duration, format_size


@dataclass(frozen=True, slots=True)
class Request:
    """The pool and its first volume. ``drives`` in the order of sets, the last ``spares`` held back."""

    name: str
    scheme: str
    drives: tuple[int, ...]
    sets: int
    spares: int
    volume: str
    #: Bytes; None takes the largest that fits.
    volume_size: int | None = None
    file_system: str = "ext4"
    reserved_share: float | None = None
    mount_point: str | None = None
    host: str | None = None


@dataclass(frozen=True, slots=True)
class Plan:
    """What will be built, and the sheet that says so."""

    sheet: ChangeSheet
    layout: Layout
    request: Request
    volume_size: int
    volume_extents: int
    overhead: int


def plan(estate: Estate, request: Request) -> Plan:
    """The sheet for building this pool. Raises where it cannot be built, naming the field."""
    request = _checked(estate, request)
    drives = _offered(estate, request.drives)
    layout = build_layout([d.as_drive for d in drives], request.scheme, sets=request.sets, spares=request.spares)
    capacity = layout.data_extents * EXTENT
    size = capacity if request.volume_size is None else request.volume_size
    if size > capacity:
        raise BadInput(
            f"The pool holds {format_size(capacity)} ({capacity} bytes); the volume is "
            f"{format_size(size - capacity)} too large.",
            field="volume_size",
        )
    held = overhead(request.file_system, size, request.reserved_share)
    if size < EXTENT or size - held <= 0:
        raise BadInput("The volume is too small to hold its file system; give it at least 1 GiB.", field="volume_size")
    sheet = _sheet(request, drives, layout, size, held)
    return Plan(sheet, layout, request, size, -(-size // EXTENT), held)


def _checked(estate: Estate, request: Request) -> Request:
    name = check_name(request.name, "pool", field="name")
    if name.lower() in estate.pool_names:
        raise BadInput(f"There is a pool named {name} already.", code="name-taken", field="name")
    mount = check_mount_point(request.mount_point) if request.mount_point else None
    if request.host and request.host not in estate.hosts:
        raise BadInput(f"There is no host named {request.host}.", field="host")
    if mount and not request.host:
        raise BadInput("Choose the host that mounts the volume, or leave the mount point empty.", field="host")
    if mount and (request.host, mount) in estate.mount_points:
        raise BadInput(f"{request.host} mounts another volume at {mount} already.", field="mount_point")
    file_system_of(request.file_system)
    volume = check_name(request.volume, "volume", field="volume")
    return replace(request, name=name, volume=volume, mount_point=mount)


def _offered(estate: Estate, ids: tuple[int, ...]) -> list[EstateDrive]:
    drives = []
    for drive_id, count in Counter(ids).items():
        drive = estate.drive(drive_id)
        if drive is None:
            raise NotPossible(f"Drive {drive_id} is not there any more.", code="drive-gone", field="drives")
        if count > 1:
            raise BadInput(f"{drive.place} is chosen twice.", field="drives")
        if reason := drive.why_not_offered():
            raise NotPossible(f"{drive.place} ({drive.serial}): {reason}", code="drive-not-free", field="drives")
        drives.append(drive)
    return drives


def _sheet(request: Request, drives: list[EstateDrive], layout: Layout, size: int, held: int) -> ChangeSheet:
    survives = survival(layout)
    capacity = layout.data_extents * EXTENT
    named = trade_name(layout.scheme, len(layout.sets))
    scheme = f"{request.scheme} ({named})" if named else request.scheme
    sync = first_sync(layout)
    where = f", mounted by {request.host} at {request.mount_point}" if request.mount_point else ""
    spare_count = len(layout.spares)
    return ChangeSheet(
        kind="build-pool",
        title=f"Build pool {request.name}",
        why=f"{describe(layout)[0].upper()}{describe(layout)[1:]} as {scheme}, with a first volume {request.volume}.",
        figures=(
            BeforeAfter("Free drives used", Figure(text="0"), Figure(text=str(len(drives)))),
            BeforeAfter("Pool capacity", Figure(text="none"), Figure(bytes=capacity)),
            BeforeAfter(f"Volume {request.volume} ({request.file_system})", Figure(text="none"), Figure(bytes=size)),
            BeforeAfter(f"Left for files in {request.volume}", Figure(text="none"), Figure(bytes=size - held)),
            BeforeAfter("Left in the pool", Figure(text="none"), Figure(bytes=capacity - -(-size // EXTENT) * EXTENT)),
            BeforeAfter("Failures survived, guaranteed", Figure(text="none"), Figure(text=str(survives.guaranteed))),
            BeforeAfter("Failures survived, at best", Figure(text="none"), Figure(text=str(survives.best_case))),
            BeforeAfter("Spares", Figure(text="0"), Figure(text=str(spare_count))),
        ),
        erases=tuple(Erased(d.id, d.place, d.serial, d.size, d.holds) for d in drives),
        takes=tuple(
            Takes.of(job, duration)
            for job, duration in (("First sync", sync), ("Rebuild of one drive, later", slowest_rebuild(layout)))
            if duration
        ),
        meanwhile=_meanwhile(layout),
        fixed=(
            f"The scheme and the division into {describe(layout)}.",
            "The extent size of 1 GiB.",
            *(("This file system can never be made smaller.",) if request.file_system == "xfs" else ()),
        ),
        steps=(
            "Check again that every drive is free and answers.",
            "Write the pool's label on every drive; what was on it can no longer be reached.",
            f"Make volume {request.volume} with {request.file_system}{where}; it can be used from now on, slower."
            if sync else f"Make volume {request.volume} with {request.file_system}{where}.",
            *(("Bring the redundancy in step on every drive (first sync).",) if sync else ()),
        ),
        cautions=_cautions(drives, layout),
        confirm=request.name,
        role="administrator",
    )  # fmt: skip


def _meanwhile(layout: Layout) -> tuple[str, ...]:
    sync = first_sync(layout)
    if sync is None:
        return ("This layout has no redundancy: now and later, any failed drive loses the pool.",)
    return (
        "Files written from the start are protected as they are written: "
        f"any {layout.scheme.survives} drive{'s' if layout.scheme.survives > 1 else ''} of a set may fail.",
        "If a drive fails during the first sync, the sync waits until the drive is replaced and rebuilt.",
        f"Power may go off and the page may be closed: the sync goes on where it stopped. "
        f"It takes {format_duration(sync.idle)} undisturbed, up to {format_duration(sync.gentle)} while users come first.",
    )


#: Said of a comparison; a sheet for building says the last with bay and serial.
_NOT_HERE = ("no-backup", "spare-too-small")


def _cautions(drives: list[EstateDrive], layout: Layout) -> tuple[str, ...]:
    cautions = [c.sentence for c in assess(layout, Assumptions()).cautions if c.code not in _NOT_HERE]
    cautions.extend(
        f"{d.place} ({d.serial}) is failing by its own readings; it is a poor choice for a new pool."
        for d in drives if d.condition == "failing"
    )  # fmt: skip
    too_small = {
        s.id for s in layout.spares if any(m.extents > s.extents for m in layout.members)
    }  # fmt: skip
    cautions.extend(
        f"The spare {d.place} ({d.serial}) is smaller than some members and cannot replace those."
        for d in drives if str(d.id) in too_small
    )  # fmt: skip
    return tuple(cautions)

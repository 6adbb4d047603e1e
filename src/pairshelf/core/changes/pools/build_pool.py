"""Build a pool on free drives, with a first volume on it if one is wanted."""

from __future__ import annotations

from dataclasses import dataclass, replace

from pairshelf.core.changes.doors import fixed
from pairshelf.core.changes.kind import ChangeKind, Context
from pairshelf.core.changes.pools.relayout import chosen_drives
from pairshelf.core.changes.sheet import (
    BeforeAfter,
    ChangeSheet,
    Erased,
    Figure,
    Finding,
    Takes,
    Text,
    drives_come,
    pool_effect,
    together,
)
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.estate import Estate, EstateDrive
from pairshelf.core.domain.file_systems import FILE_SYSTEMS, file_system_of
from pairshelf.core.domain.mounting import MountLine, mount_folders, plan_mount
from pairshelf.core.domain.names import check_name
from pairshelf.core.domain.units import EXTENT, format_duration
from pairshelf.core.domain.volume_spec import Spec, check_size, plan_volume, read_size
from pairshelf.core.domain.words import listed, survives_any
from pairshelf.core.errors import BadInput, NameTaken
from pairshelf.core.figures.assess import assess
from pairshelf.core.figures.assumptions import Assumptions, Backup, backup_asked
from pairshelf.core.figures.durations import check, first_sync, slowest_rebuild, volume_sync
from pairshelf.core.figures.speed import speed
from pairshelf.core.figures.survival import guaranteed_of, survival, withstands
from pairshelf.core.layouts import Layout
from pairshelf.core.layouts.model import Division
from pairshelf.core.layouts.registry import layout_of, scheme_of, trade_name
from pairshelf.core.policies.readiness import readiness, require_ready

#: What a spare can stand by for.
SPARES_FOR = ("pool", "shelf", "all")


@dataclass(frozen=True, slots=True)
class BuildPool:
    """Build a pool on free drives, with a first volume if one is named. ``drives`` in the order of sets, the last ``spares`` held back."""

    name: str
    scheme: str
    drives: tuple[int, ...]
    sets: int = 1
    spares: int = 0
    #: Name of the first volume; empty for none yet.
    volume: str = ""
    #: A typed size; empty takes the largest that fits.
    volume_size: str = ""
    thin: bool = False
    file_system: str = "ext4"
    reserved_share: float | None = None
    purpose: str = ""
    mount_point: str = ""
    host: str = ""
    #: The spares stand by for this pool, for each shelf, or for all pools.
    spares_for: str = "pool"
    encrypted: bool = False
    #: Of a spread pool: what may fail as one, and how its first volume is protected.
    domain: str = ""
    protection: str = ""
    #: Its backup, recorded with it: where it is, how old it gets, and the link to restore over; no link: none.
    backup_where: str = ""
    backup_age_hours: float = 24.0
    backup_link: str = ""


@dataclass(frozen=True, slots=True)
class BuildPoolPlan:
    """What will be built, and the sheet that says so."""

    sheet: ChangeSheet
    layout: Layout
    request: BuildPool
    volume: Spec | None
    mount: MountLine | None
    #: What was promised, to be held against what is measured.
    promised: dict[str, float]
    backup: Backup | None = None


def plan(estate: Estate, request: BuildPool) -> BuildPoolPlan:
    """The sheet for building this pool. Raises where it cannot be built, naming the field."""
    request = _checked(estate, request)
    backup = backup_asked(request.backup_where, request.backup_age_hours, request.backup_link)
    drives = chosen_drives(estate, request.drives)
    findings = readiness(drives, dict(estate.silent))
    require_ready(findings)
    layout = _layout(drives, request)
    spread = layout.own_protection
    if request.mount_point and not request.volume:
        raise BadInput("Name the volume that is mounted there.", field="volume")
    volume = mount = None
    if request.volume:
        room = layout.largest(request.protection, [(0, layout.stock)], ()) * EXTENT
        size = read_size(request.volume_size, room, field="volume_size")
        check_size(size, room, thin=request.thin, field="volume_size")
        volume = plan_volume(
            request.volume, size, request.file_system, request.reserved_share, thin=request.thin,
            purpose=request.purpose, protection=request.protection, spread=spread, field="volume",
        )  # fmt: skip
        if request.mount_point:
            if volume.file_system == "none":
                raise BadInput("A volume without a file system cannot be mounted.", field="mount_point")
            ref = f"{request.name}/{volume.name}"
            mount = plan_mount(estate, request.host, ref, request.mount_point, volume.file_system)
    sheet = _sheet(request, drives, layout, volume, mount, findings, backup)
    return BuildPoolPlan(sheet, layout, request, volume, mount, promised(layout), backup)


def promised(layout: Layout) -> dict[str, float]:
    """What a layout promises: bytes, hours, bytes per second, failures; from the same functions as everywhere.

    Hours and speeds of a spread pool follow from the volumes in it; each of them has a first sync of its own.
    """
    if layout.own_protection and not layout.stripes:
        return {"capacity": layout.stock * EXTENT}
    sync, longest, model = first_sync(layout), slowest_rebuild(layout), speed(layout)
    return {
        "capacity": layout.stock * EXTENT,
        "survives": survival(layout).guaranteed,
        "first_sync_hours": sync.idle / 3600 if sync and not layout.own_protection else 0.0,
        "rebuild_hours": longest.idle / 3600 if longest else 0.0,
        "check_hours": check(layout).idle / 3600,
        "sequential_write": model.sequential_write,
        "sequential_read": model.sequential_read,
    }


def _layout(drives: list[EstateDrive], request: BuildPool) -> Layout:
    if not scheme_of(request.scheme).own_protection and request.protection:
        raise BadInput("Only volumes of a spread pool have a protection of their own.", field="protection")
    division = Division(request.sets, request.spares, request.domain)
    return layout_of([d.as_drive for d in drives], request.scheme, division)


def _checked(estate: Estate, request: BuildPool) -> BuildPool:
    name = check_name(request.name, "pool", field="name")
    if name.lower() in estate.pool_names:
        raise NameTaken("pool", name)
    host = request.host.strip()
    if host:
        estate.host(host)
    mount = request.mount_point.strip()
    if mount and not host:
        raise BadInput("Choose the host that mounts the volume, or leave the mount point empty.", field="host")
    if request.spares_for not in SPARES_FOR:
        raise BadInput(f"Choose what spares stand by for: {listed(SPARES_FOR, 'or')}.", field="spares_for")
    file_system_of(request.file_system)
    return replace(request, name=name, mount_point=mount, host=host, volume=request.volume.strip())


def _sheet(
    request: BuildPool, drives: list[EstateDrive], layout: Layout, volume: Spec | None, mount: MountLine | None,
    findings: list[Finding], backup: Backup | None,
) -> ChangeSheet:  # fmt: skip
    survives = survival(layout)
    spread = layout.own_protection
    capacity = layout.stock * EXTENT
    named = trade_name(layout.scheme, len(layout.sets))
    scheme = f"{request.scheme} ({named})" if named else request.scheme
    sync = first_sync(layout) if not spread else None
    own_sync = volume_sync(layout, volume.pool_use) if spread and volume and volume.pool_use else None
    what = f", with a first volume {volume.name}" if volume else ""
    spare_count = len(layout.spares)
    none = Figure(text="none")
    use = (volume.pool_use if volume else 0) * EXTENT
    stand_by = {"pool": "this pool", "shelf": "any pool on their shelf", "all": "all pools"}[request.spares_for]
    return ChangeSheet(
        kind="build-pool",
        title=f"Build pool {request.name}",
        why=f"{layout.describe()[0].upper()}{layout.describe()[1:]} as {scheme}{what}.",
        figures=(
            BeforeAfter("Free drives used", Figure(text="0"), Figure(text=str(len(drives)))),
            BeforeAfter("Capacity of its drives" if spread else "Pool capacity", none, Figure(bytes=capacity)),
            *((
                BeforeAfter(f"Volume {volume.name} ({volume.file_system}{', thin' if volume.thin else ''})", none, Figure(bytes=volume.size)),
                BeforeAfter(f"Left for files in {volume.name}", none, Figure(bytes=volume.for_files)),
            ) if volume else ()),
            BeforeAfter("Left in the pool", none, Figure(bytes=capacity - use)),
            *((
                BeforeAfter("Failures survived, guaranteed", none, Figure(text=str(survives.guaranteed))),
                BeforeAfter("Failures survived, best case", none, Figure(text=str(survives.best_case))),
                *(BeforeAfter(f"{domain.capitalize()} failures survived", none,
                              Figure(text=str(guaranteed_of(layout, domain))))
                  for domain in withstands(layout)),
                BeforeAfter("Spares", Figure(text="0"), Figure(text=f"{spare_count}, for {stand_by}" if spare_count else "0")),
            ) if not spread else (
                (BeforeAfter(f"{layout.domain.capitalize()} failures survived, volume {volume.name}", none,
                             Figure(text=str(volume.protection.survives))),)
                if volume and volume.protection else ()
            )),
            *((BeforeAfter("Backup", none, Figure(text=f"{backup.where}, at most {backup.age_hours:g} h old")),
               BeforeAfter("Restoring all of it, full", none, Figure(text=format_duration(capacity / backup.link))))
              if backup else ()),
            *((BeforeAfter("Encrypted", Figure(text="no"), Figure(text="yes")),) if request.encrypted else ()),
        ),
        erases=tuple(Erased(d.id, d.place, d.serial, d.size, d.holds) for d in drives),
        effect=together(pool_effect(spread, capacity=capacity, given=use), drives_come(drives)),
        takes=tuple(
            Takes.of(job, duration)
            for job, duration in (("First sync", sync or own_sync), ("Rebuild of one drive, later", None if spread else slowest_rebuild(layout)))
            if duration
        ),
        meanwhile=_meanwhile(layout),
        fixed=(
            *fixed(layout),
            *(("This file system can never be made smaller.",) if volume and not FILE_SYSTEMS[volume.file_system].shrinks else ()),
            *(("It is encrypted. Its passphrase is shown once, after approval: write it down and keep it apart. "
               "Without the passphrase, once the pool is locked or the machine restarts, the data are lost.",)
              if request.encrypted else ()),
        ),
        steps=(
            "Check again that every drive is free and answers.",
            "Write the pool's label on every drive; what was on it can no longer be reached.",
            *(("Make a key, wrap it by a passphrase, and show the passphrase once.",) if request.encrypted else ()),
            *((f"Make volume {volume.name} with {volume.file_system}"
               + ("; it can be used from now on, slower." if sync else "."),) if volume else ()),
            *(mount.steps() if mount else ()),
            *(("Bring the redundancy in step on every drive (first sync).",) if sync else ()),
            *(("Bring the redundancy of its volume in step (first sync).",) if own_sync else ()),
        ),
        cautions=_cautions(drives, layout, backup),
        confirm=request.name,
        role="administrator",
        texts=(Text(f"Mount table of {mount.host}", mount.text()),) if mount else (),
        findings=tuple(findings),
    )  # fmt: skip


def _meanwhile(layout: Layout) -> tuple[str, ...]:
    if layout.own_protection:
        return (
            "Each volume is protected as it is made. If a drive fails, what stood on it is put on free extents of "
            "others; with no room for that, it waits for a new drive.",
        )
    sync = first_sync(layout)
    if sync is None:
        return ("This layout has no redundancy: now and later, any failed drive loses the pool.",)
    return (
        "Files written from the start are protected as they are written: "
        f"each set {survives_any(layout.scheme.survives)}.",
        "If a drive fails during the first sync, the sync waits until the drive is replaced and rebuilt.",
        f"Power may go off and the page may be closed: the sync goes on where it stopped. "
        f"It takes {format_duration(sync.idle)} undisturbed, up to {format_duration(sync.gentle)} while users come first.",
    )


#: Said of a comparison; a sheet for building says the last with bay and serial.
_NOT_HERE = ("no-backup", "spare-too-small")


def _cautions(drives: list[EstateDrive], layout: Layout, backup: Backup | None) -> tuple[str, ...]:
    no_backup = () if backup else (
        "No backup is recorded with it. RAID is not a backup: deleted or corrupted files are gone.",
    )  # fmt: skip
    if layout.own_protection:
        return no_backup
    cautions = [c.sentence for c in assess(layout, Assumptions(backup=backup)).cautions if c.code not in _NOT_HERE]
    cautions.extend(no_backup)
    cautions.extend(
        f"{d.place} ({d.serial}) is failing by its own readings; it is a poor choice for a new pool."
        for d in drives if d.condition == "failing"
    )  # fmt: skip
    too_small = {
        s.id for s in layout.spares if any(layout.needs(i) > s.extents for i in range(len(layout.members)))
    }  # fmt: skip
    cautions.extend(
        f"The spare {d.place} ({d.serial}) is smaller than some members and cannot replace those."
        for d in drives if str(d.id) in too_small
    )  # fmt: skip
    return tuple(cautions)


def context(request: BuildPool) -> Context:
    """What the plan is made on, and what is held while it is carried out."""
    return Context(
        drives=request.drives, read_drives=True, hosts=(request.host,),
        folders=mount_folders(request.host, [request.mount_point]),
    )  # fmt: skip


KIND = ChangeKind("build-pool", Act.BUILD_POOLS, BuildPool, context, plan)

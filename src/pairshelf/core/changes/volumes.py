"""Volumes of a built pool: made, renamed, resized, given a new file system, checked, deleted."""

from __future__ import annotations

from dataclasses import dataclass

from pairshelf.core.changes.sheet import BeforeAfter, ChangeSheet, Figure, Takes, Text, simple_sheet
from pairshelf.core.errors import BadInput, NotPossible
from pairshelf.core.estate import Estate, EstatePool, EstateVolume
from pairshelf.core.figures.durations import at_rate
from pairshelf.core.figures.speed import sequential_read
from pairshelf.core.file_systems import FILE_SYSTEMS, file_system_of, overhead
from pairshelf.core.layouts.spread import parse_protection
from pairshelf.core.mounting import MountLine, plan_mount
from pairshelf.core.names import check_name
from pairshelf.core.patterns import MOST, expand, in_step
from pairshelf.core.units import EXTENT, format_size
from pairshelf.core.volumes import Spec, check_size, plan_volume, read_size


@dataclass(frozen=True, slots=True)
class Make:
    """Volumes in a pool, one or several from a pattern."""

    pool: str
    #: A name, or a pattern such as scans-{1..4}.
    name: str
    #: Each volume's size; empty or "all": all that is left.
    size: str = ""
    #: So many alike; with more than one, the names get -1, -2 and so on.
    count: int = 1
    thin: bool = False
    #: In a spread pool: copies-2, copies-3, parity-1:W, parity-2:W.
    protection: str = ""
    file_system: str = "ext4"
    reserved_share: float | None = None
    purpose: str = ""
    #: The host that mounts them, and where; {name} stands for the volume's name.
    host: str = ""
    mount_point: str = ""


@dataclass(frozen=True, slots=True)
class Rename:
    """Another name for a volume; its UUID, and so its mounts, stay."""

    volume: str
    name: str


@dataclass(frozen=True, slots=True)
class Resize:
    """Extend or shrink a volume with its file system."""

    volume: str
    #: The new size; "all" adds all that is left in the pool.
    size: str


@dataclass(frozen=True, slots=True)
class Reformat:
    """A new, empty file system in the place of the one there is."""

    volume: str
    file_system: str
    reserved_share: float | None = None


@dataclass(frozen=True, slots=True)
class CheckFiles:
    """Read every file of a volume and compare it with its checksum."""

    volume: str


@dataclass(frozen=True, slots=True)
class Delete:
    """Give a volume's capacity back to its pool."""

    volume: str


@dataclass(frozen=True, slots=True)
class MakePlan:
    """The volumes, with where each is mounted."""

    sheet: ChangeSheet
    pool: EstatePool
    specs: tuple[Spec, ...]
    mounts: tuple[MountLine | None, ...]


@dataclass(frozen=True, slots=True)
class VolumePlan:
    """One volume as it is, and as it will be."""

    sheet: ChangeSheet
    volume: EstateVolume
    after: Spec


def serving(pool: EstatePool) -> None:
    """NotPossible while a pool's data cannot be reached."""
    if pool.state in ("lost", "unreachable"):
        raise NotPossible(f"Pool {pool.name} is {pool.state}; nothing can be changed in it now.", code="not-serving")
    if pool.locked:
        raise NotPossible(f"Pool {pool.name} is locked; an administrator unlocks it first.", code="locked")


def make(estate: Estate, request: Make) -> MakePlan:
    """The sheet for making volumes."""
    pool = estate.pool_named(request.pool)
    serving(pool)
    names = expand(request.name.strip(), field="name")
    if not 1 <= request.count <= MOST:
        raise BadInput(f"Between 1 and {MOST} volumes are made at once.", field="count")
    if request.count > 1:
        names = [f"{n}-{i}" for n in names for i in range(1, request.count + 1)]
    if len(names) > MOST:
        raise BadInput(f"These are {len(names)} volumes; at most {MOST} are made at once.", field="count")
    if len({n.lower() for n in names}) < len(names):
        raise BadInput("The pattern gives the same name twice.", field="name")
    room = pool.largest(request.protection) if not pool.spread or request.protection.strip() else 0
    size = read_size(request.size, room, len(names))
    if not pool.spread or request.protection.strip():
        check_size(size, room, thin=request.thin, count=len(names))
    if request.thin and request.size.strip().lower() in ("", "all") and not room:
        raise BadInput("Nothing is left in the pool; give a thin volume a size of its own.", field="size")
    taken = [v.name for v in estate.volumes if v.pool == pool.name]
    specs = tuple(
        plan_volume(
            n, size, request.file_system, request.reserved_share, thin=request.thin, purpose=request.purpose,
            protection=request.protection, spread=pool.spread, taken=taken,
        )
        for n in names
    )  # fmt: skip
    points = in_step(request.mount_point, names, field="mount_point") if request.mount_point.strip() else []
    if points and not request.host.strip():
        raise BadInput("Choose the host that mounts them, or leave the mount point empty.", field="host")
    mounts: list[MountLine | None] = []
    for n, point in zip(names, points, strict=False):
        mounts.append(plan_mount(estate, request.host, f"{pool.name}/{n}", point, specs[0].file_system, also=mounts))
    return MakePlan(_make_sheet(pool, specs, tuple(mounts), estate), pool, specs, tuple(mounts))


def _make_sheet(
    pool: EstatePool, specs: tuple[Spec, ...], mounts: tuple[MountLine | None, ...], estate: Estate
) -> ChangeSheet:
    first = specs[0]
    use = sum(s.pool_use for s in specs)
    if use > pool.free:
        over = (use - pool.free) * EXTENT
        raise BadInput(f"The pool is {format_size(over)} ({over} bytes) short.", field="size")
    shown = first.name if len(specs) == 1 else f"{first.name} to {specs[-1].name} ({len(specs)} volumes)"
    kind = "thin" if first.thin else "thick"
    each = "" if len(specs) == 1 else " each"
    own = f", {first.protection.name}" if first.protection else ""
    promised = sum(v.size for v in estate.volumes if v.pool == pool.name and v.thin) + sum(
        s.size for s in specs if s.thin
    )
    cautions = []
    room = pool.largest(first.protection.name if first.protection else None)
    if first.thin and promised > room:
        cautions.append(
            f"The thin volumes of {pool.name} promise {format_size(promised)}, and {format_size(room)} are left: "
            "when the pool is full, writing stops until it grows or something is deleted."
        )
    if first.file_system == "none" and any(mounts):
        raise BadInput(
            "A volume without a file system cannot be mounted; leave the mount point empty.", field="mount_point"
        )
    lines = tuple(Text(f"Mount table of {m.host}", m.text()) for m in mounts if m)
    return simple_sheet(
        "make-volumes",
        f"Make {'volume' if len(specs) == 1 else 'volumes'} {shown} in pool {pool.name}",
        f"{kind[0].upper()}{kind[1:]}, {first.file_system}{own}"
        + (f", for {first.purpose}" if first.purpose else "") + ".",
        figures=(
            BeforeAfter(f"Size{each}", Figure(text="none"), Figure(bytes=first.size)),
            BeforeAfter(f"Left for files{each}", Figure(text="none"), Figure(bytes=first.for_files)),
            BeforeAfter(f"Held by {first.file_system}{each}", Figure(text="none"), Figure(bytes=first.overhead)),
            BeforeAfter(
                "Left in the pool" + (" (drives' capacity)" if pool.spread else ""),
                Figure(bytes=pool.free * EXTENT), Figure(bytes=(pool.free - use) * EXTENT),
            ),
            *((BeforeAfter("Pool use, redundancy included", Figure(bytes=0), Figure(bytes=use * EXTENT)),)
              if pool.spread and not first.thin else ()),
        ),
        meanwhile=("Other volumes are not touched.",),
        fixed=(
            *(("This file system can never be made smaller.",) if not FILE_SYSTEMS[first.file_system].shrinks else ()),
            *((f"The protection {first.protection.name}.",) if first.protection else ()),
            f"{kind[0].upper()}{kind[1:]}: "
            + ("it takes capacity when something is written." if first.thin else "it has all its capacity from now on."),
        ),
        steps=(
            "Take the capacity from the pool." if not first.thin else "Note the size it may grow to.",
            f"Make the file system {first.file_system}, with a UUID of its own." if first.file_system != "none"
            else "Leave it bare: whoever uses it makes a file system.",
            *(step for m in mounts if m for step in m.steps()),
            *(("Bring its redundancy in step (first sync).",) if pool.spread and not first.thin else ()),
        ),
        cautions=cautions,
        texts=lines,
    )  # fmt: skip


def _pool_of(estate: Estate, volume: EstateVolume) -> EstatePool:
    pool = estate.pool_named(volume.pool)
    serving(pool)
    return pool


def _as_is(volume: EstateVolume, *, name: str | None = None, size: int | None = None) -> Spec:
    """A volume with another name or size; its file system's overhead worked out anew."""
    size = volume.size if size is None else size
    held = overhead(volume.file_system, size, volume.reserved_share)
    return Spec(name or volume.name, size, volume.thin, volume.file_system, volume.reserved_share, held, volume.purpose)


def rename(estate: Estate, request: Rename) -> VolumePlan:
    """The sheet for another name."""
    volume = estate.volume(request.volume)
    name = check_name(request.name, "volume", field="name")
    if name == volume.name:
        raise BadInput("That is its name already.", field="name")
    if any(v.name.lower() == name.lower() for v in estate.volumes if v.pool == volume.pool and v.id != volume.id):
        raise BadInput(f"There is a volume named {name} in this pool already.", code="name-taken", field="name")
    mounts = estate.mounts_of(volume)
    sheet = simple_sheet(
        "rename-volume", f"Rename volume {volume.ref} to {name}",
        "Its UUID stays, so every mount, share and target goes on as it is.",
        figures=(BeforeAfter("Name", Figure(text=volume.name), Figure(text=name)),),
        steps=("Write the new name into the books.",),
        meanwhile=(f"It stays in use; its mount points keep their names ({', '.join(m.at for m in mounts)}).",)
        if mounts else ("It stays in use.",),
        role="operator",
    )  # fmt: skip
    return VolumePlan(sheet, volume, _as_is(volume, name=name))


def resize(estate: Estate, request: Resize) -> VolumePlan:
    """The sheet for extending or shrinking."""
    volume = estate.volume(request.volume)
    pool = _pool_of(estate, volume)
    left = pool.largest(volume.protection)
    slack = _slack(volume)
    room = volume.size // EXTENT * EXTENT + left + slack
    size = room if request.size.strip().lower() == "all" else read_size(request.size or "0", room)
    check_size(size, max(room, volume.size), thin=volume.thin)
    if size == volume.size:
        raise BadInput(f"It has {format_size(size)} already.", field="size")
    after = _as_is(volume, size=size)
    system = file_system_of(volume.file_system)
    if size > system.largest:
        raise BadInput(f"{system.id} goes up to {format_size(system.largest)}.", field="size")
    if after.for_files <= 0 or size < EXTENT:
        raise BadInput("That is too small to hold a file system; leave it at least 1 GiB.", field="size")
    larger = size > volume.size
    mounted = estate.mounts_of(volume)
    if not larger:
        _may_shrink(estate, volume, after, bool(mounted))
    use = max(0, _use(volume, after.extents) - _use(volume, -(-volume.size // EXTENT))) if not volume.thin else 0
    sheet = simple_sheet(
        "resize-volume",
        f"{'Extend' if larger else 'Shrink'} volume {volume.ref} to {format_size(size, digits=3)}",
        f"By {format_size(abs(size - volume.size))}, with its file system.",
        figures=(
            BeforeAfter("Size", Figure(bytes=volume.size), Figure(bytes=size)),
            BeforeAfter("Left for files", Figure(bytes=volume.size - volume.overhead), Figure(bytes=after.for_files)),
            BeforeAfter("Taken by files", Figure(bytes=volume.files_bytes), Figure(bytes=volume.files_bytes)),
            BeforeAfter("Left in the pool", Figure(bytes=pool.free * EXTENT),
                        Figure(bytes=(pool.free - use) * EXTENT if larger else (pool.free + _given_back(volume, after)) * EXTENT)),
        ),
        steps=(
            ("Take more capacity from the pool.", f"Grow the file system ({system.id}, {system.grows}).") if larger
            else ("Make sure no file lies beyond the new end.", f"Shrink the file system ({system.id}).",
                  "Give the rest back to the pool.")
        ),
        meanwhile=("It stays in use." if larger or system.shrinks == "mounted" else "It is not mounted meanwhile.",),
        cautions=() if larger else ("Have a backup before a file system is made smaller.",),
    )  # fmt: skip
    return VolumePlan(sheet, volume, after)


def _slack(volume: EstateVolume) -> int:
    """Bytes of its last extent that it does not use yet."""
    return -volume.size % EXTENT if volume.size % EXTENT else 0


def _use(volume: EstateVolume, extents: int) -> int:
    if volume.protection is None:
        return extents
    own = parse_protection(volume.protection)
    return -(-extents // own.data) * own.width


def _given_back(volume: EstateVolume, after: Spec) -> int:
    if volume.thin:
        return max(0, volume.placed - after.extents)
    return _use(volume, -(-volume.size // EXTENT)) - _use(volume, after.extents)


def _may_shrink(estate: Estate, volume: EstateVolume, after: Spec, mounted: bool) -> None:
    system = file_system_of(volume.file_system)
    if not system.shrinks:
        raise NotPossible(
            f"{system.id} can never be made smaller. Make a smaller volume, move the files, and delete this one.",
            code="never-shrinks", field="size",
        )  # fmt: skip
    if system.shrinks == "unmounted" and mounted:
        where = ", ".join(f"{m.host} at {m.at}" for m in estate.mounts_of(volume))
        raise NotPossible(
            f"{system.id} shrinks only while it is not mounted; unmount it first ({where}).",
            code="mounted",
            field="size",
        )
    least = max(volume.files_end, volume.files_bytes + after.overhead)
    if after.extents * EXTENT < volume.files_end or after.for_files < volume.files_bytes:
        raise BadInput(
            f"Its files take {format_size(volume.files_bytes)} and reach to {format_size(volume.files_end)}; "
            f"it cannot be smaller than {format_size(least)} ({least} bytes).",
            field="size",
        )
    if any(t for t in estate.targets if any(v == volume.ref for _, v in t.luns)):
        raise NotPossible(
            "A block target serves it; its host would lose the end of its disk.", code="in-use", field="size"
        )
    asked = sum(s.quota or 0 for s in estate.shares if s.volume == volume.ref)
    if asked > after.for_files:
        raise BadInput(f"Its shares have quotas of {format_size(asked)} together; lower those first.", field="size")


def _files(volume: EstateVolume) -> tuple[str, ...]:
    if not volume.files:
        return (f"Nothing is lost: volume {volume.ref} holds no files.",)
    plural = "file" if volume.files == 1 else "files"
    return (f"All {volume.files} {plural} of volume {volume.ref}, {format_size(volume.files_bytes)}.",)


def _users(estate: Estate, volume: EstateVolume) -> list[str]:
    """What stands on a volume, in words."""
    found = [f"{m.host} mounts it at {m.at}" for m in estate.mounts_of(volume)]
    found += [f"share {s.name} is on it" for s in estate.shares if s.volume == volume.ref]
    found += [f"target {t.iqn} serves it" for t in estate.targets if any(v == volume.ref for _, v in t.luns)]
    found += [f"{a.name} on {a.host} writes to it" for a in estate.applications if a.volume == volume.ref]
    return found


def reformat(estate: Estate, request: Reformat) -> VolumePlan:
    """The sheet for a new file system."""
    volume = estate.volume(request.volume)
    _pool_of(estate, volume)
    if users := _users(estate, volume):
        raise NotPossible(f"It is in use: {'; '.join(users)}. End that first.", code="in-use", field="volume")
    spec = plan_volume(volume.name, volume.size, request.file_system, request.reserved_share, thin=volume.thin)
    sheet = simple_sheet(
        "reformat-volume", f"New file system {spec.file_system} on volume {volume.ref}",
        "Everything on it is given up, and it gets a new UUID.",
        figures=(
            BeforeAfter("File system", Figure(text=volume.file_system), Figure(text=spec.file_system)),
            BeforeAfter("Left for files", Figure(bytes=volume.size - volume.overhead), Figure(bytes=spec.for_files)),
        ),
        gives_up=_files(volume), confirm=volume.name,
        steps=("Make sure nothing uses it.", f"Make the file system {spec.file_system}, with a new UUID."),
        fixed=() if FILE_SYSTEMS[spec.file_system].shrinks else ("This file system can never be made smaller.",),
    )  # fmt: skip
    return VolumePlan(sheet, volume, spec)


def check_files(estate: Estate, request: CheckFiles) -> VolumePlan:
    """The sheet for reading everything on a volume."""
    volume = estate.volume(request.volume)
    pool = _pool_of(estate, volume)
    if volume.file_system == "none":
        raise NotPossible("It has no file system of ours; its own host checks it.", code="no-file-system")
    seconds = volume.files_bytes / sequential_read(pool.layout)
    sheet = simple_sheet(
        "check-files", f"Check the file system of volume {volume.ref}",
        f"All {volume.files} files are read and compared with the checksums their host keeps.",
        takes=(Takes.of("Check of the file system", at_rate(seconds)),),
        steps=("See that no two files claim the same place.", "Read every file and compare its checksum."),
        meanwhile=("It stays in use; nothing is changed.",), role="operator",
    )  # fmt: skip
    return VolumePlan(sheet, volume, _as_is(volume))


def delete(estate: Estate, request: Delete) -> VolumePlan:
    """The sheet for deleting."""
    volume = estate.volume(request.volume)
    pool = _pool_of(estate, volume)
    if users := _users(estate, volume):
        raise NotPossible(f"It is in use: {'; '.join(users)}. End that first.", code="in-use", field="volume")
    back = volume.placed
    sheet = simple_sheet(
        "delete-volume", f"Delete volume {volume.ref}", "Its capacity goes back to the pool.",
        figures=(
            BeforeAfter("Volume", Figure(bytes=volume.size), Figure(text="none")),
            BeforeAfter("Left in the pool", Figure(bytes=pool.free * EXTENT), Figure(bytes=(pool.free + back) * EXTENT)),
        ),
        gives_up=_files(volume), confirm=volume.name,
        steps=("Make sure nothing uses it.", "Give its capacity back to the pool."),
        cautions=("What was on it can be read from the drives until something else is written there; it is not wiped.",),
    )  # fmt: skip
    return VolumePlan(sheet, volume, _as_is(volume))

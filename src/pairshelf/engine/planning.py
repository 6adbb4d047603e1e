"""The picture of what is there that a request's plan is made on: books, pools, drives read, folders looked into."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace
from typing import Any

from sqlmodel import Session, col, or_, select

from pairshelf.core.changes.kinds import KINDS
from pairshelf.core.device import DeviceError, Devices
from pairshelf.core.errors import PairShelfError
from pairshelf.core.estate import Entry, Estate, EstateApplication
from pairshelf.core.mounting import aside_name
from pairshelf.core.partitions import WritePartitions, wanted_of
from pairshelf.core.patterns import expand, in_step
from pairshelf.engine import keys
from pairshelf.store.books import load_books
from pairshelf.store.tables import Application, Host, PartitionPlan, PoolRow, Share, Target, TargetLun, VolumeRow


def estate_of(session: Session, request: Any, world: Devices) -> Estate:
    """What a request's plan needs to know, as things stand now."""
    drives = tuple(getattr(request, "drives", ())) or tuple(filter(None, [getattr(request, "drive_id", None)]))
    estate = load_books(session, pool_ids=_pools(session, request), drive_ids=drives)
    pools = tuple(replace(p, locked=p.encrypted and not keys.is_open(p.id)) for p in estate.pools)
    estate = replace(estate, pools=pools)
    if hasattr(request, "drives"):
        estate = replace(estate, silent=tuple(_silent(estate, world)))
    if type(request) is WritePartitions:
        row = session.get(PartitionPlan, request.drive_id, populate_existing=True)
        if row is not None:
            estate = replace(
                estate, pending_partitions=((request.drive_id, (row.scheme, row.sector, wanted_of(row.parts))),)
            )
    return replace(estate, folders=tuple(_folders(estate, request, world)))


def plan(session: Session, kind: str, request: Any, world: Devices) -> Any:
    """The plan with its sheet, as things stand."""
    return KINDS[kind].plan(estate_of(session, request, world), request)


def _pools(session: Session, request: Any) -> set[int]:
    """Pools whose layout and contents a request is about."""
    found: set[int | None] = set()
    if pool_id := getattr(request, "pool_id", None):
        found.add(pool_id)
    if name := getattr(request, "pool", None):
        query = select(PoolRow.id).where(col(PoolRow.name).ilike(_literal(name.strip()), escape="\\"))
        found.update(session.exec(query))
    if ref := getattr(request, "volume", None):
        pool, _, volume = ref.rpartition("/")
        volumes = select(VolumeRow.pool_id).join(PoolRow, col(PoolRow.id) == VolumeRow.pool_id)
        volumes = volumes.where(VolumeRow.name == volume)
        found.update(session.exec(volumes.where(PoolRow.name == pool) if pool else volumes))
    if iqn := getattr(request, "target", None):
        found.update(session.exec(
            select(VolumeRow.pool_id).join(TargetLun, col(TargetLun.volume_id) == VolumeRow.id)
            .join(Target, col(Target.id) == TargetLun.target_id).where(Target.iqn == iqn.strip())
        ))  # fmt: skip
    if share := getattr(request, "share", None):
        found.update(session.exec(
            select(VolumeRow.pool_id).join(Share, col(Share.volume_id) == VolumeRow.id)
            .where(col(Share.name).ilike(_literal(share.strip()), escape="\\"))
        ))  # fmt: skip
    if app := getattr(request, "application", None):
        host, _, own = app.rpartition("/")
        applications = (
            select(VolumeRow.pool_id).join(Application, col(Application.volume_id) == VolumeRow.id)
            .join(Host, col(Host.id) == Application.host_id)
            .where(Application.name == own, or_(Host.name == host, host == ""))
        )  # fmt: skip
        found.update(session.exec(applications))
    return {p for p in found if p is not None}


def _literal(text: str) -> str:
    return text.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_")


def _silent(estate: Estate, world: Devices) -> Iterable[tuple[int, str]]:
    """Read every chosen drive: its label, its first and its last extent; those that do not answer."""
    for drive in estate.drives:
        if drive.why_not_offered():
            continue
        try:
            device = world.open(drive.serial, drive.size)
            device.read_label()
            device.read(0, 1)
            device.read(max(0, drive.as_drive.extents - 1), 1)
        except DeviceError as error:
            yield drive.id, f"it is {error.presence.value}"
        except (OSError, ValueError) as error:
            yield drive.id, str(error)


def _folders(estate: Estate, request: Any, world: Devices) -> Iterable[tuple[tuple[str, str], tuple[Entry, ...]]]:
    """What lies in the folders that a request names."""
    wanted: list[tuple[str, str]] = []
    host, point = getattr(request, "host", ""), getattr(request, "mount_point", "")
    if host and point:
        for at in _points(request, point):
            wanted += [(host.strip(), at), (host.strip(), aside_name(at))]
    if app := getattr(request, "application", ""):
        for a in estate.applications:
            if app in (a.name, f"{a.host}/{a.name}"):
                wanted += [(a.host, path) for path in _of(a)]
    known = {h.name for h in estate.machines}
    for name, path in dict.fromkeys(wanted):
        if name in known and path.startswith("/") and ".." not in path:
            try:
                entries = world.hosts.entries(name, path)
            except (PairShelfError, OSError, ValueError):
                continue
            if entries is not None:
                yield (name, path), entries


def _points(request: Any, point: str) -> list[str]:
    try:
        name = getattr(request, "name", "")
        if getattr(request, "count", None) is None:
            return [point.strip().rstrip("/")]
        return [p.strip().rstrip("/") for p in in_step(point, expand(name, field="name"), field="mount_point")]
    except PairShelfError:
        return []


def _of(app: EstateApplication) -> list[str]:
    paths = [app.folder, aside_name(app.folder)]
    return paths + ([app.moved_from, aside_name(app.moved_from)] if app.moved_from else [])

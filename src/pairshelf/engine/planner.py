"""The picture of what is there that a request's plan is made on: books, pools, drives read, folders looked into."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterable
from contextlib import suppress
from dataclasses import dataclass, replace
from typing import Any

from sqlmodel import Session, col, or_, select

from pairshelf.core.changes.kind import Context
from pairshelf.core.changes.kinds import kind_of
from pairshelf.core.disposal.facts import Identity
from pairshelf.core.domain import estate as estate_of_pools
from pairshelf.core.domain.device import DeviceError, Devices
from pairshelf.core.domain.estate import Entry, Estate, EstateApplication, EstateDrain, EstateDrive
from pairshelf.core.domain.mounting import aside_name
from pairshelf.core.domain.names import on_letter
from pairshelf.core.domain.partitions import wanted_of
from pairshelf.core.domain.units import EXTENT
from pairshelf.core.errors import PairShelfError
from pairshelf.engine import keys
from pairshelf.engine.found_pools import drives_of, found_pool
from pairshelf.store.database import pick
from pairshelf.store.repositories.books import load_books, taken_in
from pairshelf.store.repositories.holdings import load_holdings
from pairshelf.store.tables import (
    Application,
    DrainRow,
    DriveRow,
    FormerPoolRow,
    Host,
    JobRow,
    PartitionPlan,
    PoolPlace,
    PoolRow,
    Service,
    Share,
    Shelf,
    Site,
    Target,
    TargetLun,
    VolumeRow,
    now,
)


@dataclass(frozen=True, slots=True)
class Named:
    """What a request's names stand for just now."""

    pools: frozenset[int]
    drives: tuple[int, ...]
    hosts: frozenset[str]


def named(session: Session, context: Context) -> Named:
    """The pools, drives and hosts behind a request's names."""
    pools, hosts = set(context.pool_ids), {h.strip() for h in context.hosts}
    drives = dict.fromkeys(context.drives)
    drives.update(dict.fromkeys(sorted(_standing_in(session, context))))
    for uid in context.found:
        drives.update(dict.fromkeys(drives_of(session, uid)))
    for number in context.drains:
        row = session.get(DrainRow, number)
        drives.update(dict.fromkeys(row.drives if row is not None else ()))
    if context.partitions:
        itself = select(PartitionPlan.pool_id).where(col(PartitionPlan.drive_id).in_(context.drives))
        pools.update(_ids(session, itself))
    if context.pools_of_drives:
        pools.update(_ids(session, select(PoolPlace.pool_id).where(col(PoolPlace.drive_id).in_(drives))))
    for name in _given(context.pools):
        pools.update(_ids(session, select(PoolRow.id).where(col(PoolRow.name).ilike(_literal(name), escape="\\"))))
    for ref in _given(context.volumes):
        pool, _, volume = ref.rpartition("/")
        volumes = select(VolumeRow.pool_id).join(PoolRow, col(PoolRow.id) == VolumeRow.pool_id)
        volumes = volumes.where(VolumeRow.name == volume)
        pools.update(_ids(session, volumes.where(PoolRow.name == pool) if pool else volumes))
    if context.moving_with:
        going = select(JobRow.to_pool_id).where(col(JobRow.pool_id).in_(pools), col(JobRow.finished_at).is_(None))
        pools.update(_ids(session, going))
    for iqn in _given(context.targets):
        pools.update(_ids(session, (
            select(VolumeRow.pool_id).join(TargetLun, col(TargetLun.volume_id) == VolumeRow.id)
            .join(Target, col(Target.id) == TargetLun.target_id).where(Target.iqn == iqn)
        )))  # fmt: skip
    for share in _given(context.shares):
        pools.update(_ids(session, (
            select(VolumeRow.pool_id).join(Share, col(Share.volume_id) == VolumeRow.id)
            .where(col(Share.name).ilike(_literal(share), escape="\\"))
        )))  # fmt: skip
    for ref in _given(context.applications):
        host, _, own = ref.rpartition("/")
        query = (
            select(Host.name, VolumeRow.pool_id).select_from(Application)
            .join(Host, col(Host.id) == Application.host_id)
            .outerjoin(VolumeRow, col(VolumeRow.id) == Application.volume_id)
            .where(Application.name == own, or_(Host.name == host, host == ""))
        )  # fmt: skip
        for name, pool_id in session.exec(query):
            hosts.add(name)
            pools.update({pool_id} - {None})
    return Named(frozenset(pools), tuple(drives), frozenset(hosts - {""}))


def _standing_in(session: Session, context: Context) -> set[int]:
    """The drives of the shelves and hosts that a request names."""
    found: set[int] = set()
    query = (
        select(DriveRow.id).join(Shelf, col(Shelf.id) == DriveRow.shelf_id).join(Site, col(Site.id) == Shelf.site_id)
    )
    for name in _given(context.shelves):
        found |= _ids(session, query.where(or_(Shelf.name == name, col(Site.name) + "/" + col(Shelf.name) == name)))
    for name in _given(context.drives_of_hosts):
        found |= _ids(session, query.join(Host, col(Host.id) == Shelf.host_id).where(Host.name == name))
    return found


def _given(names: Iterable[str]) -> list[str]:
    return [name for n in names if (name := n.strip())]


def _ids(session: Session, query: Any) -> set[int]:
    return {i for i in session.exec(query) if i is not None}


def _literal(text: str) -> str:
    return text.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_")


def estate_of(session: Session, context: Context, world: Devices) -> Estate:
    """What a plan needs to know, as things stand now."""
    subjects = named(session, context)
    drives = subjects.drives
    if context.free_drives:
        free = select(DriveRow.id).where(DriveRow.service == Service.FREE).order_by(col(DriveRow.id))
        drives = tuple(dict.fromkeys((*drives, *(i for i in session.exec(free) if i is not None))))
    estate = load_books(session, pool_ids=subjects.pools, drive_ids=drives)
    pools = tuple(replace(p, locked=p.encrypted and not keys.is_open(p.id)) for p in estate.pools)
    estate = replace(estate, pools=pools)
    if context.moving_with:
        estate = replace(estate, copies=tuple(_copies(session, subjects.pools)))
    if context.read_drives:
        estate = replace(estate, silent=tuple(_silent(estate, world)))
    if context.identities:
        estate = replace(
            estate, identities=tuple(identities(estate.drives, world)), wanted_back=tuple(wanted_back(session, estate.drives))
        )  # fmt: skip
    if context.drains:
        estate = replace(estate, drains=tuple(_drains(session, context.drains)))
    if context.found:
        found = (found_pool(session, uid, world) for uid in context.found)
        estate = replace(estate, found=tuple(f for f in found if f is not None))
    if context.former:
        estate = replace(estate, former=tuple(former_pools(session, context.former)))
    if context.partitions:
        estate = replace(estate, pending_partitions=tuple(_pending(session, subjects.drives)))
    if context.taken_in:
        estate = replace(estate, taken=tuple(_taken(session, estate, context)))
    return replace(estate, folders=tuple(_folders(estate, context, world)))


def _copies(session: Session, pools: Iterable[int]) -> Iterable[tuple[int, int, bool]]:
    """What copies of volumes that are being moved have in these pools: (the volume, extents), of spread pools with their
    redundancy."""
    query = select(VolumeRow.id, VolumeRow.moving_from).where(col(VolumeRow.moving_from).is_not(None))
    copies = dict(session.exec(query).all())
    for held in load_holdings(session, list(pools)) if copies else ():
        for volume in held.volumes:
            if (source := copies.get(volume.id)) is not None:
                yield source, volume.taken // EXTENT, held.account.of_drives


def plan(session: Session, kind: str, request: Any, world: Devices) -> Any:
    """The plan with its sheet, as things stand."""
    one = kind_of(kind)
    return one.plan(estate_of(session, one.context(request), world), request)


def _drains(session: Session, ids: Iterable[int]) -> Iterable[EstateDrain]:
    for number in ids:
        row = session.get(DrainRow, number, populate_existing=True)
        if row is not None:
            yield EstateDrain(number, row.subject, tuple(row.drives), row.ended_at is None)


def _taken(session: Session, estate: Estate, context: Context) -> Iterable[tuple[tuple[str, str], int]]:
    """What lies in the folders of volumes that a request names."""
    for ref, folder in context.taken_in:
        volume = next((v for v in estate.volumes if ref.strip() in (v.ref, v.name)), None)
        if volume is not None:
            yield (volume.ref, folder), taken_in(session, volume.id, folder)


def _pending(session: Session, drives: Iterable[int]) -> Iterable[tuple[int, tuple[str, int, tuple[Any, ...]]]]:
    for drive_id in drives:
        row = session.get(PartitionPlan, drive_id, populate_existing=True)
        if row is not None:
            yield drive_id, (row.scheme, row.sector, wanted_of(row.parts))


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


def identities(drives: Iterable[EstateDrive], world: Devices) -> Iterable[tuple[int, Identity]]:
    """What each of these drives reports of itself; those that do not answer are left out."""
    for drive in drives:
        if drive.condition in ("failed", "missing"):
            continue
        with suppress(DeviceError, OSError):
            yield drive.id, world.open(drive.serial, drive.size).identify(drive.kind)


def former_pools(session: Session, ids: Iterable[int] | None = None) -> Iterable[estate_of_pools.FormerPool]:
    """Pools that were taken apart, with what has become of their drives."""
    # Not the rows that are kept of it: they may be many.
    kept = col(FormerPoolRow.rows)
    query = pick(
        FormerPoolRow.id, FormerPoolRow.name, FormerPoolRow.drives, FormerPoolRow.until, FormerPoolRow.put_together_at, kept["volumes"].as_integer(),
        kept["encrypted"].as_boolean(), kept["survives"].as_integer(), kept.has_key("pool"), kept["extents"].as_integer(), kept["taken"].as_integer(), kept[("pool", "domain")].as_string(),  # type: ignore[attr-defined]
    ).order_by(col(FormerPoolRow.id).desc())  # fmt: skip
    if ids is not None:
        query = query.where(col(FormerPoolRow.id).in_(list(ids)))
    for (
        number,
        name,
        slots,
        until,
        back_at,
        volumes,
        encrypted,
        survives,
        whole,
        extents,
        taken,
        domain,
    ) in session.exec(query):
        drives = {d.serial: d for d in session.exec(select(DriveRow).where(col(DriveRow.serial).in_(list(slots))))}
        mine = f"old data of pool {name}, readable"
        gone = [s for s in slots if s not in drives or drives[s].service != "free" or drives[s].holds != mine]
        away = [
            s for s, slot in slots.items() if slot is not None and s in drives and drives[s].condition in ("missing", "failed")
        ]  # fmt: skip
        yield estate_of_pools.FormerPool(
            number, name, len(slots), volumes or 0, bool(encrypted), survives or 0, until <= now() or not whole,
            back_at is not None, tuple(away), tuple(gone), extents or 0, taken or 0, domain is not None,
        )  # fmt: skip


def wanted_back(session: Session, drives: Iterable[EstateDrive]) -> Iterable[tuple[int, tuple[str, dt.datetime]]]:
    """Drives of pools that may be put together again."""
    by_serial = {d.serial: d.id for d in drives}
    query = select(FormerPoolRow.name, FormerPoolRow.until, FormerPoolRow.drives)
    for name, until, slots in session.exec(
        query.where(FormerPoolRow.until > now(), col(FormerPoolRow.put_together_at).is_(None))
    ):
        for serial in slots:
            if serial in by_serial:
                yield by_serial[serial], (name, until)


def _folders(estate: Estate, context: Context, world: Devices) -> Iterable[tuple[tuple[str, str], tuple[Entry, ...]]]:
    """What lies in the folders that a request names."""
    wanted = list(context.folders)
    for ref in _given(context.applications):
        for a in estate.applications:
            if ref in (a.name, f"{a.host}/{a.name}"):
                wanted += [(a.host, path) for path in _of(a)]
    known = {h.name for h in estate.machines}
    for name, path in dict.fromkeys(wanted):
        if name in known and (path.startswith("/") or on_letter(path)) and ".." not in path:
            try:
                entries = world.hosts.entries(name, path)
            except (PairShelfError, OSError, ValueError):
                continue
            if entries is not None:
                yield (name, path), entries


def _of(app: EstateApplication) -> list[str]:
    paths = [app.folder, aside_name(app.folder)]
    return paths + ([app.moved_from, aside_name(app.moved_from)] if app.moved_from else [])

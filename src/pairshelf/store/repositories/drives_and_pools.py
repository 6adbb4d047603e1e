"""Rows to the core's picture of what is there, and back; with as few statements as a question needs."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Sequence
from dataclasses import fields
from functools import cache
from typing import Any

import numpy as np
from sqlalchemy import delete, func
from sqlmodel import Session, col, select

from pairshelf.core.domain.drives import Drive, Kind, offered
from pairshelf.core.domain.estate import EstateDrive, EstatePlace, EstatePool
from pairshelf.core.domain.inventory import COLUMNS, DriveRecord, Kept, Taken
from pairshelf.core.domain.partitions import Part, Table, table_of_parts
from pairshelf.core.domain.price_list import Model, with_models
from pairshelf.core.layouts import Layout
from pairshelf.core.layouts.allocation import gaps
from pairshelf.core.layouts.protections import parse_protection
from pairshelf.core.layouts.regions import rows_missed
from pairshelf.core.layouts.registry import scheme_of
from pairshelf.core.layouts.spread import StripedVolume
from pairshelf.core.policies.beside import Under
from pairshelf.store.database import among, in_these, pick, these
from pairshelf.store.repositories.layouts import designed_layout, is_synced
from pairshelf.store.tables import (
    Condition,
    DrainRow,
    DriveModel,
    DriveRow,
    GrowthPathRow,
    Host,
    JobRow,
    JobState,
    MemberState,
    MissedWrite,
    PartitionPlan,
    PoolPlace,
    PoolRow,
    Service,
    Shelf,
    Site,
    VolumePiece,
    VolumeRow,
    VolumeStripes,
    now,
)

#: The shelf a drive was on before it was taken out.
LEFT = Shelf.__table__.alias("left_shelf")  # type: ignore[attr-defined]


def left_of(row: DriveRow, shelf: str | None) -> tuple[str, int] | None:
    """Shelf and bay it was in, while it is out."""
    return None if shelf is None or row.left_bay is None or row.shelf_id is not None else (shelf, row.left_bay)


@cache
def _drives_asked() -> Any:
    return (
        pick(
            DriveRow,
            Shelf.name,
            Host.name,
            PoolRow.name,
            Site.name,
            Shelf.link,
            DriveModel,
            LEFT.c.name,
            PartitionPlan.pool_id,
            DrainRow.subject,
        )
        .outerjoin(Shelf, col(Shelf.id) == DriveRow.shelf_id)
        .outerjoin(Site, col(Site.id) == Shelf.site_id)
        .outerjoin(Host, col(Host.id) == Shelf.host_id)
        .outerjoin(PoolPlace, col(PoolPlace.drive_id) == DriveRow.id)
        .outerjoin(PoolRow, col(PoolRow.id) == PoolPlace.pool_id)
        .outerjoin(DriveModel, func.lower(col(DriveModel.model)) == func.lower(col(DriveRow.model)))
        .outerjoin(LEFT, LEFT.c.id == DriveRow.left_shelf_id)
        .outerjoin(PartitionPlan, col(PartitionPlan.drive_id) == DriveRow.id)
        .outerjoin(DrainRow, col(DrainRow.id) == DriveRow.drain_id)
        .where(in_these(DriveRow.id))
    )


def _drive(
    row: DriveRow, shelf: str | None, host: str | None, pool: str | None, site: str | None, link: int | None,
    model: DriveModel | None, left: str | None, by_itself: int | None, draining: str | None,
) -> EstateDrive:  # fmt: skip
    assert row.id is not None
    known = Drive(
        str(row.id), offered(row.size, row.held_share), Kind(row.kind), row.rate, shelf, host, site, row.afr, row.uber,
        price=None if row.price is None else float(row.price), currency=row.currency, model=row.model,
        serial=row.serial, in_service=row.in_service, error_recovery=row.error_recovery, link=link,
    )  # fmt: skip
    if model is not None:
        (known,) = with_models([known], [model_of(model)])
    return EstateDrive(
        row.id, row.serial, shelf, row.bay, row.size, Kind(row.kind), row.rate,
        row.service, row.condition, row.holds, row.starts_host, pool, host, known, row.bus, row.sector_size,
        left_of(row, left), row.retired_to, by_itself is not None, row.held_share, row.sealed_by, row.wiped_at, draining,
    )  # fmt: skip


def model_of(row: DriveModel) -> Model:
    """A model of the price list as the core takes it."""
    return Model(
        row.model, row.size, Kind(row.kind), None if row.price is None else float(row.price), row.currency, row.maker,
        row.bus, row.rate, row.afr, row.uber, row.ops, row.watts, row.error_recovery,
    )  # fmt: skip


def load_models(session: Session) -> list[Model]:
    """The price list, by maker, kind and size."""
    rows = session.exec(select(DriveModel).order_by(DriveModel.maker, DriveModel.kind, col(DriveModel.size)))
    return [model_of(r) for r in rows]


def store_models(session: Session, models: Sequence[Model]) -> None:
    """Put a price list in the place of the one before."""
    session.connection().execute(delete(DriveModel))
    for m in models:
        session.add(DriveModel(**{f.name: getattr(m, f.name) for f in fields(m)} | {"kind": m.kind.value}))


def load_drives(session: Session, ids: Collection[int]) -> list[EstateDrive]:
    """These drives, in the order asked for; unknown ids are left out."""
    if not ids:
        return []
    found = {row[0].id: _drive(*row) for row in session.exec(_drives_asked(), params=these(ids))}
    return [found[i] for i in ids if i in found]


def lock_drives(session: Session, ids: Collection[int]) -> None:
    """Hold these drives to the end of the transaction, in one order so that two never wait in a circle."""
    query = select(DriveRow.id).where(among(DriveRow.id, ids)).order_by(col(DriveRow.id)).with_for_update()
    session.exec(query).all()


_STRIPES = (
    select(VolumeStripes, VolumeRow.protection)
    .join(VolumeRow, col(VolumeRow.id) == VolumeStripes.volume_id)
    .where(in_these(VolumeStripes.pool_id)).order_by(col(VolumeStripes.volume_id))
    .execution_options(populate_existing=True)
)  # fmt: skip


def load_stripes(session: Session, pool_ids: Collection[int]) -> dict[int, list[StripedVolume]]:
    """The stripes of spread pools' volumes, by pool."""
    found: dict[int, list[StripedVolume]] = {}
    for row, protection in session.exec(_STRIPES, params=these(pool_ids)) if pool_ids else ():
        found.setdefault(row.pool_id, []).append(stripes_from(row.volume_id, protection or "", row.placed))
    return found


def stripes_from(volume_id: int, protection: str, placed: bytes) -> StripedVolume:
    """A volume's stripes from how a row keeps them."""
    own = parse_protection(protection)
    return StripedVolume(volume_id, own, np.frombuffer(placed, "<i4").reshape(-1, own.width, 2))


def store_stripes(session: Session, pool_id: int, placed: StripedVolume) -> None:
    """Keep a volume's stripes in the place of those before."""
    content = np.ascontiguousarray(placed.spots, "<i4").tobytes()
    row = session.get(VolumeStripes, placed.volume)
    if row is None:
        session.add(VolumeStripes(volume_id=placed.volume, pool_id=pool_id, placed=content))
    else:
        row.placed = content


# What is asked of pools: statements that never change are put together once.
_POOLS = select(PoolRow).where(in_these(PoolRow.id)).order_by(PoolRow.name)
_PLACES = select(PoolPlace).where(in_these(PoolPlace.pool_id))
_PIECES = select(VolumePiece.pool_id, VolumePiece.first, VolumePiece.count).where(in_these(VolumePiece.pool_id))
_GOING = select(GrowthPathRow).where(in_these(GrowthPathRow.pool_id), col(GrowthPathRow.ended_at).is_(None))
_OPEN = col(JobRow.state).not_in((JobState.DONE, JobState.FAILED))
_OPEN_JOBS = (
    select(JobRow.pool_id, JobRow.kind, JobRow.volume_id, JobRow.slot).where(in_these(JobRow.pool_id), _OPEN)
    .order_by(col(JobRow.id))
)  # fmt: skip
_ARRIVING = select(JobRow.to_pool_id).where(in_these(JobRow.to_pool_id), _OPEN)


def load_pieces(session: Session, pool_ids: Collection[int]) -> dict[int, list[tuple[int, int]]]:
    """What of these pools is given to volumes, by pool: (first extent, how many)."""
    found: dict[int, list[tuple[int, int]]] = {}
    for pool_id, first, count in session.exec(_PIECES, params=these(pool_ids)):
        found.setdefault(pool_id, []).append((first, count))
    return found


def load_pools(session: Session, ids: Collection[int]) -> list[EstatePool]:
    """These pools with their places and drives, in a fixed number of statements."""
    if not ids:
        return []
    asked = these(ids)
    rows = session.exec(_POOLS, params=asked).all()
    places = session.exec(_PLACES, params=asked).all()
    drives = {d.id: d for d in load_drives(session, [p.drive_id for p in places if p.drive_id is not None])}
    stripes = load_stripes(session, [r.number for r in rows if scheme_of(r.scheme).own_protection])
    taken = load_pieces(session, ids)
    tables = _tables(session, ids)
    missed = _regions_missed(session, places)
    paths = {
        p.pool_id: tuple((slot, drive, done) for slot, drive, done in p.steps)
        for p in session.exec(_GOING, params=asked)
    }
    under_way: dict[int, list[Under]] = {}
    for job_pool, kind, volume_id, slot in session.exec(_OPEN_JOBS, params=asked):
        under_way.setdefault(job_pool or 0, []).append(Under(kind, volume_id, slot))
    for to_pool in filter(None, session.exec(_ARRIVING, params=asked)):
        under_way.setdefault(to_pool, []).append(Under("move-in"))
    pools = []
    for row in rows:
        assert row.id is not None
        own = [p for p in places if p.pool_id == row.id]
        layout = designed_layout(row, own, stripes.get(row.id, ()))
        members = sorted((p for p in own if p.slot is not None), key=lambda p: p.member)
        pools.append(
            EstatePool(
                row.id, row.name, row.state, layout,
                tuple(
                    EstatePlace(
                        p.member, p.state, layout.members[p.member], drives.get(p.drive_id) if p.drive_id is not None else None, p.draining,
                        _missed(layout, p, missed),
                    )
                    for p in members
                ),
                tuple(drives[p.drive_id] for p in own if p.slot is None and p.beside is None and p.drive_id in drives),
                is_synced(row, layout),
                row.scheme,
                () if layout.own_protection else tuple(gaps(row.capacity, taken.get(row.id, ()))),
                row.key is not None,
                table=tables.get(row.id),
                copies=tuple((p.beside, drives[p.drive_id]) for p in own if p.beside is not None and p.drive_id in drives),
                path=paths.get(row.id, ()), under_way=tuple(under_way.get(row.id, ())),
            )
        )  # fmt: skip
    return pools


def _regions_missed(session: Session, places: Sequence[PoolPlace]) -> dict[int, set[int]]:
    """For each place whose drive is missing, the regions of it that have changed since."""
    away = {p.number: p.absence for p in places if p.state == MemberState.MISSING}
    found: dict[int, set[int]] = {number: set() for number in away}
    if away:
        query = select(MissedWrite.place_id, MissedWrite.absence, MissedWrite.region)
        for number, absence, region in session.exec(query.where(among(MissedWrite.place_id, list(away)))):
            if absence == away[number]:
                found[number].add(region)
    return found


def _missed(layout: Layout, place: PoolPlace, missed: dict[int, set[int]]) -> int | None:
    """Extents of a member that is away that have changed since, at most."""
    if place.number not in missed:
        return None
    return rows_missed(layout, place.member, None if place.incomplete else missed[place.number])


_TABLES = (
    select(PartitionPlan, DriveRow.size).join(DriveRow, col(DriveRow.id) == PartitionPlan.drive_id)
    .where(in_these(PartitionPlan.pool_id)).execution_options(populate_existing=True)
)  # fmt: skip


def _tables(session: Session, pool_ids: Collection[int]) -> dict[int | None, Table]:
    """The tables of drives that are a pool by themselves, by pool."""
    return {row.pool_id: written_table(row, size) for row, size in session.exec(_TABLES, params=these(pool_ids))}


def written_table(row: PartitionPlan, size: int) -> Table:
    """The table as it was last written."""
    return table_of_parts(size, row.sector, row.scheme, [Part(**p) for p in row.written or ()])


# -- inventories -----------------------------------------------------------------------------------


def what_is_taken(session: Session) -> Taken:
    """Drives and shelf sizes already in the books, for a list to be held against."""
    left_site = Site.__table__.alias("left_site")  # type: ignore[attr-defined]
    query = (
        pick(DriveRow, Shelf, Site.name, PoolRow.name, LEFT.c.name, left_site.c.name)
        .outerjoin(Shelf, col(Shelf.id) == DriveRow.shelf_id)
        .outerjoin(Site, col(Site.id) == Shelf.site_id)
        .outerjoin(PoolPlace, col(PoolPlace.drive_id) == DriveRow.id)
        .outerjoin(PoolRow, col(PoolRow.id) == PoolPlace.pool_id)
        .outerjoin(LEFT, LEFT.c.id == DriveRow.left_shelf_id)
        .outerjoin(left_site, left_site.c.id == LEFT.c.site_id)
    )
    drives = {}
    for row, shelf, site, pool, left, its_site in session.exec(query):
        facts: dict[str, Any] = {name: getattr(row, name) for name in _SAME}
        record = DriveRecord(
            site=site or its_site or "", shelf=shelf.name if shelf else left or "", kind=Kind(row.kind),
            bay=(row.bay if shelf else row.left_bay) or 0, **facts,
        )  # fmt: skip
        drives[row.serial] = Kept(record, pool, shelf is not None, row.retired_to)
    sizes = session.exec(select(Site.name, Shelf.name, Shelf.bays).join(Site, col(Site.id) == Shelf.site_id))
    return Taken(drives, {(site, shelf): count for site, shelf, count in sizes})


_ELSEWHERE = {"site", "shelf", "host", "bays", "bay", "kind", "link"}
#: Facts that have the same name in a record and in a row.
_SAME = (*(c.field for c in COLUMNS if c.field not in _ELSEWHERE), "currency")


def record_of(row: DriveRow, shelf: Shelf, site: str, host: str | None, bay: int | None = None) -> DriveRecord:
    """A drive's row as an inventory lists it; ``bay``: as it will, in another bay."""
    return DriveRecord(
        site=site, shelf=shelf.name, host=host, bays=shelf.bays, bay=(row.bay or 0) if bay is None else bay, kind=Kind(row.kind),
        link=shelf.link, **{name: getattr(row, name) for name in _SAME},
    )  # fmt: skip


def all_records(session: Session) -> Iterable[DriveRecord]:
    """Every drive that is on a shelf, in the order of sites, shelves and bays."""
    query = (
        select(DriveRow, Shelf, Site.name, Host.name)
        .join(Shelf, col(Shelf.id) == DriveRow.shelf_id)
        .join(Site, col(Site.id) == Shelf.site_id)
        .outerjoin(Host, col(Host.id) == Shelf.host_id)
        .order_by(Site.name, Shelf.name, col(DriveRow.bay))
    )
    return (record_of(row, shelf, site, host) for row, shelf, site, host in session.exec(query))


def _shelves_of(session: Session, records: Sequence[DriveRecord]) -> dict[tuple[str, str], int]:
    """The numbers of the shelves that records name, by (site, shelf), made with their sites and hosts where need be."""
    sites = {s.name: s for s in session.exec(select(Site))}
    hosts = {h.name: h for h in session.exec(select(Host))}
    shelves = {(s.site_id, s.name): s for s in session.exec(select(Shelf))}
    named: dict[tuple[str, str], tuple[int, str | None, int | None]] = {}
    for record in records:
        key = (record.site, record.shelf)
        most, host, link = named.get(key, (0, None, None))
        named[key] = (max(most, record.bays or 0, record.bay), host or record.host, record.link or link)
    for site, _ in named:
        if site not in sites:
            sites[site] = Site(name=site)
            session.add(sites[site])
    session.flush()
    for record in records:
        if record.host and record.host not in hosts:
            hosts[record.host] = Host(name=record.host, site_id=sites[record.site].number)
            session.add(hosts[record.host])
    session.flush()
    found = {}
    for (site, name), (most, host, link) in named.items():
        shelf = shelves.get((sites[site].number, name))
        if shelf is None:
            shelf = Shelf(site_id=sites[site].number, name=name, bays=most)
            session.add(shelf)
        if host and shelf.host_id is None:
            shelf.host_id = hosts[host].id
        shelf.link = link or shelf.link
        shelf.bays = max(most, shelf.bays)
        found[(site, name)] = shelf
    session.flush()
    return {key: shelf.number for key, shelf in found.items()}


def add_records(session: Session, records: Sequence[DriveRecord], *, service: Service = Service.NEW) -> list[DriveRow]:
    """Store drives with the sites, hosts and shelves they name; the database refuses doubles."""
    shelves = _shelves_of(session, records)
    rows = [
        DriveRow(
            shelf_id=shelves[(r.site, r.shelf)], bay=r.bay, kind=r.kind.value, service=service,
            **{name: getattr(r, name) for name in _SAME},
        )
        for r in records
    ]  # fmt: skip
    session.add_all(rows)
    session.flush()
    return rows


def copy_records(session: Session, records: Sequence[DriveRecord]) -> None:
    """The same for many at once, by PostgreSQL's COPY: nothing is known of the rows afterwards."""
    shelves = _shelves_of(session, records)
    moment = now()
    plain = [name for name in _SAME if name != "starts_host"]
    names = ", ".join(
        f'"{name}"' for name in ("shelf_id", "bay", "kind", "service", *plain, "starts_host", "condition", "seen_at")
    )
    cursor = session.connection().connection.cursor()
    with cursor.copy(f"copy drive ({names}) from stdin") as copy:  # type: ignore[attr-defined]
        for r in records:
            copy.write_row((
                shelves[(r.site, r.shelf)], r.bay, r.kind.value, Service.NEW.value, *(getattr(r, name) for name in plain),
                r.starts_host, Condition.GOOD.value, moment,
            ))  # fmt: skip


def change_records(session: Session, records: Sequence[DriveRecord]) -> None:
    """Facts of drives that are in the books, by serial, as a list has them; what it leaves empty stays."""
    shelves = _shelves_of(session, records)
    rows = {
        r.serial: r for r in session.exec(select(DriveRow).where(col(DriveRow.serial).in_([r.serial for r in records])))
    }
    moved = [r for r in records if (rows[r.serial].shelf_id, rows[r.serial].bay) != (shelves[(r.site, r.shelf)], r.bay)]
    for record in moved:  # out of the way first: two may have changed places
        rows[record.serial].shelf_id = rows[record.serial].bay = None
    session.flush()
    for record in records:
        row = rows[record.serial]
        row.shelf_id, row.bay, row.kind = shelves[(record.site, record.shelf)], record.bay, record.kind.value
        row.left_shelf_id = row.left_bay = None
        for name in _SAME:
            value = getattr(record, name)
            if value not in (None, False):
                setattr(row, name, value)
    session.flush()

"""Shelves and drives: what is there, the filter, taking drives in, importing and exporting lists."""

from __future__ import annotations

import datetime as dt
from functools import cache
from typing import Any

from flask import Response
from flask_openapi3 import APIBlueprint
from pydantic import BaseModel, Field
from sqlalchemy import func
from sqlmodel import Session, col, select

from pairshelf.api.guard import needs, signed_in
from pairshelf.api.paths import DrivePath
from pairshelf.api.queries import Query, Upload
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.drive_filter import Facts, Filter, parse_filter
from pairshelf.core.domain.drives import Kind
from pairshelf.core.domain.estate import EstateDrive
from pairshelf.core.domain.inventory import Differences, RowError, against_each_other, differences
from pairshelf.core.domain.names import is_number, natural
from pairshelf.core.errors import BadInput, NotFound, NotPossible
from pairshelf.core.watching.failing import Health
from pairshelf.engine.log import log
from pairshelf.engine.pools import devices
from pairshelf.formats.inventory_csv import UnderstoodFile, read_inventory, write_inventory
from pairshelf.formats.tables import MOST_BYTES
from pairshelf.services.drive_lists import store_list
from pairshelf.services.matching import BAY, Match, situations
from pairshelf.services.matching import matching as matching_drives
from pairshelf.services.watching import drives_used
from pairshelf.store.database import Lock, in_these, lock_until_commit, pick, these, transaction
from pairshelf.store.repositories.drives_and_pools import (
    LEFT,
    all_records,
    left_of,
    load_drives,
    lock_drives,
    what_is_taken,
)
from pairshelf.store.tables import (
    DrainRow,
    DriveHealth,
    DriveRow,
    Host,
    PartitionPlan,
    PoolPlace,
    PoolRow,
    Service,
    Shelf,
    Site,
)

api = APIBlueprint("shelves", __name__, url_prefix="/api")


#: Shelves whose drives are asked for at once.
MOST_SHELVES = 60


#: Drives that can be selected at once by a filter.
MOST_SELECTED = 1000


class DriveOut(BaseModel):
    id: int
    shelf_id: int | None
    shelf: str | None
    site: str | None
    host: str | None
    bay: int | None
    serial: str
    maker: str | None
    model: str | None
    size: int
    kind: str
    bus: str | None
    service: str
    condition: str
    #: new, free, starts-host, in-use, spare, rebuilding, warns, failing, failed, missing: all that hold.
    situations: list[str]
    holds: str | None
    pool_id: int | None
    pool: str | None
    tint: int | None
    #: It is in use by its partitions: the pool is the drive itself.
    partitioned: bool
    #: Why it cannot be chosen for a layout, or null if it can.
    not_offered: str | None
    #: Why it cannot leave the house, or null if it can.
    stays: str | None = None
    #: Where it was before it was taken out, while it is out: shelf and bay.
    left: str | None = None
    #: Where it went, if it has left the house.
    retired_to: str | None = None
    matches: bool = True
    #: Bytes on it on which something of its pool's volumes stands; null where it is no pool's member.
    used: int | None = None
    #: The lamp of its bay is lit.
    lit: bool = False


class ShelfOut(BaseModel):
    id: int
    site: str
    host: str | None
    host_id: int | None
    name: str
    bays: int
    drives: int
    matching: int
    #: Bytes of all its drives; of those that are a pool's members; and of those on which something stands.
    size: int
    in_pools: int
    used: int


class SiteScale(BaseModel):
    site: str
    #: Bytes of the largest drive: the top of the site's one scale.
    largest: int


class ShelvesOut(BaseModel):
    shelves: list[ShelfOut]
    scales: list[SiteScale]
    drives: int
    matching: int
    new: int
    #: Drives that are in no bay.
    out: int
    filter_error: str | None
    #: Ids of the drives that pass the filter; null without one.
    matched: list[int] | None


class HostsOut(BaseModel):
    hosts: list[str]


class FilterQuery(Query):
    filter: str = ""


class DrivesQuery(Query):
    filter: str = ""
    shelves: str = Field(description="Ids of shelves, separated by commas.")


class RetiredQuery(Query):
    serial: str = Field(default="", max_length=64)
    limit: int = Field(default=100, ge=1, le=MOST_SELECTED)


class DrivesOut(BaseModel):
    drives: list[DriveOut]


class IdsQuery(Query):
    ids: str = Field(description="Ids of drives, separated by commas.")


class SelectionOut(BaseModel):
    ids: list[int]
    more: int


class Fact(BaseModel):
    label: str
    text: str | None = None
    bytes: int | None = None
    rate: int | None = None
    source: str | None = None


class DriveSheetOut(BaseModel):
    drive: DriveOut
    facts: list[Fact]


class TakeInBody(BaseModel):
    ids: list[int] = Field(min_length=1, max_length=20_000)


class TakenOut(BaseModel):
    taken: int


class UploadForm(BaseModel):
    file: Upload


class ColumnOut(BaseModel):
    heading: str
    as_heading: str | None
    unit: str | None


class RowErrorOut(BaseModel):
    row: int
    column: str | None
    reason: str


class PreviewRow(BaseModel):
    row: int
    site: str
    shelf: str
    bay: int
    maker: str | None
    model: str | None
    serial: str
    size: int
    kind: str
    holds: str | None


class FactChangedOut(BaseModel):
    fact: str
    before: str
    after: str


class ChangedOut(BaseModel):
    row: int
    serial: str
    facts: list[FactChangedOut]


class ReadingOut(BaseModel):
    columns: list[ColumnOut]
    total_rows: int
    good_rows: int
    errors: list[RowErrorOut]
    more_errors: int
    first_rows: list[PreviewRow]
    #: What the list does to the books: so many new drives, so many as they are, those that change, and those on its
    #: shelves that it does not have, which stay as they are.
    new: int
    same: int
    changed: list[ChangedOut]
    more_changed: int
    gone: list[str]
    more_gone: int
    stored: bool = False


@cache
def _query() -> Any:
    return (
        pick(
            DriveRow,
            Shelf.name,
            Site.name,
            Host.name,
            PoolPlace.slot,
            PoolPlace.state,
            PoolRow.id,
            PoolRow.name,
            PoolRow.tint,
            LEFT.c.name,
            PartitionPlan.pool_id,
            DrainRow.subject,
            DriveHealth.level,
        )
        .outerjoin(Shelf, col(Shelf.id) == DriveRow.shelf_id)
        .outerjoin(Site, col(Site.id) == Shelf.site_id)
        .outerjoin(Host, col(Host.id) == Shelf.host_id)
        .outerjoin(PoolPlace, col(PoolPlace.drive_id) == DriveRow.id)
        .outerjoin(PoolRow, col(PoolRow.id) == PoolPlace.pool_id)
        .outerjoin(LEFT, LEFT.c.id == DriveRow.left_shelf_id)
        .outerjoin(PartitionPlan, col(PartitionPlan.drive_id) == DriveRow.id)
        .outerjoin(DrainRow, col(DrainRow.id) == DriveRow.drain_id)
        .outerjoin(DriveHealth, col(DriveHealth.drive_id) == DriveRow.id)
    )


@cache
def _of_shelves() -> Any:
    return _query().where(in_these(DriveRow.shelf_id)).order_by(col(DriveRow.bay))


def _out(found: Any) -> DriveOut:
    row, shelf, site, host, slot, place, pool_id, pool, tint, left_shelf, by_itself, draining, level = found
    left = left_of(row, left_shelf)
    drive = EstateDrive(
        row.id, row.serial, shelf, row.bay, row.size, Kind(row.kind), row.rate, row.service, row.condition,
        row.holds, row.starts_host, pool, host, left=left, retired_to=row.retired_to,
        partitioned=by_itself is not None, draining=draining,
    )  # fmt: skip
    words = situations(
        row.service,
        row.condition,
        row.starts_host,
        pool_id,
        slot,
        place,
        wiped=row.wiped_at is not None,
        in_bay=row.shelf_id is not None,
        draining=row.drain_id is not None,
        warns=level == Health.WARNS,
    )
    return DriveOut(
        id=row.id, shelf_id=row.shelf_id, shelf=shelf, site=site, host=host, bay=row.bay, serial=row.serial,
        maker=row.maker, model=row.model, size=row.size, kind=row.kind, bus=row.bus, service=row.service,
        condition=row.condition, situations=words, holds=row.holds, pool_id=pool_id, pool=pool, tint=tint,
        partitioned=drive.partitioned,
        not_offered=drive.why_not_offered(), stays=drive.why_it_stays(), left=f"{left[0]} bay {left[1]}" if left else None, retired_to=row.retired_to,
    )  # fmt: skip


def _facts(d: DriveOut, use: str | None) -> Facts:
    said = {
        "shelf": d.shelf, "site": d.site, "host": d.host, "maker": d.maker, "model": d.model, "serial": d.serial,
        "bay": str(d.bay), "pool": d.pool, "bus": d.bus, "use": use,
    }  # fmt: skip
    return Facts(d.size, Kind(d.kind), frozenset(d.situations), said.get)


def _test(text: str) -> tuple[Filter | None, str | None]:
    if not text.strip():
        return None, None
    try:
        return parse_filter(text), None
    except BadInput as error:
        return None, error.message


#: In no bay, and still of the house.
_OUTSIDE = (col(DriveRow.shelf_id).is_(None), DriveRow.service != Service.RETIRED)
_NEW = select(func.count()).select_from(DriveRow).where(DriveRow.service == Service.NEW)
_ALL_OUTSIDE = select(func.count()).select_from(DriveRow).where(*_OUTSIDE)
_MEMBER = col(PoolPlace.id).is_not(None)
#: Of each shelf, how many drives it holds and how large they are; of those that are members of pools also which.
_HELD = (
    pick(col(DriveRow.shelf_id).label("shelf"), func.count().label("drives"), func.max(DriveRow.size).label("largest"),
         func.sum(DriveRow.size).label("size"), func.sum(DriveRow.size).filter(_MEMBER).label("in_pools"),
         func.array_agg(DriveRow.id).filter(_MEMBER).label("members"))
    .outerjoin(PoolPlace, (col(PoolPlace.drive_id) == DriveRow.id) & col(PoolPlace.slot).is_not(None))
    .group_by(col(DriveRow.shelf_id)).subquery()
)  # fmt: skip
_SHELVES = (
    pick(Shelf.id, Shelf.name, Shelf.bays, Site.name.label("site"), Host.name.label("host"), Shelf.host_id, _HELD)  # type: ignore[attr-defined]
    .join(Site, col(Site.id) == Shelf.site_id)
    .outerjoin(Host, col(Host.id) == Shelf.host_id)
    .outerjoin(_HELD, _HELD.c.shelf == Shelf.id)
)  # fmt: skip


@api.get("/shelves", responses={200: ShelvesOut})
@needs(Act.LOOK, shared="with-all")
def shelves(query: FilterQuery) -> Any:
    """All shelves with how many drives they hold and how many of them pass the filter."""
    test, wrong = _test(query.filter)
    with transaction() as session:
        counted = session.exec(_SHELVES).all()
        used = drives_used(session)
        new, outside = session.exec(_NEW).one(), session.exec(_ALL_OUTSIDE).one()
        per_shelf: dict[int | None, int] = {}
        matched: list[Match] | None = None
        if test:
            matched = matching_drives(session, test)
            for one in matched:
                per_shelf[one.shelf_id] = per_shelf.get(one.shelf_id, 0) + 1
    out = [
        ShelfOut(
            id=s.id, site=s.site, host=s.host, host_id=s.host_id, name=s.name, bays=s.bays, drives=s.drives or 0,
            matching=per_shelf.get(s.id, 0) if test else s.drives or 0, size=int(s.size or 0), in_pools=int(s.in_pools or 0),
            used=sum(used.get(drive, 0) for drive in s.members or ()),
        )
        for s in counted
    ]  # fmt: skip
    out.sort(key=lambda s: (s.site, natural(s.name)))
    scales: dict[str, int] = {}
    for shelf in counted:
        scales[shelf.site] = max(scales.get(shelf.site, 0), shelf.largest or 0)
    return ShelvesOut(
        shelves=out, scales=[SiteScale(site=k, largest=v) for k, v in scales.items()],
        drives=sum(s.drives for s in out), matching=sum(s.matching for s in out), new=new, out=outside, filter_error=wrong,
        matched=None if matched is None else [m.id for m in matched],
    )  # fmt: skip


def _with_use(session: Session, drives: list[DriveOut]) -> list[DriveOut]:
    """The same with what is used on those that are members of pools, and whose lamp is lit."""
    used = drives_used(session, {d.pool_id for d in drives if d.pool_id is not None})
    lit = devices().lit()
    for drive in drives:
        drive.used, drive.lit = used.get(drive.id), drive.serial in lit
    return drives


@api.get("/hosts", responses={200: HostsOut})
@needs(Act.LOOK, shared="with-all")
def hosts() -> Any:
    """Names of the hosts, which can mount volumes."""
    with transaction() as session:
        return HostsOut(hosts=list(session.exec(select(Host.name).order_by(Host.name))))


@api.get("/drives", responses={200: DrivesOut})
@needs(Act.LOOK, shared="with-all")
def drives(query: DrivesQuery) -> Any:
    """The drives of some shelves, each with whether it passes the filter."""
    ids = _numbers(query.shelves, MOST_SHELVES)
    test, _ = _test(query.filter)
    with transaction() as session:
        found = [(_out(row), row[0].use) for row in session.exec(_of_shelves(), params=these(ids))]
        _with_use(session, [d for d, _ in found])
    for drive, use in found:
        drive.matches = test is None or test(_facts(drive, use))
    return DrivesOut(drives=[d for d, _ in found])


@api.get("/drives/out", responses={200: DrivesOut})
@needs(Act.LOOK, shared="with-all")
def drives_out() -> Any:
    """Drives of the house that are in no bay, by serial."""
    with transaction() as session:
        rows = session.exec(_query().where(*_OUTSIDE).order_by(DriveRow.serial).limit(MOST_SELECTED))
        return DrivesOut(drives=[_out(row) for row in rows])


@api.get("/drives/new", responses={200: DrivesOut})
@needs(Act.LOOK)
def drives_new() -> Any:
    """Drives that have been found and nobody has accepted, by shelf and bay."""
    with transaction() as session:
        rows = session.exec(
            _query().where(DriveRow.service == Service.NEW).order_by(Shelf.name, col(DriveRow.bay)).limit(1000)
        )
        return DrivesOut(drives=[_out(row) for row in rows])


@api.get("/drives/retired", responses={200: DrivesOut})
@needs(Act.LOOK)
def drives_retired(query: RetiredQuery) -> Any:
    """Drives that have left the house, the last first; by a part of the serial, if one is given."""
    with transaction() as session:
        statement = _query().where(DriveRow.service == Service.RETIRED)
        if query.serial.strip():
            statement = statement.where(col(DriveRow.serial).icontains(query.serial.strip(), autoescape=True))
        rows = session.exec(statement.order_by(col(DriveRow.retired_at).desc(), col(DriveRow.id)).limit(query.limit))
        return DrivesOut(drives=[_out(row) for row in rows])


@api.get("/drives/by-id", responses={200: DrivesOut})
@needs(Act.LOOK, shared="with-all")
def drives_by_id(query: IdsQuery) -> Any:
    """These drives, in the order asked for."""
    ids = _numbers(query.ids, MOST_SELECTED)
    with transaction() as session:
        rows = session.exec(_query().where(col(DriveRow.id).in_(ids)))
        found = {d.id: d for d in _with_use(session, [_out(row) for row in rows])}
    return DrivesOut(drives=[found[i] for i in ids if i in found])


@api.get("/drives/matching", responses={200: SelectionOut})
@needs(Act.LOOK, shared="with-all")
def matching(query: FilterQuery) -> Any:
    """Ids of the drives that pass the filter and can be chosen for a layout."""
    with transaction() as session:
        offered = [m for m in matching_drives(session, parse_filter(query.filter)) if m.offered]
    ids = [m.id for m in sorted(offered, key=lambda m: (m.site, natural(m.shelf), m.row[BAY] or 0, m.id))]
    return SelectionOut(ids=ids[:MOST_SELECTED], more=max(0, len(ids) - MOST_SELECTED))


@api.get("/drives/<int:drive_id>", responses={200: DriveSheetOut})
@needs(Act.LOOK)
def drive_sheet(path: DrivePath) -> Any:
    """A drive's sheet of facts; what is assumed for its kind says so."""
    with transaction() as session:
        found = session.exec(_query().where(col(DriveRow.id) == path.drive_id)).first()
        if found is None:
            raise NotFound("drive")
        (out,), row = _with_use(session, [_out(found)]), found[0]
        (known,) = load_drives(session, [path.drive_id])
    drive = known.as_drive

    def source(name: str) -> str | None:
        """Its own figure needs no word; its model's and its kind's do."""
        if getattr(row, name, None) is not None:
            return "a maker's ceiling" if name == "uber" else None
        return "assumed for its kind" if getattr(drive, name) is None else "its model's, from the price list"

    facts = [
        Fact(label="Serial", text=row.serial),
        Fact(label="Maker and model", text=" ".join(p for p in (row.maker, row.model) if p) or None),
        Fact(label="Size", bytes=row.size),
        Fact(label="Used on it", bytes=out.used),
        Fact(label="Free on it", bytes=None if out.used is None else max(0, row.size - out.used)),
        Fact(label="Size to the byte", text=f"{row.size:,} bytes".replace(",", "\u202f")),
        Fact(label="Kind", text={"hdd": "rotating (hdd)", "ssd": "flash (ssd)", "nvme": "flash on PCIe (nvme)"}[row.kind]),
        Fact(label="Bus", text=row.bus),
        Fact(label="Sector size", text=f"{row.sector_size} bytes" if row.sector_size else None),
        Fact(label="Rotation", text=f"{row.rpm} rpm" if row.rpm else None),
        Fact(label="Mean sequential rate", rate=drive.mean_rate, source=source("rate")),
        Fact(label="Small operations", text=f"{drive.operations:,} a second".replace(",", "\u202f"), source=source("ops")),
        Fact(label="Yearly failure rate", text=f"{drive.yearly_failure * 100:g} %", source=source("afr")),
        Fact(label="Unreadable bits (UBER)", text=f"{drive.bit_errors:g} per bit read", source=source("uber")),
        Fact(label="Rated writes", bytes=row.rated_writes),
        Fact(label="Maximum temperature", text=f"{row.max_temperature:g} °C" if row.max_temperature is not None else None),
        Fact(label="Power", text=f"{drive.power:g} W", source=source("watts")),
        Fact(label="Its shelf's link, shared", rate=drive.link),
        Fact(label="Intended use", text=row.use),
        Fact(label="Property number", text=row.property_number),
        Fact(label="In service since", text=row.in_service.isoformat() if row.in_service else None),
        Fact(label="Price", text=f"{drive.price:.2f} {drive.currency or ''}".strip() if drive.price is not None else None,
             source=source("price")),
        Fact(label="Last seen", text=row.seen_at.astimezone(dt.UTC).strftime("%Y-%m-%d %H:%M UTC")),
    ]  # fmt: skip
    return DriveSheetOut(drive=out, facts=[f for f in facts if f.text or f.bytes or f.rate])


@api.post("/drives/take-in", responses={200: TakenOut})
@needs(Act.MANAGE_DRIVES)
def take_in(body: TakeInBody) -> Any:
    """Take new drives in: from now on they are free. What they hold stays noted until it is erased."""
    who = signed_in().name
    with transaction() as session:
        lock_drives(session, body.ids)
        rows = session.exec(select(DriveRow).where(col(DriveRow.id).in_(body.ids))).all()
        if len(rows) != len(set(body.ids)):
            raise NotPossible("One of these drives is not there any more. Nothing was changed.", code="drive-gone")
        refused = [r for r in rows if r.service != Service.NEW]
        if refused:
            raise NotPossible(f"Drive {refused[0].serial} is not new; it was accepted already.", code="not-new")
        for row in rows:
            row.service = Service.FREE
        some = ", ".join(r.serial for r in rows[:5]) + (f" and {len(rows) - 5} more" if len(rows) > 5 else "")
        log(session, who, "drives-taken-in", some, f"{len(rows)} drive{'s' if len(rows) > 1 else ''} accepted: {some}.",
            serials=[r.serial for r in rows[:1000]])  # fmt: skip
    return TakenOut(taken=len(rows))


# -- lists ------------------------------------------------------------------------------------------
def _read(form: UploadForm, session: Session) -> tuple[UnderstoodFile, list[RowError], Differences]:
    raw = form.file.stream.read(MOST_BYTES + 1)
    reading = read_inventory(raw)
    taken = what_is_taken(session)
    return reading, against_each_other(reading.rows, taken), differences(reading.rows, taken)


def _reading_out(
    reading: UnderstoodFile, clashes: list[RowError], found: Differences, *, stored: bool = False
) -> ReadingOut:
    errors = sorted([*reading.errors, *clashes], key=lambda e: e.row)
    return ReadingOut(
        columns=[ColumnOut(heading=c.heading, as_heading=c.as_heading, unit=c.unit) for c in reading.columns],
        total_rows=reading.total_rows,
        good_rows=reading.total_rows - len({e.row for e in errors if e.row > 1}) - reading.more_errors
        if not any(e.row == 1 for e in errors) else 0,
        errors=[RowErrorOut(row=e.row, column=e.column, reason=e.reason) for e in errors[:200]],
        more_errors=reading.more_errors + max(0, len(errors) - 200),
        first_rows=[
            PreviewRow(row=n, site=r.site, shelf=r.shelf, bay=r.bay, maker=r.maker, model=r.model, serial=r.serial,
                       size=r.size, kind=r.kind.value, holds=r.holds)
            for n, r in reading.rows[:8]
        ],
        new=len(found.new), same=found.same,
        changed=[ChangedOut(row=c.row, serial=c.serial, facts=[FactChangedOut(fact=n.replace("_", " "), before=b, after=a) for n, b, a in c.facts])
                 for c in found.changed[:200]],
        more_changed=max(0, len(found.changed) - 200), gone=list(found.gone[:200]), more_gone=max(0, len(found.gone) - 200),
        stored=stored,
    )  # fmt: skip


@api.post("/inventory/preview", responses={200: ReadingOut})
@needs(Act.MANAGE_DRIVES, heavy=True)
def preview(form: UploadForm) -> Any:
    """How a list would be understood, row by row what is wrong with it. Nothing is stored."""
    with transaction() as session:
        return _reading_out(*_read(form, session))


@api.post("/inventory", responses={200: ReadingOut})
@needs(Act.MANAGE_DRIVES, heavy=True)
def import_inventory(form: UploadForm) -> Any:
    """Store a list: all of it, or, when anything is wrong with it, nothing."""
    with transaction() as session:
        lock_until_commit(session, Lock.IMPORT)
        reading, clashes, found = _read(form, session)
        if reading.errors or clashes:
            return _reading_out(reading, clashes, found)
        store_list(session, reading, found, signed_in().name, form.file.filename or "a list")
    return _reading_out(reading, clashes, found, stored=True)


@api.get("/inventory/template.csv")
@needs(Act.LOOK)
def template() -> Any:
    """An empty list with every heading that is understood, to be filled in and imported."""
    return Response(
        write_inventory(()),
        content_type="text/csv; charset=utf-8",
        headers={"Content-Disposition": "attachment; filename=drives.csv"},
    )


@api.get("/inventory.csv")
@needs(Act.LOOK)
def export_inventory() -> Any:
    """All drives on shelves as CSV; importing it elsewhere gives the same drives."""
    with transaction() as session:
        content = write_inventory(all_records(session))
    return Response(
        content,
        content_type="text/csv; charset=utf-8",
        headers={"Content-Disposition": "attachment; filename=inventory.csv"},
    )


def _numbers(text: str, most: int) -> list[int]:
    parts = [p for p in text.split(",") if p]
    if not all(is_number(p) and len(p) < 10 for p in parts):
        raise BadInput("Ids are whole numbers, separated by commas.", field="ids")
    if len(parts) > most:
        raise BadInput(f"At most {most} at once.", field="ids")
    return [int(p) for p in parts]

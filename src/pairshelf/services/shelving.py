"""Shelves and drives written into the books by hand, put right, and taken out of them."""

from __future__ import annotations

import secrets
from collections.abc import Mapping, Sequence

from sqlalchemy import func
from sqlmodel import Session, col, select

from pairshelf.core.changes.drives.wipe import why_kept
from pairshelf.core.domain.by_hand import check_bays, corrected, free_bays, typed_drives
from pairshelf.core.domain.estate import Estate
from pairshelf.core.domain.inventory import USUAL_SITE, DriveRecord, checked, text
from pairshelf.core.domain.words import listed
from pairshelf.core.errors import BadInput, NameTaken, NotFound, NotPossible
from pairshelf.engine.log import log
from pairshelf.engine.planner import wanted_back
from pairshelf.store.repositories.drives_and_pools import add_records, load_drives, lock_drives
from pairshelf.store.tables import (
    Application,
    DriveRow,
    Host,
    Initiator,
    Mount,
    PoolPlace,
    PoolRow,
    Service,
    Shelf,
    Site,
    Target,
    now,
)


def _named(typed: str, field: str) -> str:
    name = " ".join(typed.split())
    if not name:
        raise BadInput("Give it a name.", field=field)
    try:
        return text(name)
    except BadInput as wrong:
        raise BadInput(wrong.message, field=field) from None


def make_shelf(session: Session, who: str, *, name: str, bays: int, site: str = "", host: str = "") -> Shelf:
    """A shelf with empty bays, and the site and host it names. NameTaken where there is one of that name."""
    name = _named(name, "name")
    known = _host_named(session, host)
    row = session.get_one(Site, known.site_id) if known and not site.strip() else _site_for(session, site)
    _require_free_name(session, row, name)
    found = known or (make_host(session, who, name=host, site=row.name) if host.strip() else None)
    shelf = Shelf(site_id=row.number, name=name, bays=check_bays(bays), host_id=found.id if found else None)
    session.add(shelf)
    session.flush()
    at = f", at host {found.name}" if found else ""
    log(session, who, "shelf-made", name, f"Shelf {name} with {bays} bays{at} written into the books.")
    return shelf


def _site_for(session: Session, typed: str) -> Site:
    """The site of that name, however it is capitalised, or a new one. Where none is named: the one there is, or the usual
    one in an empty house; BadInput where there are several to choose from."""
    there = session.exec(select(Site).order_by(Site.name)).all()
    if typed.strip():
        name = _named(typed, "site")
        found = next((s for s in there if s.name == name), None)
        found = found or next((s for s in there if s.name.casefold() == name.casefold()), None)
    else:
        name = USUAL_SITE
        found = there[0] if len(there) == 1 else next((s for s in there if s.name == USUAL_SITE), None)
        if found is None and there:
            raise BadInput(f"Say at which site: {listed([s.name for s in there[:8]], 'or')}.", field="site")
    if found is None:
        found = Site(name=name)
        session.add(found)
        session.flush()
    return found


def _host_named(session: Session, typed: str) -> Host | None:
    return session.exec(select(Host).where(Host.name == " ".join(typed.split()))).first() if typed.strip() else None


def _require_free_name(session: Session, site: Site, name: str, but: int | None = None) -> None:
    taken = session.exec(select(Shelf.id).where(Shelf.site_id == site.id, Shelf.name == name)).first()
    if taken is not None and taken != but:
        raise NameTaken("shelf", name, where=site.name)


def change_shelf(session: Session, who: str, shelf_id: int, *, name: str, bays: int, site: str, host: str) -> Shelf:
    """Another name, number of bays, site or host for a shelf; its drives stay where they are. NotPossible where a pool
    that keeps hosts or sites apart has drives in it, or more bays are taken than are left."""
    shelf = session.get(Shelf, shelf_id, with_for_update=True)
    if shelf is None:
        raise NotFound("shelf")
    name, row = _named(name, "name"), _site_for(session, site)
    _require_free_name(session, row, name, but=shelf_id)
    found = _host_named(session, host) or (make_host(session, who, name=host, site=row.name) if host.strip() else None)
    if found is not None and found.site_id != row.id:
        where = session.get_one(Site, found.site_id).name
        raise BadInput(f"Host {found.name} is at {where}; a shelf is at the site of its host.", field="site")
    here = (DriveRow.shelf_id == shelf_id) | (DriveRow.left_shelf_id == shelf_id)
    last = session.exec(select(func.max(func.coalesce(DriveRow.bay, DriveRow.left_bay))).where(here)).one() or 0
    if check_bays(bays) < last:
        raise BadInput(f"Bay {last} has a drive, or waits for the one that was in it.", field="bays")
    _require_not_kept_apart(session, shelf, row, found)
    before = {"name": shelf.name, "bays": shelf.bays, "site": session.get_one(Site, shelf.site_id).name,
              "host": session.get_one(Host, shelf.host_id).name if shelf.host_id else None}  # fmt: skip
    after = {"name": name, "bays": bays, "site": row.name, "host": found.name if found else None}
    changed = [field for field in before if before[field] != after[field]]
    if not changed:
        raise BadInput("Nothing of this differs from what is recorded.", field="name")
    drives = select(DriveRow.id).where(here)
    for place in session.exec(select(PoolPlace).where(col(PoolPlace.drive_id).in_(drives))):
        place.shelf, place.site, place.host = name, row.name, found.name if found else None
    shelf.name, shelf.bays, shelf.site_id, shelf.host_id = name, bays, row.number, found.id if found else None
    session.flush()
    log(session, who, "shelf-changed", name, f"Shelf {before['name']} changed: {', '.join(changed)}.",
        before=before, after=after)  # fmt: skip
    return shelf


def _require_not_kept_apart(session: Session, shelf: Shelf, site: Site, host: Host | None) -> None:
    """NotPossible where a pool that keeps hosts or sites apart would find two of them to be one."""
    moved = {"host"} if shelf.host_id != (host.id if host else None) else set()
    moved |= {"site"} if shelf.site_id != site.id else set()
    if not moved:
        return
    pools = session.exec(
        select(PoolRow.name, PoolRow.domain).join(PoolPlace, col(PoolPlace.pool_id) == PoolRow.id)
        .join(DriveRow, col(DriveRow.id) == PoolPlace.drive_id)
        .where((DriveRow.shelf_id == shelf.id) | (DriveRow.left_shelf_id == shelf.id), col(PoolRow.domain).in_(moved))
    ).first()  # fmt: skip
    if pools is not None:
        raise NotPossible(
            f"Pool {pools[0]} keeps {pools[1]}s apart and has drives in {shelf.name}; drain them first.", code="kept-apart",
            field=pools[1],
        )  # fmt: skip


def make_host(session: Session, who: str, *, name: str, site: str = "") -> Host:
    """The host of that name, or one that is added now."""
    name = _named(name, "host")
    if known := session.exec(select(Host).where(Host.name == name)).first():
        return known
    place = _site_for(session, site)
    host = Host(name=name, site_id=place.number)
    session.add(host)
    session.flush()
    log(session, who, "host-made", name, f"Host {name} written into the books.")
    return host


def add_host(session: Session, who: str, *, name: str, site: str = "") -> Host:
    """A host that was not there before. NameTaken where there is one of that name."""
    if _host_named(session, name) is not None:
        raise NameTaken("host", " ".join(name.split()))
    return make_host(session, who, name=name, site=site)


def add_drives(session: Session, who: str, shelf_id: int, typed: str) -> list[DriveRow]:
    """Drives typed into the first empty bays of a shelf. They are free at once: whoever types them has them."""
    wanted = typed_drives(typed)
    shelf = session.get(Shelf, shelf_id, with_for_update=True)
    if shelf is None:
        raise NotFound("shelf", field="shelf_id")
    taken = set(session.exec(select(DriveRow.bay).where(DriveRow.shelf_id == shelf_id)))
    bays = free_bays(shelf.bays, {b for b in taken if b is not None}, len(wanted))
    given = [w.serial for w in wanted if w.serial]
    if known := session.exec(select(DriveRow.serial).where(col(DriveRow.serial).in_(given))).first():
        raise NotPossible(f"There is a drive {known} already.", code="serial-taken", field="drives")
    site = session.get(Site, shelf.site_id)
    host = session.get(Host, shelf.host_id) if shelf.host_id else None
    assert site is not None
    records = [
        checked(DriveRecord(shelf=shelf.name, bay=bay, serial=w.serial or f"PS-{secrets.token_hex(4).upper()}", size=w.size,
                            kind=w.kind, site=site.name, host=host.name if host else None))
        for w, bay in zip(wanted, bays, strict=True)
    ]  # fmt: skip
    rows = add_records(session, records, service=Service.FREE)
    count = f"{len(rows)} drive{'s' if len(rows) > 1 else ''}"
    log(session, who, "drives-written-down", shelf.name, f"{count} written down in {shelf.name}.",
        serials=[r.serial for r in rows[:1000]])  # fmt: skip
    return rows


def correct_drive(session: Session, who: str, drive_id: int, said: Mapping[str, str]) -> DriveRow:
    """A drive's facts put right; what changed is in the logbook with what stood there before."""
    row = session.exec(select(DriveRow).where(DriveRow.id == drive_id).with_for_update()).first()
    if row is None:
        raise NotFound("drive")
    facts = corrected(said, in_pool=row.service == Service.IN_USE)
    changed = {name: value for name, value in facts.items() if getattr(row, name) != value}
    if not changed:
        raise BadInput("Nothing of this differs from what is in the books.", field=next(iter(said), None))
    before = {name: str(getattr(row, name)) for name in changed}
    for name, value in changed.items():
        setattr(row, name, value)
    names = ", ".join(name.replace("_", " ") for name in changed)
    log(session, who, "drive-corrected", row.serial, f"Facts of drive {row.serial} put right: {names}.",
        before=before, after={name: str(value) for name, value in changed.items()})  # fmt: skip
    return row


def retire(session: Session, who: str, ids: Sequence[int], to: str) -> int:
    """Drives leave the house for good, with where to; all of them or none. The books keep them."""
    to = _named(to, "to")
    lock_drives(session, ids)
    drives = load_drives(session, ids)
    if len(drives) != len(set(ids)):
        raise NotPossible(
            "One of these drives is not there any more. Nothing was changed.", code="drive-gone", field="ids"
        )
    estate = Estate(wanted_back=tuple(wanted_back(session, drives)))
    for drive in drives:
        if why := why_kept(estate, drive):
            raise NotPossible(f"{drive.named}: {why}", code="drive-stays", field="ids")
    moment = now()
    for row in session.exec(select(DriveRow).where(col(DriveRow.id).in_(ids))):
        row.service, row.retired_to, row.retired_at = Service.RETIRED, to, moment
        row.shelf_id = row.bay = row.left_shelf_id = row.left_bay = None
        holds = f"; it still holds {row.holds}" if row.holds else ""
        log(session, who, "drive-retired", row.serial, f"Drive {row.serial} has left the house: {to}{holds}.")
    return len(drives)


def remove_shelf(session: Session, who: str, shelf_id: int) -> None:
    """An empty shelf leaves the books."""
    shelf = session.get(Shelf, shelf_id, with_for_update=True)
    if shelf is None:
        raise NotFound("shelf")
    if left := session.exec(select(DriveRow.serial).where(DriveRow.shelf_id == shelf_id).limit(1)).first():
        raise NotPossible(f"{shelf.name} is not empty: drive {left} is in it.", code="not-empty")
    log(session, who, "shelf-removed", shelf.name, f"Empty shelf {shelf.name} taken out of the books.")
    session.delete(shelf)


#: What may stand on a host: what it is called, and the column that names the host.
_ON_A_HOST = (("shelf", Shelf.name, Shelf.host_id), ("mount", Mount.at, Mount.host_id),
              ("application", Application.name, Application.host_id), ("target", Target.iqn, Target.host_id),
              ("initiator", Initiator.iqn, Initiator.host_id))  # fmt: skip


def remove_host(session: Session, who: str, name: str) -> None:
    """A host on which nothing stands leaves the books."""
    host = session.exec(select(Host).where(Host.name == name).with_for_update()).first()
    if host is None:
        raise NotFound("host", name)
    for what, label, of in _ON_A_HOST:
        if left := session.exec(select(label).where(of == host.id).limit(1)).first():
            raise NotPossible(f"{name} still has {what} {left}.", code="not-empty")
    log(session, who, "host-removed", name, f"Host {name} taken out of the books.")
    session.delete(host)


def remove_site(session: Session, who: str, name: str) -> None:
    """A site where nothing is leaves the books."""
    site = session.exec(select(Site).where(Site.name == name).with_for_update()).first()
    if site is None:
        raise NotFound("site", name)
    for what, label, of in (("shelf", Shelf.name, Shelf.site_id), ("host", Host.name, Host.site_id)):
        if left := session.exec(select(label).where(of == site.id).limit(1)).first():
            raise NotPossible(f"{name} still has {what} {left}.", code="not-empty")
    log(session, who, "site-removed", name, f"Site {name} taken out of the books.")
    session.delete(site)

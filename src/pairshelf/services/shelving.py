"""Shelves and drives written into the books by hand, put right, and taken out of them."""

from __future__ import annotations

import secrets
from collections.abc import Mapping, Sequence

from sqlmodel import Session, col, select

from pairshelf.core.changes.drives.wipe import why_kept
from pairshelf.core.domain.by_hand import check_bays, corrected, free_bays, typed_drives
from pairshelf.core.domain.estate import Estate
from pairshelf.core.domain.inventory import USUAL_SITE, DriveRecord, checked, text
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
    name, site = _named(name, "name"), _named(site or USUAL_SITE, "site")
    row = session.exec(select(Site).where(Site.name == site)).first() or Site(name=site)
    session.add(row)
    session.flush()
    if session.exec(select(Shelf.id).where(Shelf.site_id == row.id, Shelf.name == name)).first():
        raise NameTaken("shelf", name, where=site)
    found = make_host(session, who, name=host, site=site) if host.strip() else None
    shelf = Shelf(site_id=row.number, name=name, bays=check_bays(bays), host_id=found.id if found else None)
    session.add(shelf)
    session.flush()
    at = f", at host {found.name}" if found else ""
    log(session, who, "shelf-made", name, f"Shelf {name} with {bays} bays{at} written into the books.")
    return shelf


def make_host(session: Session, who: str, *, name: str, site: str = "") -> Host:
    """The host of that name, or one that is written down now."""
    name, site = _named(name, "host"), _named(site or USUAL_SITE, "site")
    if known := session.exec(select(Host).where(Host.name == name)).first():
        return known
    place = session.exec(select(Site).where(Site.name == site)).first() or Site(name=site)
    session.add(place)
    session.flush()
    host = Host(name=name, site_id=place.number)
    session.add(host)
    session.flush()
    log(session, who, "host-made", name, f"Host {name} written into the books.")
    return host


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

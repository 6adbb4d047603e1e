"""Simulated drives carried between rooms: packed into a box, unpacked beside the shelves, put into free bays."""

from __future__ import annotations

import random
from collections.abc import Sequence
from dataclasses import replace
from typing import IO

from sqlmodel import Session, col, select

from pairshelf.core.domain.inventory import DriveRecord
from pairshelf.core.errors import NotFound, NotPossible
from pairshelf.engine.log import log
from pairshelf.engine.records import Recorder
from pairshelf.standin.boxes import pack, unpack
from pairshelf.standin.world import World
from pairshelf.store.repositories.drives_and_pools import record_of
from pairshelf.store.tables import DriveRow, Host, Shelf, Site


def pack_shelf(session: Session, world: World, shelf_id: int, into: IO[bytes], who: str) -> str:
    """All drives of a shelf leave their bays for a box; the shelf's name."""
    shelf, site, host = _shelf(session, shelf_id)
    rows = session.exec(select(DriveRow).where(DriveRow.shelf_id == shelf_id).order_by(col(DriveRow.bay))).all()
    if not rows:
        raise NotPossible(f"{shelf.name} has no drives.", code="shelf-empty", field="shelf_id")
    if not world.disconnected().isdisjoint(row.serial for row in rows):
        raise NotPossible(f"{shelf.name} is offline; reconnect it first.", code="offline", field="shelf_id")
    # Taken out in good order, they say all there is to be said; not only what was so a second ago.
    Recorder(world).write_due(at_once=True)
    pack(world, [record_of(row, shelf, site, host) for row in rows], into)
    log(session, who, "stand-in-packed", shelf.name, f"{len(rows)} simulated drives of {shelf.name} were put into a box.",
        serials=[r.serial for r in rows])  # fmt: skip
    return shelf.name


def unpack_box(session: Session, world: World, box: IO[bytes], who: str) -> list[DriveRecord]:
    """The drives of a box lie beside the shelves."""
    records = unpack(world, box)
    log(session, who, "stand-in-unpacked", "", f"{len(records)} simulated drives were unpacked beside the shelves.",
        serials=[r.serial for r in records])  # fmt: skip
    return records


def into_free_bays(session: Session, world: World, shelf_id: int, serials: Sequence[str], who: str) -> list[str]:
    """Drives that lie beside the shelves go into free bays of one, in any order; all of them where none are named."""
    shelf, site, host = _shelf(session, shelf_id)
    beside = {r.serial: r for r in world.beside()}
    unknown = [s for s in serials if s not in beside]
    if unknown:
        raise NotPossible(f"Drive {unknown[0]} does not lie beside the shelves.", code="not-beside", field="serials")
    wanted = list(serials or beside)
    if not wanted:
        raise NotPossible("No drives lie beside the shelves; unpack a box first.", code="none-beside", field="serials")
    taken = bays_taken(session, world, shelf, site)
    free = [bay for bay in range(1, shelf.bays + 1) if bay not in taken]
    if len(free) < len(wanted):
        raise NotPossible(
            f"{shelf.name} has {len(free)} free bays; {len(wanted)} drives lie there.", code="no-bay", field="shelf_id"
        )
    random.shuffle(wanted)
    for serial, bay in zip(wanted, free, strict=False):
        put_in_one(session, world, beside[serial], shelf, site, host, bay)
    log(
        session,
        who,
        "stand-in-put-in",
        shelf.name,
        f"{len(wanted)} simulated drives were put into {shelf.name}.",
        serials=wanted,
    )
    return wanted


def bays_taken(session: Session, world: World, shelf: Shelf, site: str) -> set[int | None]:
    """Bays in which a drive is, or is just being put: the shelf is held until the commit, so that no two get one."""
    session.exec(select(Shelf.id).where(Shelf.id == shelf.id).with_for_update()).one()
    coming = {
        a.record.bay for a in world.arrivals()
        if a.record is not None and (a.record.site, a.record.shelf) == (site, shelf.name)
    }  # fmt: skip
    return {*session.exec(select(DriveRow.bay).where(DriveRow.shelf_id == shelf.id)), *coming}


def put_in_one(
    session: Session, world: World, record: DriveRecord, shelf: Shelf, site: str, host: str | None, bay: int
) -> None:
    """A drive goes into a bay: as the books know it, or as it says it is."""
    known = session.exec(select(DriveRow).where(DriveRow.serial == record.serial)).first()
    if known is not None:
        world.put_in(record_of(known, shelf, site, host, bay))
        return
    world.put_in(replace(
        record, shelf=shelf.name, bay=bay, site=site, host=host, bays=shelf.bays, link=shelf.link, starts_host=False
    ))  # fmt: skip


def _shelf(session: Session, shelf_id: int) -> tuple[Shelf, str, str | None]:
    shelf = session.get(Shelf, shelf_id)
    if shelf is None:
        raise NotFound("shelf", field="shelf_id")
    host = session.get(Host, shelf.host_id) if shelf.host_id else None
    return shelf, session.get_one(Site, shelf.site_id).name, host.name if host else None

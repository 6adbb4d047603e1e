"""Which drives pass a filter typed in words, of however many."""

from __future__ import annotations

from functools import partial
from typing import Any, NamedTuple

from sqlmodel import Session, col, select

from pairshelf.core.domain.drive_filter import PLACES, Facts, Filter, parse_filter
from pairshelf.core.domain.drives import Kind
from pairshelf.core.domain.estate import EstateDrive
from pairshelf.core.domain.names import natural
from pairshelf.core.watching.failing import Health
from pairshelf.services.watching import drives_used
from pairshelf.store.database import among, pick
from pairshelf.store.repositories.drives_and_pools import load_drives
from pairshelf.store.tables import DriveHealth, DriveRow, Host, PoolPlace, PoolRow, Service, Shelf, Site


def situations(
    service: str, condition: str, starts_host: bool, pool_id: int | None, slot: int | None, place: str | None,
    *, wiped: bool, draining: bool = False, warns: bool = False, in_bay: bool = False,
) -> list[str]:  # fmt: skip
    """All words that hold of a drive."""
    words = ["starts-host"] if starts_host and service == Service.FREE else [service]
    if pool_id is not None and slot is None and place != "copying":
        words.append("spare")
    if place in ("rebuilding", "copying"):
        words.append("rebuilding")
    if wiped:
        words.append("wiped")
    if draining:
        words.append("draining")
    if condition == "missing" and in_bay:
        words.append("offline")
    if condition != "good":
        words.append(condition)
    elif warns:
        words.append("warns")
    return words


class Match(NamedTuple):
    """A drive that passes the filter."""

    id: int
    shelf_id: int | None
    site: str
    shelf: str
    row: Any

    @property
    def offered(self) -> bool:
        """Whether it can be chosen."""
        (_, _, size, kind, service, condition, starts_host, bay, serial, *_, pool, _) = self.row
        drive = EstateDrive(
            self.id, serial, self.shelf, bay, size, Kind(kind), None, service, condition, None, starts_host, pool
        )
        return drive.why_not_offered() is None


_PLAIN = (
    "id", "shelf_id", "size", "kind", "service", "condition", "starts_host", "bay", "serial", "maker", "model", "bus", "use",
    "wiped_at", "drain_id",
)  # fmt: skip


def matching(session: Session, test: Filter) -> list[Match]:
    """All drives that pass the filter.

    Plain columns, not rows made into objects, and the names of shelves once: there may be ten thousand drives.
    """
    places = {
        i: (shelf, site, host)
        for i, shelf, site, host in session.exec(
            select(Shelf.id, Shelf.name, Site.name, Host.name).join(Site, col(Site.id) == Shelf.site_id)
            .outerjoin(Host, col(Host.id) == Shelf.host_id)
        )
    }  # fmt: skip
    query = (
        pick(
            *(getattr(DriveRow, name) for name in _PLAIN),
            PoolPlace.slot,
            PoolPlace.state,
            PoolRow.id,
            PoolRow.name,
            DriveHealth.level,
        )
        .outerjoin(DriveHealth, col(DriveHealth.drive_id) == DriveRow.id)
        .outerjoin(PoolPlace, col(PoolPlace.drive_id) == DriveRow.id)
        .outerjoin(PoolRow, col(PoolRow.id) == PoolPlace.pool_id)
        .where(DriveRow.service != Service.RETIRED)
    )
    if any(value for _, value in test.places):
        # Only what stands where it could pass is looked at.
        query = query.where(among(DriveRow.shelf_id, [i for i, where in places.items() if test.may_stand(*where)]))
    kinds = {k.value: k for k in Kind}
    nowhere: tuple[str | None, str | None, str | None] = (None, None, None)
    # Few combinations hold of many drives.
    words: dict[tuple[Any, ...], frozenset[str]] = {}
    found = []
    for row in session.connection().execute(query).all():
        drive_id, shelf_id, size, kind, service, condition, starts_host, *_, slot, place, pool_id, _, level = row
        where = places.get(shelf_id, nowhere)
        wiped, draining = row[_WIPED] is not None, row[_DRAIN] is not None
        warns = level == Health.WARNS
        key = (
            service,
            condition,
            starts_host,
            pool_id is None,
            slot is None,
            place,
            wiped,
            draining,
            warns,
            shelf_id is None,
        )
        if key not in words:
            words[key] = frozenset(situations(
                service, condition, starts_host, pool_id, slot, place, wiped=wiped, draining=draining, warns=warns,
                in_bay=shelf_id is not None,
            ))  # fmt: skip
        if test(Facts(size, kinds[kind], words[key], partial(_said, row, where))):
            found.append(Match(drive_id, shelf_id, where[1] or "", where[0] or "", row))
    return found


BAY, _WIPED, _DRAIN = _PLAIN.index("bay"), _PLAIN.index("wiped_at"), _PLAIN.index("drain_id")


def _said(row: Any, where: tuple[str | None, str | None, str | None], name: str) -> str | None:
    """What a drive's row, and where it stands, say in a field of the filter."""
    if name in PLACES:
        return where[PLACES.index(name)]
    if name == "pool":
        pool: str | None = row[-2]
        return pool
    value = row[_PLAIN.index(name)]
    return None if value is None else str(value)


def drives_listed(session: Session, text: str) -> list[tuple[EstateDrive, int | None]]:
    """The drives that pass a filter, or all, by shelf and bay, each with the bytes used on it; None: of no pool."""
    if text.strip():
        found = [(m.shelf, m.row[BAY] or 0, m.id) for m in matching(session, parse_filter(text))]
    else:
        every = pick(DriveRow.id, Shelf.name, DriveRow.bay).outerjoin(Shelf, col(Shelf.id) == DriveRow.shelf_id)
        rows = session.exec(every.where(DriveRow.service != Service.RETIRED))
        found = [(shelf or "", bay or 0, number) for number, shelf, bay in rows]
    used = drives_used(session)
    ordered = [number for *_, number in sorted(found, key=lambda f: (natural(f[0]), *f[1:]))]
    return [(drive, used.get(drive.id)) for drive in load_drives(session, ordered)]

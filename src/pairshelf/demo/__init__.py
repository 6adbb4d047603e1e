"""The demo estate: a small botanical seed bank. All names, makers, models and serials are made up.

Loaded by the paths a user takes: an inventory is imported, drives are taken in, a change sheet is
drawn up and approved, a simulated host writes files.
"""

from __future__ import annotations

from pathlib import Path
from typing import Any

from sqlmodel import Session, col, select

from pairshelf.core.changes.kinds import request_of
from pairshelf.core.changes.pools import build_pool
from pairshelf.core.domain.acts import Role
from pairshelf.core.domain.inventory import against_each_other, differences
from pairshelf.engine.approver import approve, draw_up
from pairshelf.engine.jobs.fill import start_fill
from pairshelf.engine.log import log
from pairshelf.engine.pools import devices, open_pool
from pairshelf.formats.inventory_csv import read_inventory
from pairshelf.formats.price_list_csv import read_price_list
from pairshelf.services.accounts import add_user
from pairshelf.services.backup_records import record_backup
from pairshelf.services.drive_lists import store_list
from pairshelf.services.simulated_use import install_application
from pairshelf.store.database import Lock, lock_until_commit, transaction
from pairshelf.store.repositories.drives_and_pools import store_models, what_is_taken
from pairshelf.store.tables import DriveRow, Service, Setting, Shelf, User, VolumeRow

#: Only of the demo, printed at its start; a real installation begins without any password.
PASSWORD = "fernhollow"  # noqa: S105
_PEOPLE = (("ida", Role.ADMINISTRATOR), ("osric", Role.OPERATOR), ("wren", Role.VIEWER))
_LIST = Path(__file__).with_name("fernhollow.csv")
_PRICES = Path(__file__).with_name("prices.csv")
#: Left as just seen: two used drives with other data on them.
_LEFT_NEW = "Keel Desk 3"


def load_demo() -> str:
    """Load the estate unless something is there already; returns how to sign in."""
    with transaction() as session:
        lock_until_commit(session, Lock.IMPORT)
        if session.get(Setting, "demo") is None:
            if session.exec(select(User.id).limit(1)).first() is not None:
                return "is your own: this database holds a real installation, no demo was loaded"
            session.add(Setting(key="demo", value={"loaded": True}))
            for name, role in _PEOPLE:
                add_user(session, name, PASSWORD, role)
            reading = read_inventory(_LIST.read_bytes())
            taken = what_is_taken(session)
            wrong = [*reading.errors, *against_each_other(reading.rows, taken)]
            if wrong:
                raise RuntimeError(f"the demo's own inventory is wrong: {wrong[0]}")
            store_list(session, reading, differences(reading.rows, taken), "ida", _LIST.name)
            _bring_in_prices(session)
            _take_in(session)
            session.flush()
            _build_the_archive(session)
            _people_and_applications(session)
    return f"ida / {PASSWORD}   (administrator; also osric, operator, and wren, viewer)"


def _bring_in_prices(session: Session) -> None:
    prices = read_price_list(_PRICES.read_bytes())
    if prices.errors:
        raise RuntimeError(f"the demo's own price list is wrong: {prices.errors[0]}")
    store_models(session, prices.models)
    log(session, "ida", "prices-brought-in", _PRICES.name, f"Price list of {len(prices.models)} models brought in.")


def _take_in(session: Session) -> None:
    rows = session.exec(select(DriveRow).where(col(DriveRow.model) != _LEFT_NEW)).all()
    for row in rows:
        row.service = Service.FREE
    log(session, "ida", "drives-taken-in", "Fernhollow", f"{len(rows)} drives accepted.")
    tray = session.exec(
        select(DriveRow).join(Shelf, col(Shelf.id) == DriveRow.shelf_id).where(Shelf.name == "Tray", DriveRow.bay == 3)
    ).one()
    devices().warn(tray.serial)


def _change(session: Session, kind: str, **request: Any) -> None:
    sheet = draw_up(session, kind, request_of(kind, request), "ida")
    approve(session, sheet.number, "ida", str(sheet.body["confirm"] or ""), devices())


#: Name, address, address on the storage network, and the speed of the link there.
_HOSTS = (
    ("sorrel", "192.168.20.2", "10.9.0.2/24", "10 Gbit/s"),
    ("bramble", "192.168.20.3", "10.9.0.3/24", "1 Gbit/s"),
)


def _people_and_applications(session: Session) -> None:
    for host, address, storage, link in _HOSTS:
        _change(session, "set-host", host=host, address=address, storage_address=storage, link=link,
                iqn=f"iqn.2026-01.example.fernhollow:{host}")  # fmt: skip
    for person in ("juniper", "tansy", "reed"):
        _change(session, "add-party", name=person)
    _change(session, "add-party", name="front-desk", members=("juniper", "tansy"))
    _change(session, "make-share", volume="archive/herbarium-archive", name="herbarium", rights=("front-desk:read", "reed:write"),
            bin_days=30, purpose="scans of the old herbarium")  # fmt: skip
    for body in (
        {"host": "bramble", "name": "seedlog", "kind": "database", "owner": "seedlog", "folder": "/var/lib/seedlog",
         "size": "20 GiB"},
        {"host": "sorrel", "name": "scanner", "kind": "recorder", "owner": "imaging", "folder": "/var/lib/scanner",
         "size": "30 GiB"},
    ):  # fmt: skip
        install_application(session, "ida", **body)


def _build_the_archive(session: Session) -> None:
    loft = session.exec(
        select(DriveRow.id).join(Shelf, col(Shelf.id) == DriveRow.shelf_id)
        .where(Shelf.name == "Loft").order_by(col(DriveRow.bay))
    ).all()  # fmt: skip
    request = build_pool.BuildPool(
        name="archive", scheme="parity-2", drives=tuple(d for d in loft if d is not None), volume="herbarium-archive", volume_size="80 TB",
        file_system="xfs", purpose="scans of the old herbarium", mount_point="/srv/herbarium", host="bramble",
    )  # fmt: skip
    sheet = draw_up(session, "build-pool", request, "ida")
    approve(session, sheet.number, "ida", "archive", devices())
    volume = session.exec(select(VolumeRow).where(VolumeRow.name == "herbarium-archive")).one()
    start_fill(session, open_pool(session, volume.pool_id), volume, 0.2, "ida")
    record_backup(session, "ida", volume.pool_id, volume.id, "tapes in the town hall", 168, "1 Gbit/s")

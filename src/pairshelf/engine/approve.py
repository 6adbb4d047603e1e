"""Drawing change sheets up, and approving them: what was shown is done, or nothing is."""

from __future__ import annotations

import uuid
from dataclasses import asdict
from typing import Any

from sqlmodel import Session, col, select

from pairshelf.core.acts import SHEET_ACTS, Act
from pairshelf.core.changes import build_pool, replace_drive
from pairshelf.core.changes.sheet import ChangeSheet
from pairshelf.core.device import DeviceError, Devices
from pairshelf.core.errors import BadInput, NotPossible
from pairshelf.engine.jobs import start_first_sync, start_rebuild
from pairshelf.engine.log import log
from pairshelf.engine.observe import give_place
from pairshelf.engine.pools import OpenPool, label_of, open_pool, refresh_state
from pairshelf.store.estate import estate_for_building, estate_for_replacing, lock_drives
from pairshelf.store.tables import (
    DriveRow,
    Host,
    MemberState,
    PoolPlace,
    PoolRow,
    Service,
    SheetRow,
    SheetState,
    VolumeRow,
    now,
)

Request = build_pool.Request | replace_drive.Request
#: How many tints the screens tell pools apart by, besides pattern and name.
TINTS = 8


def request_of(kind: str, raw: dict[str, Any]) -> Request:
    """The request that a sheet was drawn up for."""
    if kind == "build-pool":
        return build_pool.Request(**{**raw, "drives": tuple(raw["drives"])})
    if kind == "replace-drive":
        return replace_drive.Request(**raw)
    raise BadInput(f"“{kind}” is not a kind of change.", field="kind")


def act_of(kind: str) -> Act:
    """The right that drawing up and approving this kind of sheet needs."""
    try:
        return SHEET_ACTS[kind]
    except KeyError:
        raise BadInput(f"“{kind}” is not a kind of change.", field="kind") from None


def plan(session: Session, request: Request) -> build_pool.Plan | replace_drive.Plan:
    """The sheet for a request, as things stand."""
    if isinstance(request, build_pool.Request):
        return build_pool.plan(estate_for_building(session, request.drives), request)
    return replace_drive.plan(estate_for_replacing(session, request.pool_id, [request.drive_id]), request)


def draw_up(session: Session, request: Request, who: str) -> SheetRow:
    """Plan a change and keep its sheet for approval. Nothing else happens."""
    planned = plan(session, request)
    sheet = planned.sheet
    row = SheetRow(
        kind=sheet.kind, title=sheet.title, request=asdict(request), body=sheet.as_json(),
        fingerprint=sheet.fingerprint(), created_by=who,
        pool_id=request.pool_id if isinstance(request, replace_drive.Request) else None,
    )  # fmt: skip
    session.add(row)
    session.flush()
    return row


def withdraw(session: Session, sheet_id: int, who: str) -> SheetRow:
    """Put a sheet away unapproved."""
    row = _open_sheet(session, sheet_id)
    row.state = SheetState.WITHDRAWN
    log(session, who, "sheet-withdrawn", row.title, f"{row.title}: withdrawn.", sheet=row.id)
    return row


def approve(session: Session, sheet_id: int, who: str, confirm: str, world: Devices) -> SheetRow:
    """Do what the sheet says, in the caller's transaction.

    Raises NotPossible when it has been dealt with, when what it names has changed since it was
    shown, or when a drive does not answer; BadInput when the confirmation does not match.
    """
    row = _open_sheet(session, sheet_id)
    request = request_of(row.kind, row.request)
    if isinstance(request, replace_drive.Request):
        open_pool(session, request.pool_id)
        lock_drives(session, [request.drive_id])
    else:
        lock_drives(session, request.drives)
    planned = plan(session, request)
    _same_as_shown(row, planned.sheet)
    if planned.sheet.confirm is not None and confirm.strip() != planned.sheet.confirm:
        raise BadInput(f"Type {planned.sheet.confirm} to confirm.", code="not-confirmed", field="confirm")
    try:
        if isinstance(planned, build_pool.Plan):
            pool_id = _build(session, row, planned, who, world)
        else:
            pool_id = _replace(session, row, planned, who, world)
    except DeviceError as error:
        raise NotPossible(
            f"Drive {error.serial} does not answer ({error.presence.value}). Nothing was changed.",
            code="drive-silent",
        ) from None
    row.state, row.approved_by, row.approved_at, row.pool_id = SheetState.APPROVED, who, now(), pool_id
    log(session, who, "sheet-approved", row.title, f"{row.title}: approved.", sheet=row.id,
        erased=[f"{e['place']} {e['serial']}" for e in row.body["erases"]])  # fmt: skip
    return row


def _open_sheet(session: Session, sheet_id: int) -> SheetRow:
    row = session.get(SheetRow, sheet_id, with_for_update=True, populate_existing=True)
    if row is None:
        raise BadInput("There is no such change sheet.", code="not-found")
    if row.state == SheetState.APPROVED:
        raise NotPossible(f"{row.approved_by} has approved this sheet already.", code="already-approved")
    if row.state == SheetState.WITHDRAWN:
        raise NotPossible("This sheet was withdrawn.", code="withdrawn")
    return row


def _same_as_shown(row: SheetRow, fresh: ChangeSheet) -> None:
    if fresh.fingerprint() != row.fingerprint:
        changed = [k for k, v in fresh.as_json().items() if v != row.body.get(k)]
        raise NotPossible(
            f"Things have changed since this sheet was shown ({', '.join(changed)}). Nothing was done; draw it up anew.",
            code="changed-since",
        )


def _build(session: Session, sheet: SheetRow, planned: build_pool.Plan, who: str, world: Devices) -> int:
    request, layout = planned.request, planned.layout
    ids = [int(d.id) for d in (*layout.members, *layout.spares)]
    rows = {d.id: d for d in session.exec(select(DriveRow).where(col(DriveRow.id).in_(ids)))}
    count = len(session.exec(select(PoolRow.id)).all())
    pool = PoolRow(
        name=request.name,
        scheme=request.scheme,
        sets=len(layout.sets),
        capacity=layout.data_extents,
        tint=count % TINTS,
    )
    session.add(pool)
    session.flush()
    places = []
    for index, member in enumerate([*layout.members, *layout.spares]):
        drive = rows[int(member.id)]
        slot = index if index < len(layout.members) else None
        places.append(
            PoolPlace(
                pool_id=pool.id,
                slot=slot,
                size=drive.size,
                rate=member.rate,
                kind=drive.kind,
                shelf=member.shelf,
                link=member.link,
                drive_id=drive.id,
            )
        )
        drive.service, drive.holds = Service.IN_USE, None
    session.add_all(places)
    host = session.exec(select(Host).where(Host.name == request.host)).first() if request.host else None
    session.add(VolumeRow(
        pool_id=pool.id, name=request.volume, size=planned.volume_size, first=0, extents=planned.volume_extents,
        file_system=request.file_system, reserved_share=request.reserved_share, overhead=planned.overhead,
        mount_point=request.mount_point, host_id=host.id if host else None, uuid=str(uuid.uuid4()),
    ))  # fmt: skip
    session.flush()
    for place in places:
        drive = rows[place.drive_id]
        world.open(drive.serial, drive.size).write_label(label_of(pool, place.slot))
    start_first_sync(session, OpenPool(pool, places, layout), who, sheet.id)
    assert pool.id is not None
    return pool.id


def _replace(session: Session, sheet: SheetRow, planned: replace_drive.Plan, who: str, world: Devices) -> int:
    request = planned.request
    pool = open_pool(session, request.pool_id)
    drive = session.get(DriveRow, request.drive_id)
    assert drive is not None
    world.open(drive.serial, drive.size).read(0, 1)
    place = pool.place(request.slot)
    give_place(session, pool, place, drive)
    place.state = MemberState.FAILED
    session.flush()
    start_rebuild(session, pool, request.slot, who, sheet.id)
    refresh_state(session, pool)
    return request.pool_id

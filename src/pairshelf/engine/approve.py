"""Drawing change sheets up, and approving them: what was shown is done, or nothing is."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

from sqlmodel import Session, col, select

from pairshelf.core.changes.kinds import kind_of, request_of
from pairshelf.core.changes.sheet import ChangeSheet
from pairshelf.core.device import DeviceError, Devices
from pairshelf.core.errors import BadInput, NotPossible
from pairshelf.engine.doing import DO
from pairshelf.engine.doing.outcome import Outcome
from pairshelf.engine.errands import on_drive, on_host, require_none
from pairshelf.engine.log import log
from pairshelf.engine.planning import plan
from pairshelf.engine.pools import devices, open_pool
from pairshelf.store.database import Lock, lock_until_commit
from pairshelf.store.estate import lock_drives
from pairshelf.store.tables import DriveRow, PoolRow, SheetRow, SheetState, now


def draw_up(session: Session, kind: str, request: Any, who: str, world: Devices | None = None) -> SheetRow:
    """Plan a change and keep its sheet for approval. Nothing else happens."""
    sheet = plan(session, kind_of(kind).id, request, world or devices()).sheet
    row = SheetRow(
        kind=kind, title=sheet.title, request=asdict(request), body=sheet.as_json(), fingerprint=sheet.fingerprint(),
        created_by=who, pool_id=getattr(request, "pool_id", None),
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


def approve(session: Session, sheet_id: int, who: str, confirm: str, world: Devices) -> tuple[SheetRow, Outcome]:
    """Do what the sheet says, in the caller's transaction.

    Raises NotPossible when it has been dealt with, when what it names has changed since it was
    shown, or when a drive does not answer; BadInput when the confirmation does not match.
    """
    row = _open_sheet(session, sheet_id)
    request = request_of(row.kind, row.request)
    lock_until_commit(session, Lock.BOOKS)
    planned = plan(session, row.kind, request, world)
    _lock(session, planned, request)
    require_none(session, _subjects(session, request))
    planned = plan(session, row.kind, request, world)
    _same_as_shown(row, planned.sheet)
    if planned.sheet.confirm is not None and confirm.strip() != planned.sheet.confirm:
        raise BadInput(f"Type {planned.sheet.confirm} to confirm.", code="not-confirmed", field="confirm")
    try:
        outcome = DO[row.kind](session, row, planned, who, world)
    except DeviceError as error:
        raise NotPossible(
            f"Drive {error.serial} does not answer ({error.presence.value}). Nothing was changed.",
            code="drive-silent",
        ) from None
    row.state, row.approved_by, row.approved_at = SheetState.APPROVED, who, now()
    row.pool_id = outcome.pool_id or row.pool_id
    erased = [f"{e['place']} {e['serial']}" for e in row.body["erases"]]
    log(session, who, "sheet-approved", row.title, f"{row.title}: approved.", sheet=row.id,
        **({"erased": erased} if erased else {}),
        **({"given_up": row.body["gives_up"]} if row.body.get("gives_up") else {}))  # fmt: skip
    return row, outcome


def _subjects(session: Session, request: Any) -> set[str]:
    """The drives and hosts that a request names, as errands name them."""
    found = set()
    if host := str(getattr(request, "host", "") or "").strip():
        found.add(on_host(host))
    if (app := str(getattr(request, "application", "") or "")) and "/" in app:
        found.add(on_host(app.rpartition("/")[0]))
    drives = [*getattr(request, "drives", ()), getattr(request, "drive_id", None)]
    if drives := [d for d in drives if d]:
        found |= {on_drive(s) for s in session.exec(select(DriveRow.serial).where(col(DriveRow.id).in_(drives)))}
    return found


def _lock(session: Session, planned: Any, request: Any) -> None:
    """Hold what the change is about to the end of the transaction: its pool, its drives."""
    pool_id = getattr(request, "pool_id", None)
    if pool := getattr(planned, "pool", None):
        pool_id = pool.id
    elif (volume := getattr(planned, "volume", None)) and (pool_name := getattr(volume, "pool", None)):
        pool_id = session.exec(select(PoolRow.id).where(PoolRow.name == pool_name)).first()
    if pool_id:
        open_pool(session, pool_id)
    drives = list(getattr(request, "drives", ())) or [d for d in [getattr(request, "drive_id", None)] if d]
    if drives:
        lock_drives(session, drives)


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

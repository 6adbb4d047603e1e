"""Drives leave the house."""

from __future__ import annotations

import datetime as dt
from dataclasses import asdict

from sqlmodel import Session

from pairshelf.core.changes.drives.hand_out import HandOutPlan
from pairshelf.core.domain.device import Devices
from pairshelf.core.domain.estate import EstateDrive
from pairshelf.engine.apply.outcome import Outcome
from pairshelf.engine.certificates import issue
from pairshelf.engine.log import log
from pairshelf.engine.planner import identities
from pairshelf.store.tables import DriveRow, Service, SheetRow, WipeRow, now


def apply(session: Session, sheet: SheetRow, planned: HandOutPlan, who: str, world: Devices) -> Outcome:
    """Each leaves its bay and stays in the books; of one that was destroyed there is a certificate."""
    moment = now()
    if planned.on is not None:
        moment = dt.datetime.combine(planned.on, dt.time(12), dt.UTC)
    for drive in planned.drives:
        row = session.get_one(DriveRow, drive.id)
        holds = f"; it still holds {row.holds}" if row.holds and not planned.destroyed else ""
        row.service, row.retired_to, row.retired_at = Service.RETIRED, planned.said, moment
        row.shelf_id = row.bay = row.left_shelf_id = row.left_bay = None
        if planned.destroyed:
            _certify(session, sheet, planned, drive, row, who, world)
        log(session, who, "drive-retired", row.serial, f"Drive {row.serial} has left the house: {planned.said}{holds}.")
    session.flush()
    return Outcome()


def _certify(
    session: Session, sheet: SheetRow, planned: HandOutPlan, drive: EstateDrive, row: DriveRow, who: str, world: Devices
) -> None:
    known = dict(identities([drive], world)).get(drive.id)
    identity = asdict(known) | {"commands": sorted(c.value for c in known.commands)} if known else {}
    wipe = WipeRow(
        drive_id=drive.id, sheet_id=sheet.id, category="destroy", method="destroy", verified_by="record",
        destination=planned.said, asked_by=sheet.created_by, approved_by=who, state="wiped", total=0, erasing=0,
        started_at=row.retired_at, ended_at=row.retired_at,
        before={"holds": row.holds, "place": drive.place, "maker": row.maker, "model": row.model, "kind": row.kind,
                "size": row.size, "bus": row.bus, "property_number": row.property_number, "identity": identity, "done_by": planned.said},
    )  # fmt: skip
    session.add(wipe)
    session.flush()
    issue(session, wipe, row)

"""A lot of drives begins to be wiped."""

from __future__ import annotations

import secrets
from dataclasses import asdict
from typing import Any

from sqlmodel import Session

from pairshelf.core.changes.drives.wipe import Wiped, WipePlan
from pairshelf.core.disposal.facts import Command
from pairshelf.core.domain.device import Devices
from pairshelf.engine.apply.outcome import Outcome
from pairshelf.engine.jobs.starting import start
from pairshelf.engine.jobs.wipe import ERASE_STEPS
from pairshelf.store.tables import DriveRow, JobRow, Service, SheetRow, WipeRow


def apply(session: Session, sheet: SheetRow, planned: WipePlan, who: str, world: Devices) -> Outcome:
    """Each drive is neither free nor intact from now on."""
    job = start(session, JobRow(
        kind="wipe", sheet_id=sheet.id, asked_by=who, total=1, seconds=max(1.0, planned.seconds),
        report={"drives": len(planned.drives)},
    ))  # fmt: skip
    for one in planned.drives:
        row = session.get_one(DriveRow, one.drive.id)
        erasing = _erasing(one, world)
        session.add(WipeRow(
            drive_id=one.drive.id, sheet_id=sheet.id, job_id=job.id, category=one.category.value, method=one.method.id,
            verified_by=planned.request.verify, sample=planned.request.sample, remnant=planned.remnant,
            destination=planned.request.destination, asked_by=sheet.created_by,
            approved_by=" and ".join(dict.fromkeys(w for w in (sheet.seconded_by, who) if w)),
            total=erasing + one.read_back, erasing=erasing, before=_before(one, row),
        ))  # fmt: skip
        row.service, row.wiped_at = Service.WIPING, None
    session.flush()
    return Outcome()


def _erasing(one: Wiped, world: Devices) -> int:
    """Steps of the erasing: extents where they are written, else shares of the time it takes."""
    if one.method.command is Command.SANITIZE_OVERWRITE:
        return world.open(one.drive.serial, one.drive.size).cells
    if one.method.passes:
        return one.facts.shown
    return ERASE_STEPS if one.method.command is not None else 0


def _before(one: Wiped, row: DriveRow) -> dict[str, Any]:
    """The drive as it is, for the certificate and for going on."""
    identity = asdict(one.facts.identity) if one.facts.identity else {}
    identity["commands"] = sorted(c.value for c in identity.get("commands", ()))
    return {
        "holds": row.holds, "place": one.drive.place, "maker": row.maker, "model": row.model, "kind": row.kind,
        "size": row.size, "bus": row.bus, "property_number": row.property_number, "identity": identity, "seed": secrets.randbits(60),
        "seconds": one.erase_seconds + one.verify_seconds, "passes": one.method.passes,
    }  # fmt: skip

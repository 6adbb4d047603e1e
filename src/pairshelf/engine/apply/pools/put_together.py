"""A pool that was taken apart comes back into the books, or is given up for good."""

from __future__ import annotations

import base64
import datetime as dt
from typing import Any

from sqlmodel import Session, col, select

from pairshelf.core.changes.pools.put_together import FormerPlan
from pairshelf.core.domain.device import DeviceError, Devices
from pairshelf.core.errors import NotPossible
from pairshelf.engine.apply.outcome import Outcome
from pairshelf.engine.apply.pools.take_apart import KEPT
from pairshelf.engine.log import log
from pairshelf.engine.pools import into_service, open_pool, refresh_state
from pairshelf.engine.records import head_on, house_of
from pairshelf.engine.relayout import forget_key_copies
from pairshelf.store.tables import (
    Application,
    Condition,
    DriveRow,
    FormerPoolRow,
    MemberState,
    PoolPlace,
    PoolRow,
    SheetRow,
    now,
)


def apply(session: Session, _sheet: SheetRow, planned: FormerPlan, who: str, world: Devices) -> Outcome:
    """As it was; drives that are away are missing from it."""
    former = session.get_one(FormerPoolRow, planned.former.id, with_for_update=True)
    rows = former.rows
    session.add(pool := PoolRow(**_whole(rows["pool"])))
    session.flush()
    known = set(session.exec(select(Application.id)))
    for table in KEPT:
        for kept in rows[str(table.__tablename__)]:
            facts = _whole(kept)
            if facts.get("application_id") not in known:
                facts.pop("application_id", None)
            session.add(table(**facts))
        session.flush()
    opened = open_pool(session, pool.number)
    for place in opened.places:
        drive = session.get(DriveRow, place.drive_id)
        assert drive is not None
        _look_at(session, place, drive, planned.former.name, world)
        into_service(drive, pool)
    session.flush()
    refresh_state(session, opened)
    former.put_together_at, former.rows = now(), {"files": rows["files"]}
    log(session, who, "pool-put-together", pool.name, f"Pool {pool.name} was put together again.")
    return Outcome(pool.id)


def _look_at(session: Session, place: PoolPlace, drive: DriveRow, name: str, world: Devices) -> None:
    """Its label is still the pool's; or it is away."""
    if drive.condition == Condition.MISSING:
        if place.slot is not None:
            place.state, place.absence = MemberState.MISSING, place.absence + 1
        return
    if place.slot is None and place.beside is None:
        return
    try:
        label = world.open(drive.serial, drive.size).read_label() or {}
        head, _ = head_on(world, drive.serial, drive.size)
    except DeviceError:
        if place.slot is not None:
            place.state = MemberState.FAILED
        return
    if head is not None and head.house != house_of(session):
        raise NotPossible(
            f"{drive.serial} was in use in another installation since; bring {name} in from its drives instead.",
            code="written-since", field="former",
        )  # fmt: skip
    if label.get("pool") != name:
        raise NotPossible(
            f"{drive.serial} does not bear the label of {name} any more.", code="written-since", field="former"
        )


def _whole(kept: dict[str, Any]) -> dict[str, Any]:
    """A row's values from how they were kept."""

    def value(name: str, one: Any) -> Any:
        if isinstance(one, dict) and set(one) == {"base64"}:
            return base64.b64decode(one["base64"])
        if isinstance(one, dict) and set(one) == {"moment"}:
            return dt.datetime.fromisoformat(one["moment"])
        return dt.datetime.fromisoformat(one) if name.endswith("_at") and isinstance(one, str) else one

    return {name: value(name, one) for name, one in kept.items()}


def let_go(session: Session, _sheet: SheetRow, planned: FormerPlan, who: str, _world: Devices) -> Outcome:
    """It cannot come back any more; its key, if it had one, is gone with it."""
    former = session.get_one(FormerPoolRow, planned.former.id, with_for_update=True)
    former.until = now()
    forget_rows(session, former)
    log(session, who, "pool-let-go", former.name, f"Pool {former.name} cannot be put together again any more.")
    return Outcome()


def forget_rows(session: Session, former: FormerPoolRow) -> None:
    """Keep only what names the files: no rows; and no key, here or on its drives."""
    pool = former.rows.get("pool") or {}
    if pool.get("key") is not None:
        drives = session.exec(select(DriveRow).where(col(DriveRow.serial).in_(list(former.drives))))
        forget_key_copies(session, former.name, pool["uid"], drives, pool["key"].get("at_large", ()))
    former.rows = {
        name: former.rows[name] for name in ("files", "encrypted", "volumes", "survives") if name in former.rows
    }


def forget_those_that_are_over(session: Session) -> int:
    """What was kept of pools whose time is over is forgotten, keys and all; of how many."""
    query = select(FormerPoolRow).where(FormerPoolRow.until <= now(), col(FormerPoolRow.put_together_at).is_(None))
    found = session.exec(query.where(col(FormerPoolRow.rows).has_key("pool"))).all()  # type: ignore[attr-defined]
    for former in found:
        forget_rows(session, former)
    return len(found)

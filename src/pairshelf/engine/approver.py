"""Drawing change sheets up, and approving them: what was shown is done, or nothing is."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Mapping, Sequence
from dataclasses import asdict
from typing import Any

from psycopg.errors import LockNotAvailable
from sqlalchemy import text
from sqlalchemy.exc import OperationalError
from sqlmodel import Session, col, select

from pairshelf.core.changes.kind import Context, together
from pairshelf.core.changes.kinds import kind_of, request_of
from pairshelf.core.changes.sheet import ChangeSheet
from pairshelf.core.domain.device import DeviceError, Devices
from pairshelf.core.errors import BadInput, Busy, Locked, NotFound, NotPossible, NotServing, PairShelfError
from pairshelf.core.policies.together import require_apart
from pairshelf.engine.apply import APPLY
from pairshelf.engine.apply.outcome import Outcome
from pairshelf.engine.errands import on_drive, on_host, require_none
from pairshelf.engine.log import SYSTEM, log
from pairshelf.engine.planner import Named, estate_of, named, plan
from pairshelf.engine.pools import devices
from pairshelf.store.database import Lock, lock_until_commit, transaction
from pairshelf.store.repositories.drives_and_pools import lock_drives
from pairshelf.store.repositories.holdings import house_now
from pairshelf.store.tables import DriveRow, Setting, SheetPlan, SheetRow, SheetState, ids, now

_A_WEEK = dt.timedelta(days=7)


def draw_up(session: Session, kind: str, request: Any, who: str, world: Devices | None = None) -> SheetRow:
    """Plan a change and keep its sheet for approval. Nothing else happens."""
    world, one = world or devices(), kind_of(kind)
    if one.choose is not None:
        request = one.choose(estate_of(session, one.context(request), world), request)
    sheet = plan(session, kind, request, world).sheet
    pools = named(session, one.context(request)).pools
    row = SheetRow(
        kind=kind, title=sheet.title, request=asdict(request), body=sheet.as_json(), fingerprint=sheet.fingerprint(),
        created_by=who, pool_id=next(iter(pools)) if len(pools) == 1 else None,
    )  # fmt: skip
    session.add(row)
    session.flush()
    return row


def draw_up_all(
    session: Session, title: str, asked: Sequence[tuple[str, Any]], who: str, world: Devices | None = None
) -> SheetPlan:
    """Plan several changes as one undertaking, and keep their sheets for approval; all of them or none. What one
    cannot be is said at its field, ``sheets.1.name``."""
    title = " ".join(title.split())
    if not 1 <= len(title) <= 120:
        raise BadInput("Give the plan a title of at most 120 characters.", field="title")
    require_apart(asked)
    session.add(row := SheetPlan(title=title, created_by=who))
    session.flush()
    for index, (kind, request) in enumerate(asked):
        try:
            draw_up(session, kind, request, who, world).plan_id = row.id
        except PairShelfError as error:
            if error.field is not None:
                error.field = f"sheets.{index}.{error.field}"
            raise
    session.flush()
    return row


def sheets_of(session: Session, plan_id: int) -> list[SheetRow]:
    """The sheets of a plan in their order; NotFound where there is no such plan."""
    if session.get(SheetPlan, plan_id) is None:
        raise NotFound("plan")
    return list(session.exec(select(SheetRow).where(SheetRow.plan_id == plan_id).order_by(col(SheetRow.id))))


def open_sheets_of(session: Session, plan_id: int) -> list[SheetRow]:
    """Those of its sheets that wait for a decision, in their order."""
    return [s for s in sheets_of(session, plan_id) if s.state == SheetState.DRAFT]


def approve_all(
    session: Session, plan_id: int, who: str, confirms: Mapping[int, str], world: Devices
) -> list[tuple[SheetRow, Outcome]]:
    """Do what all open sheets of a plan say, in their order: all of it, or nothing. ``confirms`` has the name that
    each of them asks for; BadInput at ``confirms.12`` where that of sheet 12 does not match."""
    drafts = open_sheets_of(session, plan_id)
    if not drafts:
        raise NotPossible("Every sheet of this plan has been dealt with.", code="nothing-pending")
    # All that any of them is about is held first, in one order.
    _hold(session, together(kind_of(s.kind).context(request_of(s.kind, s.request)) for s in drafts))
    found = []
    for sheet in drafts:
        try:
            found.append(approve(session, sheet.number, who, confirms.get(sheet.number, ""), world))
        except PairShelfError as error:
            error.field = f"confirms.{sheet.id}" if error.code == "not-confirmed" else None
            if error.field is None:
                error.message = f"{sheet.title}: {error.message}"
            raise
    return found


def withdraw(session: Session, sheet_id: int, who: str) -> SheetRow:
    """Put a sheet away unapproved."""
    row = _open_sheet(session, sheet_id)
    row.state = SheetState.WITHDRAWN
    log(session, who, "sheet-withdrawn", row.title, f"{row.title}: withdrawn.", sheet=row.id)
    return row


def approve(session: Session, sheet_id: int, who: str, confirm: str, world: Devices) -> tuple[SheetRow, Outcome]:
    """Do what the sheet says, in the caller's transaction; where the house asks for two, the first only notes it.

    Raises NotPossible when it has been dealt with, when what it names has changed since it was
    shown, or when a drive does not answer; BadInput when the confirmation does not match.
    """
    return _approve(session, sheet_id, who, confirm, world, first_of_two=in_pairs(session))


def in_pairs(session: Session) -> bool:
    """Whether the house asks for two where much is given up."""
    row = session.get(Setting, "disposal")
    return bool(row and row.value.get("two_pairs"))


def _second(session: Session, row: SheetRow, who: str) -> bool:
    """Whether this one is the second of two; the first is noted. NotPossible for the same one twice."""
    if row.seconded_by is None:
        row.seconded_by = who
        log(session, who, "sheet-seconded", row.title, f"{row.title}: approved by the first of two.", sheet=row.id)
        return False
    if row.seconded_by == who:
        raise NotPossible(
            f"{who} has approved this already; it takes another administrator.", code="same-person", field=None
        )
    return True


def _approve(
    session: Session, sheet_id: int, who: str, confirm: str, world: Devices, *, first_of_two: bool
) -> tuple[SheetRow, Outcome]:
    row = _open_sheet(session, sheet_id)
    request = request_of(row.kind, row.request)
    subjects = _hold(session, kind_of(row.kind).context(request))
    try:
        require_none(session, _places(session, subjects))
    except NotPossible:
        # What cannot be done any more, whatever is still being done, is the better reason.
        plan(session, row.kind, request, world)
        raise
    planned = plan(session, row.kind, request, world)
    _same_as_shown(row, planned.sheet)
    if planned.sheet.confirm is not None and confirm.strip() != planned.sheet.confirm:
        raise BadInput(f"Type {planned.sheet.confirm} to confirm.", code="not-confirmed", field="confirm")
    if first_of_two and kind_of(row.kind).in_pairs and not _second(session, row, who):
        return row, Outcome()
    before = asdict(house_now(session))
    try:
        outcome = APPLY[row.kind](session, row, planned, who, world)
    except DeviceError as error:
        raise NotPossible(
            f"Drive {error.serial} does not answer ({error.presence.value}). Nothing was changed.",
            code="drive-silent",
        ) from None
    row.state, row.approved_by, row.approved_at = SheetState.APPROVED, who, now()
    row.body = {**row.body, "house": before}
    row.pool_id = outcome.pool_id or row.pool_id
    erased = [f"{e['place']} {e['serial']}" for e in row.body["erases"]]
    log(session, who, "sheet-approved", row.title, f"{row.title}: approved.", sheet=row.id,
        **({"erased": erased} if erased else {}),
        **({"given_up": row.body["gives_up"]} if row.body.get("gives_up") else {}))  # fmt: skip
    return row, outcome


class _Tried(Exception):
    """Everything went well, and is to come to nothing."""


def in_the_way(sheet_id: int, world: Devices) -> PairShelfError | None:
    """What approving a draft would say now; nothing, where it would be done. It is really done, and comes to nothing:
    so nothing can stand in the way that is not told beforehand. Where others hold what it is about, nothing is known."""

    def all_of_it(session: Session) -> None:
        row = session.get(SheetRow, sheet_id)
        if row is not None and row.state == SheetState.DRAFT:
            _approve(session, sheet_id, row.created_by, row.body["confirm"] or "", world, first_of_two=False)

    return _tried(all_of_it)


def plan_in_the_way(plan_id: int, world: Devices) -> PairShelfError | None:
    """The same of all open sheets of a plan together."""

    def all_of_it(session: Session) -> None:
        drafts = open_sheets_of(session, plan_id)
        if drafts:
            confirms = {s.number: s.body["confirm"] or "" for s in drafts}
            approve_all(session, plan_id, drafts[0].created_by, confirms, world)

    return _tried(all_of_it)


def _tried(work: Callable[[Session], None]) -> PairShelfError | None:
    """What really doing it says; it comes to nothing. None, too, where others hold what it is about."""
    try:
        with transaction() as session:
            session.connection().execute(text("set local lock_timeout = '1s'"))
            work(session)
            session.flush()
            raise _Tried
    except _Tried:
        return None
    except PairShelfError as error:
        return error
    except OperationalError as error:
        if isinstance(error.orig, LockNotAvailable):
            return None
        raise


#: What passes by itself: a sheet is not out of date for it.
_PASSING = (Busy, NotServing, Locked)


def look_through_drafts(world: Devices) -> None:
    """Note at each draft of the last week why it cannot be approved any more as it was shown, if so."""
    with transaction() as session:
        query = select(ids(SheetRow)).where(SheetRow.state == SheetState.DRAFT, SheetRow.created_at > now() - _A_WEEK)
        drafts = list(session.exec(query.order_by(col(SheetRow.id).desc()).limit(20)))
    for number in drafts:
        error = in_the_way(number, world)
        if isinstance(error, _PASSING):
            continue
        with transaction() as session:
            row = session.get(SheetRow, number)
            if row is not None:
                row.stale = error.message if error else None
    _put_away_the_stale()


#: So long a draft that is out of date is kept to be read.
_KEPT_STALE = dt.timedelta(days=1)


def _put_away_the_stale() -> None:
    """Withdraw drafts that have been out of date for a day and more; those of a plan are looked at with it."""
    with transaction() as session:
        query = select(SheetRow).where(
            SheetRow.state == SheetState.DRAFT, col(SheetRow.stale).is_not(None), col(SheetRow.plan_id).is_(None),
            SheetRow.created_at < now() - _KEPT_STALE,
        ).with_for_update(skip_locked=True).limit(50)  # fmt: skip
        for row in session.exec(query).all():
            row.state = SheetState.WITHDRAWN
            said = f"{row.title}: put away, as it was out of date. {row.stale}"
            log(session, SYSTEM, "sheet-withdrawn", row.title, said, sheet=row.id)


def _hold(session: Session, context: Context) -> Named:
    """Hold what the change is about to the end of the transaction: pools, drives, hosts, books; in one order, so
    that no two approvals wait for each other in a circle. Whoever changes other things does not wait."""
    subjects = named(session, context)
    for word in sorted(set(context.alone)):
        lock_until_commit(session, Lock.ALONE, word)
    for host in sorted(subjects.hosts):
        lock_until_commit(session, Lock.HOST, host)
    for pool_id in sorted(subjects.pools):
        lock_until_commit(session, Lock.POOL, pool_id)
    if subjects.drives:
        lock_drives(session, subjects.drives)
    if named(session, context) != subjects:
        raise NotPossible(
            "What this sheet names was renamed a moment ago. Nothing was done; draw it up anew.", code="changed-since"
        )
    return subjects


def _places(session: Session, subjects: Named) -> set[str]:
    """The drives and hosts of these, as errands name them."""
    serials = session.exec(select(DriveRow.serial).where(col(DriveRow.id).in_(subjects.drives)))
    return {on_host(h) for h in subjects.hosts} | {on_drive(s) for s in serials}


def _open_sheet(session: Session, sheet_id: int) -> SheetRow:
    row = session.get(SheetRow, sheet_id, with_for_update=True, populate_existing=True)
    if row is None:
        raise NotFound("change sheet")
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

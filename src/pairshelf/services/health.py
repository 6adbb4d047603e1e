"""How drives are: their readings with what each means, the rules, and the error-recovery limit. What API and console share."""

from __future__ import annotations

import datetime as dt
from dataclasses import dataclass

from sqlmodel import Session, select

from pairshelf.core.domain.device import DeviceError, Devices, Questioned
from pairshelf.core.domain.drives import Kind
from pairshelf.core.errors import BadInput, NotFound, NotPossible
from pairshelf.core.layouts.registry import scheme_of
from pairshelf.core.policies.scanning import RecoveryJudged, judge_recovery
from pairshelf.core.watching.failing import RULE, WEEK, Judged, Limits, Reason, judge, scanned_since
from pairshelf.core.watching.readings import Reading, readings_of
from pairshelf.engine.log import log
from pairshelf.engine.readings import Before, KindReadings, facts_of, left_by
from pairshelf.store.repositories import history
from pairshelf.store.repositories.health import load_limits, store_limits
from pairshelf.store.tables import DriveHealth, DriveRow, PoolPlace, PoolRow, Service, now

#: Longest error-recovery limit that can be set, seconds.
MOST_RECOVERY = 300.0


@dataclass(frozen=True, slots=True)
class Line:
    """A reading of a drive, in its unit."""

    reading: Reading
    #: None: it was never taken.
    value: float | None
    #: A week ago, or at first where it is known for less long.
    before: float | None
    reasons: tuple[Reason, ...]


@dataclass(frozen=True, slots=True)
class Report:
    """What a drive reports of itself, and what is to be said of it."""

    #: When it was taken; None: never. Not now where the drive does not answer.
    taken_at: dt.datetime | None
    answers: bool
    judged: Judged
    since: dt.datetime | None
    lines: list[Line]
    scanned_at: dt.datetime | None
    scan_found: dict[str, int] | None


@dataclass(frozen=True, slots=True)
class RecoveryTold:
    """A drive's error-recovery limit, whether it takes another, and whether it suits its pool."""

    known: bool
    limit: float | None
    settable: bool
    judged: RecoveryJudged | None


def drive_row(session: Session, drive_id: int) -> DriveRow:
    """The drive of that number; NotFound where there is none."""
    row = session.get(DriveRow, drive_id)
    if row is None:
        raise NotFound("drive")
    return row


def report_of(session: Session, drive_id: int, world: Devices) -> Report:
    """What a drive reports now; of one that does not answer, what it reported last."""
    row, at = drive_row(session, drive_id), now()
    kind, limits = Kind(row.kind), load_limits(session)
    health = session.get(DriveHealth, drive_id)
    answers = row.service != Service.RETIRED
    told = world.readings([asked(row)], at).get(row.serial) if answers else None
    answers, taken_at = told is not None, at if told is not None else None
    if told is None:
        told, taken_at = history.load_last(
            session, [r.series for r in readings_of(kind) if r.series is not None], drive_id
        )
        told = {name.removeprefix("drive-"): value for name, value in told.items()}
    before, recorded = Before(), [r.series for r in readings_of(kind) if r.series]
    before.look_back(session, at, [drive_id])
    week = history.load_lows(session, recorded, at - dt.timedelta(days=WEEK), at, [drive_id])
    scanned = health is not None and scanned_since(
        health.unreadable_since, health.scan_began, health.scan_ended, left_by(health.scan_found)
    )
    lot = KindReadings([drive_id], [told], [row.max_temperature])
    (judged,) = judge(kind, facts_of(kind, lot, before, [scanned]), limits)
    return Report(
        taken_at, answers, judged, health.since if health is not None and health.level == judged.level else None,
        [
            Line(r, _worth(r, told.get(r.id)), _worth(r, week[r.series.id].get(drive_id) if r.series else None),
                 tuple(x for x in judged.reasons if RULE[x.rule].reading == r.id))
            for r in readings_of(kind)
        ],
        health.scan_ended if health is not None else None, health.scan_found if health is not None else None,
    )  # fmt: skip


def asked(row: DriveRow) -> Questioned:
    """A drive as it is asked for its readings."""
    return Questioned(row.serial, row.size, Kind(row.kind), row.in_service, row.rated_writes)


def _worth(reading: Reading, value: int | None) -> float | None:
    return None if value is None else float(value * reading.worth)


# -- the rules -----------------------------------------------------------------------------------------


def change_limit(session: Session, kind: str, rule_id: str, limit: float | None, who: str) -> Limits:
    """Set the limit of a rule for drives of a kind; None switches it off."""
    if kind not in {k.value for k in Kind}:
        raise BadInput(f"There is no kind {kind}; there are {', '.join(k.value for k in Kind)}.", field="kind")
    limits = load_limits(session).with_one(Kind(kind), rule_id, limit)
    store_limits(session, limits)
    rule = RULE[rule_id]
    if limit is None:
        said = "is not looked at any more"
    else:
        said = (
            f"counts when {rule.beyond} {limit:g}{f' {rule.unit}' if rule.unit not in ('', 'count') else ''}"
            if rule.unit
            else "counts"
        )
    log(session, who, "failing-rule-set", kind, f"Of {kind} drives, “{rule.label}” {said}.", rule=rule_id, limit=limit)
    return limits


# -- error recovery -------------------------------------------------------------------------------------


def recovery_told(session: Session, drive_id: int, world: Devices) -> RecoveryTold:
    """How long a drive tries a bad sector, as it says itself where it answers, and whether that suits its pool."""
    row = drive_row(session, drive_id)
    rotates = Kind(row.kind) is Kind.HDD
    limit, settable, known = row.error_recovery, False, row.error_recovery is not None
    if rotates and row.service != Service.RETIRED:
        try:
            told = world.open(row.serial, row.size).recovery(Kind(row.kind), row.error_recovery)
            limit, settable, known = told.limit, told.settable, True
        except DeviceError:
            pass  # It does not answer: what the books have stands.
    place = session.exec(select(PoolPlace).where(PoolPlace.drive_id == drive_id)).first()
    bears = 0
    if place is not None:
        scheme = scheme_of(session.get_one(PoolRow, place.pool_id).scheme)
        # In a spread pool every volume has redundancy of its own.
        bears = 1 if scheme.own_protection else scheme.survives
    judged = judge_recovery(limit, rotates=rotates, in_pool=place is not None, bears=bears) if known else None
    return RecoveryTold(known, limit, settable, judged)


def set_recovery(session: Session, drive_id: int, limit: float | None, who: str, world: Devices) -> RecoveryTold:
    """Set a drive's error-recovery limit, seconds; None: none. NotPossible where it takes none."""
    if limit is not None and not 0.1 <= limit <= MOST_RECOVERY:
        raise BadInput(f"A limit is from 0.1 to {MOST_RECOVERY:g} s.", field="seconds")
    row = drive_row(session, drive_id)
    try:
        world.open(row.serial, row.size).set_recovery(Kind(row.kind), limit)
    except NotImplementedError:
        raise NotPossible(
            f"Drive {row.serial} does not take another limit.", code="not-settable", field="seconds"
        ) from None
    except DeviceError:
        raise NotPossible(f"Drive {row.serial} does not answer.", code="no-answer") from None
    row.error_recovery = limit
    said = (
        f"gives up on a bad sector after {limit:g} s" if limit is not None else "tries a bad sector as long as it takes"
    )
    log(session, who, "recovery-set", row.serial, f"Drive {row.serial} {said} from now on.")
    session.flush()
    return recovery_told(session, drive_id, world)

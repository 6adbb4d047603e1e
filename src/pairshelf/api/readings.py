"""What drives say of themselves: readings, the rules by which they count as failing, surface scans, error recovery."""

from __future__ import annotations

import datetime as dt
from typing import Any

from flask_openapi3 import APIBlueprint
from pydantic import BaseModel, Field
from sqlmodel import Session, select

from pairshelf.api.guard import needs, signed_in
from pairshelf.api.jobs import JobsOut, jobs_out
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.drives import Kind
from pairshelf.core.watching.failing import RULES, Limits
from pairshelf.engine.checking import begin_drive_scan
from pairshelf.engine.pools import devices
from pairshelf.services import health
from pairshelf.services.simulated_use import ageing_of, let_age
from pairshelf.store.database import transaction
from pairshelf.store.repositories.health import load_limits
from pairshelf.store.tables import JobRow

api = APIBlueprint("readings", __name__, url_prefix="/api")


class ReadingPath(BaseModel):
    drive_id: int


class ReasonOut(BaseModel):
    rule: str
    #: warns or failing.
    level: str
    sentence: str
    #: It tells of its link, not of the drive.
    of_link: bool


class LineOut(BaseModel):
    id: str
    label: str
    #: count, °C, hours, %, bytes; empty: 1 for yes, 0 for no.
    unit: str
    means: str
    #: Where it stands by the open standards.
    standard: str
    #: Null: it was never taken.
    value: float | None
    #: A week ago, or at first where it is known for less long; null where that is not recorded.
    before: float | None
    #: What its history is kept as; null: it is not.
    series: str | None
    reasons: list[ReasonOut]


class ScanFoundOut(BaseModel):
    at: dt.datetime
    #: Extents: read, not readable, and of these written anew from the others.
    read: int
    unreadable: int
    mended: int


class RecoveryOut(BaseModel):
    #: Whether anything is known of it.
    known: bool
    #: Seconds; null: none.
    limit: float | None
    settable: bool
    #: What is to be said of it where the drive is; null: nothing.
    sentence: str | None
    #: Whether it suits its pool.
    well: bool
    #: What to set where it does not, seconds; null: none.
    better: float | None


class SteeredOut(BaseModel):
    reading: str
    more: float
    a_day: float


class DriveReadingsOut(BaseModel):
    #: unknown, well, warns or failing.
    level: str
    since: dt.datetime | None
    #: When it was taken; null: never.
    taken_at: dt.datetime | None
    answers: bool
    reasons: list[ReasonOut]
    lines: list[LineOut]
    scan: ScanFoundOut | None
    #: Of drives that rotate.
    recovery: RecoveryOut | None
    #: How somebody has said that the simulated drive ages.
    ageing: list[SteeredOut]
    #: What can be said of it.
    can_age: list[str]


class RecoveryBody(BaseModel):
    #: Null: no limit.
    seconds: float | None


class RuleOut(BaseModel):
    id: str
    label: str
    #: warns or failing.
    level: str
    unit: str
    #: above, at least, at most, below
    beyond: str
    usual: float
    #: Null: it is not looked at.
    limit: float | None


class KindRulesOut(BaseModel):
    kind: str
    rules: list[RuleOut]


class RulesOut(BaseModel):
    kinds: list[KindRulesOut]


class RuleBody(BaseModel):
    kind: str
    rule: str = Field(max_length=64)
    #: Null: it is not looked at any more.
    limit: float | None


class AgeingBody(BaseModel):
    reading: str = Field(max_length=64)
    #: By so much more than by itself from now on, and by how much that grows in a day.
    more: float = Field(default=0, ge=-10_000, le=10_000)
    a_day: float = Field(default=0, ge=-1000, le=1000)


@api.get("/drives/<int:drive_id>/readings", responses={200: DriveReadingsOut})
@needs(Act.LOOK)
def readings(path: ReadingPath) -> Any:
    """What a drive reports of itself, with what each figure means and what the rules find in it."""
    with transaction() as session:
        return _readings_out(session, path.drive_id)


def _readings_out(session: Session, drive_id: int) -> DriveReadingsOut:
    kind = Kind(health.drive_row(session, drive_id).kind)
    told = health.report_of(session, drive_id, devices())
    recovery = health.recovery_told(session, drive_id, devices()) if kind is Kind.HDD else None
    ageing, can_age = ageing_of(session, drive_id, devices())

    def reason(one: Any) -> ReasonOut:
        return ReasonOut(rule=one.rule, level=one.level.word, sentence=one.sentence, of_link=one.of_link)

    return DriveReadingsOut(
        level=told.judged.level.word, since=told.since, taken_at=told.taken_at, answers=told.answers,
        reasons=[reason(r) for r in told.judged.reasons],
        lines=[
            LineOut(
                id=line.reading.id, label=line.reading.label, unit=line.reading.unit, means=line.reading.means,
                standard=line.reading.standard(kind), value=line.value, before=line.before,
                series=line.reading.series.id if line.reading.series else None, reasons=[reason(r) for r in line.reasons],
            )
            for line in told.lines
        ],
        scan=ScanFoundOut(at=told.scanned_at, **told.scan_found) if told.scanned_at and told.scan_found else None,
        recovery=_recovery_out(recovery) if recovery is not None else None,
        ageing=[SteeredOut(reading=r, more=more, a_day=a_day) for r, more, a_day in ageing], can_age=can_age,
    )  # fmt: skip


def _recovery_out(told: health.RecoveryTold) -> RecoveryOut:
    judged = told.judged
    return RecoveryOut(
        known=told.known, limit=told.limit, settable=told.settable, sentence=judged.sentence if judged else None,
        well=judged is None or judged.well, better=judged.better if judged else None,
    )  # fmt: skip


@api.put("/drives/<int:drive_id>/error-recovery", responses={200: RecoveryOut})
@needs(Act.MANAGE_DRIVES)
def set_recovery(path: ReadingPath, body: RecoveryBody) -> Any:
    """Say how long a drive is to try a bad sector."""
    with transaction() as session:
        return _recovery_out(health.set_recovery(session, path.drive_id, body.seconds, signed_in().name, devices()))


@api.post("/drives/<int:drive_id>/scan", responses={200: JobsOut})
@needs(Act.RUN_JOBS)
def scan_drive(path: ReadingPath) -> Any:
    """Start a surface scan of a drive: with its pool's other drives, where it is a member of one."""
    with transaction() as session:
        job = begin_drive_scan(session, path.drive_id, signed_in().name)
        session.flush()
        return JobsOut(jobs=jobs_out(session, select(JobRow).where(JobRow.id == job.id)))


def _rules_out(limits: Limits) -> RulesOut:
    return RulesOut(kinds=[
        KindRulesOut(kind=kind.value, rules=[
            RuleOut(id=r.id, label=r.label, level=r.level.word, unit=r.unit, beyond=r.beyond, usual=r.usual,
                    limit=limits.of(kind, r))
            for r in RULES if kind in r.kinds
        ])
        for kind in Kind
    ])  # fmt: skip


@api.get("/failing-rules", responses={200: RulesOut})
@needs(Act.LOOK)
def rules() -> Any:
    """By which rules a drive counts as failing, or gives warning."""
    with transaction() as session:
        return _rules_out(load_limits(session))


@api.put("/failing-rules", responses={200: RulesOut})
@needs(Act.MANAGE_DRIVES)
def set_rule(body: RuleBody) -> Any:
    """Change the limit of a rule for drives of a kind, or switch the rule off."""
    with transaction() as session:
        return _rules_out(health.change_limit(session, body.kind, body.rule, body.limit, signed_in().name))


@api.put("/stand-in/drives/<int:drive_id>/ageing", responses={200: DriveReadingsOut})
@needs(Act.WORK_STAND_INS)
def age(path: ReadingPath, body: AgeingBody) -> Any:
    """Say how a simulated drive ages from now on: what a reading has more than by itself, and by how much that grows."""
    with transaction() as session:
        let_age(session, path.drive_id, body.reading, body.more, body.a_day, signed_in().name, devices())
        return _readings_out(session, path.drive_id)

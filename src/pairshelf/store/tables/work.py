"""Change sheets, jobs, errands, the logbook, and comparisons kept."""

from __future__ import annotations

import datetime as dt
from typing import Any

from sqlalchemy import CheckConstraint, Index, text
from sqlmodel import Field

from pairshelf.store.tables.columns import JobState, Numbered, OfMember, SheetState, big, json_column, when


class SheetPlan(Numbered, table=True):
    """Several change sheets that are one undertaking, approved together or one by one."""

    __tablename__ = "sheet_plan"
    id: int | None = Field(default=None, primary_key=True)
    title: str
    created_by: str
    created_at: dt.datetime = when()


class SheetRow(Numbered, table=True):
    __tablename__ = "change_sheet"
    id: int | None = Field(default=None, primary_key=True)
    kind: str
    title: str
    state: str = SheetState.DRAFT
    request: dict[str, Any] = json_column()
    body: dict[str, Any] = json_column()
    fingerprint: str
    created_by: str
    created_at: dt.datetime = when(index=True)
    approved_by: str | None = None
    approved_at: dt.datetime | None = when(default=False)
    pool_id: int | None = Field(default=None, foreign_key="pool.id")
    #: The first of two who have to approve it, where the house asks for two.
    seconded_by: str | None = None
    #: Why a draft cannot be approved any more as it was shown.
    stale: str | None = None
    #: The plan it belongs to.
    plan_id: int | None = Field(default=None, foreign_key="sheet_plan.id")


class JobRow(Numbered, OfMember, table=True):
    __tablename__ = "job"
    id: int | None = Field(default=None, primary_key=True)
    kind: str
    #: The pool it is about; None for what is done to drives that are members of none.
    pool_id: int | None = Field(default=None, foreign_key="pool.id", index=True)
    volume_id: int | None = Field(default=None, foreign_key="volume.id")
    sheet_id: int | None = Field(default=None, foreign_key="change_sheet.id")
    slot: int | None = None
    #: The pool that something moves to.
    to_pool_id: int | None = Field(default=None, foreign_key="pool.id", index=True)
    #: The drain that it is part of.
    drain_id: int | None = Field(default=None, foreign_key="drain.id")
    state: str = JobState.WAITING
    why_held: str | None = None
    pace: str = "fast"
    cursor: int = big(default=0)
    total: int = big()
    #: Drive time of the whole job with nobody using the pool, seconds.
    seconds: float = 0.0
    #: Drive time spent so far, seconds.
    spent: float = 0.0
    report: dict[str, Any] = json_column()
    error: str | None = None
    asked_by: str
    created_at: dt.datetime = when()
    started_at: dt.datetime | None = when(default=False)
    finished_at: dt.datetime | None = when(default=False)
    __table_args__ = (
        CheckConstraint("state in ('waiting','running','held','paused','done','failed')", name="known_job_state"),
        CheckConstraint("pool_id is not null or kind in ('wipe', 'scan')", name="only_drives_are_of_no_pool"),
        Index("job_open", "state", postgresql_where=text("state not in ('done', 'failed')")),
        Index("job_finished", "finished_at"),
        Index(
            "one_open_job_of_a_kind", "pool_id", "kind", text("coalesce(slot, -1)"), text("coalesce(volume_id, -1)"),
            unique=True, postgresql_where=text("state not in ('done', 'failed')"),
        ),
    )  # fmt: skip


class ErrandRow(Numbered, table=True):
    """Something to be done on a drive or a host: written down with the change it belongs to, done when that has
    been committed, and done again after a kill."""

    __tablename__ = "errand"
    id: int | None = Field(default=None, primary_key=True)
    sheet_id: int | None = Field(default=None, foreign_key="change_sheet.id")
    #: The drive or host; errands of one subject are done in their order.
    subject: str
    what: str
    facts: dict[str, Any] = json_column()
    made_at: dt.datetime = when()
    done_at: dt.datetime | None = when(default=False)
    #: Why it could not be done yet.
    why: str | None = None


class LogRow(Numbered, table=True):
    __tablename__ = "logbook"
    id: int | None = Field(default=None, primary_key=True)
    at: dt.datetime = when(index=True)
    who: str
    act: str
    about: str
    sentence: str
    facts: dict[str, Any] = json_column()


class Comparison(Numbered, table=True):
    """A saved comparison: the question as it stands in the address, and the figures as they were then."""

    id: int | None = Field(default=None, primary_key=True)
    name: str
    #: The question, as the comparison's address has it.
    question: str
    note: str = ""
    #: The layouts that were picked or pinned, with all their figures.
    layouts: dict[str, Any] = json_column()
    created_by: str
    created_at: dt.datetime = when(index=True)
    __table_args__ = (Index("one_comparison_of_a_name", text("lower(name)"), unique=True),)

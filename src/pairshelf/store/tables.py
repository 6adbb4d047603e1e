"""The tables. What the database can hold to by itself is a constraint here, not a habit elsewhere."""

from __future__ import annotations

import datetime as dt
from decimal import Decimal
from enum import StrEnum
from typing import Any

from sqlalchemy import BigInteger, CheckConstraint, Column, DateTime, Index, Numeric, UniqueConstraint, text
from sqlalchemy.dialects.postgresql import JSONB
from sqlmodel import Field, SQLModel


def now() -> dt.datetime:
    """The moment a row is written."""
    return dt.datetime.now(dt.UTC)


def _when(*, default: bool = True, index: bool = False) -> Any:
    kind: Any = DateTime(timezone=True)
    return Field(default_factory=now, sa_type=kind, index=index) if default else Field(default=None, sa_type=kind)


def _json() -> Any:
    return Field(default_factory=dict, sa_column=Column(JSONB, nullable=False))


def _big(**more: Any) -> Any:
    return Field(sa_type=BigInteger, **more)


class Service(StrEnum):
    """A drive's way into service."""

    #: Just seen, not taken in.
    NEW = "new"
    #: Taken in, belongs to nothing.
    FREE = "free"
    #: In a pool, as a member or a spare.
    IN_USE = "in-use"


class Condition(StrEnum):
    """How a drive is."""

    #: Nothing known against it.
    GOOD = "good"
    #: Answers, but its readings warn.
    FAILING = "failing"
    #: Does not work any more.
    FAILED = "failed"
    #: Was there and is not.
    MISSING = "missing"


class MemberState(StrEnum):
    """How a place in a pool is filled."""

    #: Holds all its data.
    ACTIVE = "active"
    #: Its drive is away and may come back.
    MISSING = "missing"
    #: Its drive is gone for good, or the place is empty.
    FAILED = "failed"
    #: A drive is there and being filled.
    REBUILDING = "rebuilding"


class SheetState(StrEnum):
    """Where a change sheet stands."""

    #: Shown, not approved.
    DRAFT = "draft"
    #: Approved; what follows runs or has run.
    APPROVED = "approved"
    #: Put away without approval.
    WITHDRAWN = "withdrawn"


class JobState(StrEnum):
    """Where a job stands."""

    #: Waiting for a worker, or for its turn.
    WAITING = "waiting"
    #: A worker is on it.
    RUNNING = "running"
    #: Held because the pool cannot be worked on now.
    HELD = "held"
    #: Paused by a person.
    PAUSED = "paused"
    #: Finished.
    DONE = "done"
    #: Ended without finishing.
    FAILED = "failed"


class User(SQLModel, table=True):
    __tablename__ = "app_user"
    id: int | None = Field(default=None, primary_key=True)
    name: str = Field(unique=True, max_length=60)
    role: str
    password_hash: str
    active: bool = True
    seen_at: dt.datetime | None = _when(default=False)
    previously_seen_at: dt.datetime | None = _when(default=False)
    created_at: dt.datetime = _when()
    __table_args__ = (CheckConstraint("role in ('administrator', 'operator', 'viewer')", name="known_role"),)


class SignInAttempt(SQLModel, table=True):
    __tablename__ = "sign_in_attempt"
    id: int | None = Field(default=None, primary_key=True)
    name: str
    address: str
    at: dt.datetime = _when(index=True)


class Setting(SQLModel, table=True):
    key: str = Field(primary_key=True)
    value: Any = _json()


class Site(SQLModel, table=True):
    id: int | None = Field(default=None, primary_key=True)
    name: str = Field(unique=True)


class Host(SQLModel, table=True):
    id: int | None = Field(default=None, primary_key=True)
    site_id: int = Field(foreign_key="site.id")
    name: str = Field(unique=True)


class Shelf(SQLModel, table=True):
    id: int | None = Field(default=None, primary_key=True)
    site_id: int = Field(foreign_key="site.id", index=True)
    host_id: int | None = Field(default=None, foreign_key="host.id")
    name: str
    bays: int
    #: What all its drives share, bytes per second; None: not known, taken as no limit.
    link: int | None = _big(default=None)
    __table_args__ = (
        UniqueConstraint("site_id", "name", name="one_shelf_of_a_name"),
        CheckConstraint("link is null or link > 0", name="link_positive"),
        CheckConstraint("bays between 1 and 1001", name="bays_in_range"),
    )


class DriveRow(SQLModel, table=True):
    __tablename__ = "drive"
    id: int | None = Field(default=None, primary_key=True)
    shelf_id: int | None = Field(default=None, foreign_key="shelf.id")
    bay: int | None = None
    serial: str = Field(unique=True)
    size: int = _big()
    kind: str
    maker: str | None = None
    model: str | None = None
    bus: str | None = None
    sector_size: int | None = None
    rpm: int | None = None
    error_recovery: float | None = None
    afr: float | None = None
    uber: float | None = None
    rate: int | None = _big(default=None)
    use: str | None = None
    in_service: dt.date | None = None
    price: Decimal | None = Field(default=None, sa_type=Numeric(12, 2))
    currency: str | None = None
    holds: str | None = None
    starts_host: bool = False
    service: str = Service.NEW
    condition: str = Condition.GOOD
    seen_at: dt.datetime = _when()
    __table_args__ = (
        UniqueConstraint("shelf_id", "bay", name="one_drive_a_bay"),
        CheckConstraint("(shelf_id is null) = (bay is null)", name="shelf_with_bay"),
        CheckConstraint("size > 0", name="size_positive"),
        CheckConstraint("kind in ('hdd', 'ssd', 'nvme')", name="known_kind"),
        CheckConstraint("service in ('new', 'free', 'in-use')", name="known_service"),
        CheckConstraint("condition in ('good', 'failing', 'failed', 'missing')", name="known_condition"),
        Index("drive_troubled", "condition", postgresql_where=text("condition <> 'good'")),
        Index("drive_new", "service", postgresql_where=text("service = 'new'")),
    )


class PoolRow(SQLModel, table=True):
    __tablename__ = "pool"
    id: int | None = Field(default=None, primary_key=True)
    name: str = Field(unique=True)
    scheme: str
    sets: int
    capacity: int = _big()
    state: str = "healthy"
    #: Counts every change of its bytes; a drive that missed none comes back as it was.
    writes: int = _big(default=0)
    #: Stripes whose redundancy is in step, from the first.
    synced_to: int = _big(default=0)
    tint: int = 0
    created_at: dt.datetime = _when()
    __table_args__ = (
        CheckConstraint("state in ('healthy','degraded','unprotected','lost','unreachable')", name="known_state"),
    )


class PoolPlace(SQLModel, table=True):
    """A drive's place in a pool: a member by its slot, or a spare (slot null)."""

    __tablename__ = "pool_place"
    id: int | None = Field(default=None, primary_key=True)
    pool_id: int = Field(foreign_key="pool.id", index=True)
    slot: int | None = None
    #: The size the layout was made with; a replacement may be larger.
    size: int = _big()
    rate: int | None = _big(default=None)
    kind: str = "hdd"
    #: The shelf its drive stood on at building, and that shelf's link: what the promised hours stand on.
    shelf: str | None = None
    link: int | None = _big(default=None)
    drive_id: int | None = Field(default=None, foreign_key="drive.id", unique=True)
    state: str = MemberState.ACTIVE
    #: The pool's count of writes when its drive went missing.
    away_since: int | None = _big(default=None)
    #: Stripes already rebuilt onto its drive.
    rebuilt_to: int = _big(default=0)
    __table_args__ = (
        UniqueConstraint("pool_id", "slot", name="one_place_a_slot"),
        CheckConstraint("state in ('active','missing','failed','rebuilding')", name="known_place_state"),
        CheckConstraint("slot is not null or drive_id is not null", name="a_spare_is_a_drive"),
    )


class VolumeRow(SQLModel, table=True):
    __tablename__ = "volume"
    id: int | None = Field(default=None, primary_key=True)
    pool_id: int = Field(foreign_key="pool.id", index=True)
    name: str
    size: int = _big()
    first: int = _big()
    extents: int = _big()
    file_system: str
    reserved_share: float | None = None
    overhead: int = _big()
    mount_point: str | None = None
    host_id: int | None = Field(default=None, foreign_key="host.id")
    uuid: str
    created_at: dt.datetime = _when()
    __table_args__ = (
        UniqueConstraint("pool_id", "name", name="one_volume_of_a_name"),
        UniqueConstraint("host_id", "mount_point", name="one_volume_a_mount_point"),
        CheckConstraint("size > 0 and first >= 0 and extents > 0", name="volume_has_room"),
    )


class SampleFile(SQLModel, table=True):
    """A file that the simulated host keeps on a volume; the checksum is the host's own record."""

    __tablename__ = "sample_file"
    id: int | None = Field(default=None, primary_key=True)
    volume_id: int = Field(foreign_key="volume.id", index=True)
    name: str
    first: int = _big()
    extents: int = _big()
    sha256: str
    written_at: dt.datetime = _when()
    read_at: dt.datetime | None = _when(default=False)
    intact: bool | None = None
    __table_args__ = (UniqueConstraint("volume_id", "name", name="one_file_of_a_name"),)


class SheetRow(SQLModel, table=True):
    __tablename__ = "change_sheet"
    id: int | None = Field(default=None, primary_key=True)
    kind: str
    title: str
    state: str = SheetState.DRAFT
    request: dict[str, Any] = _json()
    body: dict[str, Any] = _json()
    fingerprint: str
    created_by: str
    created_at: dt.datetime = _when(index=True)
    approved_by: str | None = None
    approved_at: dt.datetime | None = _when(default=False)
    pool_id: int | None = Field(default=None, foreign_key="pool.id")


class JobRow(SQLModel, table=True):
    __tablename__ = "job"
    id: int | None = Field(default=None, primary_key=True)
    kind: str
    pool_id: int = Field(foreign_key="pool.id", index=True)
    volume_id: int | None = Field(default=None, foreign_key="volume.id")
    sheet_id: int | None = Field(default=None, foreign_key="change_sheet.id")
    slot: int | None = None
    state: str = JobState.WAITING
    why_held: str | None = None
    pace: str = "fast"
    cursor: int = _big(default=0)
    total: int = _big()
    #: Drive time of the whole job with nobody using the pool, seconds.
    seconds: float = 0.0
    #: Drive time spent so far, seconds.
    spent: float = 0.0
    report: dict[str, Any] = _json()
    error: str | None = None
    asked_by: str
    created_at: dt.datetime = _when()
    started_at: dt.datetime | None = _when(default=False)
    finished_at: dt.datetime | None = _when(default=False)
    __table_args__ = (
        CheckConstraint("state in ('waiting','running','held','paused','done','failed')", name="known_job_state"),
        Index("job_open", "state", postgresql_where=text("state not in ('done', 'failed')")),
        Index("job_finished", "finished_at"),
        Index(
            "one_open_job_of_a_kind", "pool_id", "kind", text("coalesce(slot, -1)"), text("coalesce(volume_id, -1)"),
            unique=True, postgresql_where=text("state not in ('done', 'failed')"),
        ),
    )  # fmt: skip


class LogRow(SQLModel, table=True):
    __tablename__ = "logbook"
    id: int | None = Field(default=None, primary_key=True)
    at: dt.datetime = _when(index=True)
    who: str
    act: str
    about: str
    sentence: str
    facts: dict[str, Any] = _json()


class DriveModel(SQLModel, table=True):
    """A model of the price list; drives of it without figures of their own take these."""

    __tablename__ = "drive_model"
    id: int | None = Field(default=None, primary_key=True)
    maker: str | None = None
    model: str
    size: int = _big()
    kind: str
    bus: str | None = None
    price: Decimal | None = Field(default=None, sa_type=Numeric(12, 2))
    currency: str | None = None
    rate: int | None = _big(default=None)
    afr: float | None = None
    uber: float | None = None
    ops: int | None = None
    watts: float | None = None
    error_recovery: float | None = None
    __table_args__ = (
        Index("one_model_of_a_name", text("lower(model)"), unique=True),
        CheckConstraint("size > 0", name="model_size_positive"),
        CheckConstraint("kind in ('hdd', 'ssd', 'nvme')", name="known_model_kind"),
    )


class Comparison(SQLModel, table=True):
    """A saved comparison: the question as it stands in the address, and the figures as they were then."""

    id: int | None = Field(default=None, primary_key=True)
    name: str
    #: The question, as the comparison's address has it.
    question: str
    note: str = ""
    #: The layouts that were picked or pinned, with all their figures.
    layouts: dict[str, Any] = _json()
    created_by: str
    created_at: dt.datetime = _when(index=True)
    __table_args__ = (Index("one_comparison_of_a_name", text("lower(name)"), unique=True),)


class BackupRow(SQLModel, table=True):
    """The backup of a pool, or of one of its volumes: a recorded fact."""

    __tablename__ = "backup"
    id: int | None = Field(default=None, primary_key=True)
    pool_id: int = Field(foreign_key="pool.id", index=True)
    volume_id: int | None = Field(default=None, foreign_key="volume.id")
    place: str
    age_hours: float
    link: int = _big()
    recorded_by: str
    recorded_at: dt.datetime = _when()
    __table_args__ = (
        Index("one_backup_a_pool_or_volume", "pool_id", text("coalesce(volume_id, -1)"), unique=True),
        CheckConstraint("age_hours >= 0 and link > 0", name="backup_makes_sense"),
    )

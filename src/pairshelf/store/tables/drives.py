"""Sites, hosts, shelves and drives."""

from __future__ import annotations

import datetime as dt
from decimal import Decimal
from typing import Any

from sqlalchemy import CheckConstraint, Column, Index, Numeric, UniqueConstraint, text
from sqlalchemy.dialects.postgresql import JSONB
from sqlmodel import Field, SQLModel

from pairshelf.store.tables.columns import Condition, Numbered, Service, big, json_column, when


class Site(Numbered, table=True):
    id: int | None = Field(default=None, primary_key=True)
    name: str = Field(unique=True)


class Host(Numbered, table=True):
    id: int | None = Field(default=None, primary_key=True)
    site_id: int = Field(foreign_key="site.id")
    name: str = Field(unique=True)
    #: Whether it names mount points by drive letters.
    letters: bool = False
    #: Its address on the network, and the one on the storage network.
    address: str | None = None
    storage_address: str | None = None
    #: Its own initiator name.
    iqn: str | None = Field(default=None, unique=True)
    #: Its network link, bytes per second.
    link: int | None = big(default=None)


class Shelf(Numbered, table=True):
    id: int | None = Field(default=None, primary_key=True)
    site_id: int = Field(foreign_key="site.id", index=True)
    host_id: int | None = Field(default=None, foreign_key="host.id")
    name: str
    bays: int
    #: What all its drives share, bytes per second; None: not known, taken as no limit.
    link: int | None = big(default=None)
    __table_args__ = (
        UniqueConstraint("site_id", "name", name="one_shelf_of_a_name"),
        CheckConstraint("link is null or link > 0", name="link_positive"),
        CheckConstraint("bays between 1 and 1001", name="bays_in_range"),
    )


class DriveRow(Numbered, table=True):
    __tablename__ = "drive"
    id: int | None = Field(default=None, primary_key=True)
    shelf_id: int | None = Field(default=None, foreign_key="shelf.id")
    bay: int | None = None
    serial: str = Field(unique=True)
    size: int = big()
    kind: str
    maker: str | None = None
    model: str | None = None
    bus: str | None = None
    sector_size: int | None = None
    rpm: int | None = None
    error_recovery: float | None = None
    afr: float | None = None
    uber: float | None = None
    rate: int | None = big(default=None)
    rated_writes: int | None = big(default=None)
    #: Of flash: the share held back for its endurance.
    held_share: float = 0.0
    max_temperature: float | None = None
    use: str | None = None
    property_number: str | None = None
    in_service: dt.date | None = None
    price: Decimal | None = Field(default=None, sa_type=Numeric(12, 2))
    currency: str | None = None
    holds: str | None = None
    starts_host: bool = False
    service: str = Service.NEW
    condition: str = Condition.GOOD
    seen_at: dt.datetime = when()
    #: Where it was before it was taken out, while it is out.
    left_shelf_id: int | None = Field(default=None, foreign_key="shelf.id", ondelete="SET NULL")
    left_bay: int | None = None
    #: The encrypted pool of which ciphertext is all that was written to it since it was blank, once its key is gone.
    sealed_by: str | None = None
    #: The pool of elsewhere that it says it belongs to, as it was read when it came: uid and name.
    bears: dict[str, Any] | None = Field(default=None, sa_column=Column(JSONB(none_as_null=True), nullable=True))
    #: When it was last wiped; None once something has been written to it since.
    wiped_at: dt.datetime | None = when(default=False)
    #: What it is being drained with.
    drain_id: int | None = Field(default=None, foreign_key="drain.id", index=True)
    #: Where it went when it left the house for good.
    retired_to: str | None = None
    retired_at: dt.datetime | None = when(default=False)
    __table_args__ = (
        UniqueConstraint("shelf_id", "bay", name="one_drive_a_bay"),
        CheckConstraint("(shelf_id is null) = (bay is null)", name="shelf_with_bay"),
        CheckConstraint("size > 0", name="size_positive"),
        CheckConstraint("kind in ('hdd', 'ssd', 'nvme')", name="known_kind"),
        CheckConstraint(
            "held_share between 0 and 0.5 and (held_share = 0 or kind <> 'hdd')", name="share_held_of_flash"
        ),
        CheckConstraint("service in ('new', 'free', 'in-use', 'wiping', 'retired')", name="known_service"),
        CheckConstraint(
            "(service = 'retired') = (retired_to is not null) and (service = 'retired') = (retired_at is not null)",
            name="retired_where",
        ),
        CheckConstraint("service <> 'retired' or shelf_id is null", name="retired_on_no_shelf"),
        CheckConstraint("condition in ('good', 'failing', 'failed', 'missing')", name="known_condition"),
        Index("drive_troubled", "condition", postgresql_where=text("condition <> 'good'")),
        Index("drive_on_no_shelf", "id", postgresql_where=text("shelf_id is null and service <> 'retired'")),
        Index("drive_new", "service", postgresql_where=text("service = 'new'")),
    )


class DriveHealth(SQLModel, table=True):
    """What a drive's readings say of it, and its last surface scan. Without a row none was taken yet."""

    __tablename__ = "drive_health"
    drive_id: int = Field(primary_key=True, foreign_key="drive.id")
    #: ``core.watching.failing.Health``.
    level: int = 0
    #: What rules found: rule, level and sentence each, as of when it came to this.
    reasons: list[dict[str, Any]] = Field(default_factory=list, sa_column=Column(JSONB, nullable=False))
    since: dt.datetime = when()
    #: Since when there are sectors that cannot be read, while there are.
    unreadable_since: dt.datetime | None = when(default=False)
    scan_began: dt.datetime | None = when(default=False)
    scan_ended: dt.datetime | None = when(default=False)
    #: Extents read, those that could not be, and those that were written anew from the others.
    scan_found: dict[str, int] | None = Field(default=None, sa_column=Column(JSONB(none_as_null=True), nullable=True))


class DrainRow(Numbered, table=True):
    """Drives that everything is moved off. While it is under way they are marked with it."""

    __tablename__ = "drain"
    id: int | None = Field(default=None, primary_key=True)
    #: What is emptied, in words.
    subject: str
    #: Numbers of all its drives.
    drives: list[int] = Field(default_factory=list, sa_column=Column(JSONB, nullable=False))
    #: What stood on each at the start, extents by number.
    held: dict[str, int] = json_column()
    #: Copies that run side by side.
    at_once: int = 1
    asked_by: str
    started_at: dt.datetime = when()
    ended_at: dt.datetime | None = when(default=False)
    #: It was left off before everything had moved.
    left_off: bool = False
    __table_args__ = (CheckConstraint("ended_at is not null or not left_off", name="only_what_has_ended_was_left_off"),)


class PartitionPlan(SQLModel, table=True):
    """Partitions of a drive without a pool: pending until written. Written, the drive is a pool by itself, and they
    are its volumes."""

    __tablename__ = "partition_plan"
    drive_id: int = Field(primary_key=True, foreign_key="drive.id")
    #: The pool that the drive is by itself.
    pool_id: int | None = Field(default=None, foreign_key="pool.id", unique=True)
    scheme: str
    sector: int
    disk_id: str
    parts: list[dict[str, Any]] = Field(default_factory=list, sa_column=Column(JSONB, nullable=False))
    #: The partitions as the drive has them, with their exact sectors (``partitions.Part``).
    written: list[dict[str, Any]] | None = Field(
        default=None, sa_column=Column(JSONB(none_as_null=True), nullable=True)
    )
    changed_by: str
    changed_at: dt.datetime = when()


class DriveModel(Numbered, table=True):
    """A model of the price list; drives of it without figures of their own take these."""

    __tablename__ = "drive_model"
    id: int | None = Field(default=None, primary_key=True)
    maker: str | None = None
    model: str
    size: int = big()
    kind: str
    bus: str | None = None
    price: Decimal | None = Field(default=None, sa_type=Numeric(12, 2))
    currency: str | None = None
    rate: int | None = big(default=None)
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

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
    #: Its drive is gone, and what stood on it stands on others (spread pools).
    EMPTIED = "emptied"


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


class SessionRow(SQLModel, table=True):
    """Somebody signed in on one browser, until it ends."""

    __tablename__ = "session"
    id: int | None = Field(default=None, primary_key=True)
    user_id: int = Field(foreign_key="app_user.id")
    #: Of what its cookie carries (SHA-256).
    token_hash: str = Field(unique=True)
    address: str
    #: What the browser says it is.
    agent: str
    created_at: dt.datetime = _when()
    seen_at: dt.datetime = _when()
    ended_at: dt.datetime | None = _when(default=False)


class KnownDevice(SQLModel, table=True):
    """A browser on which a user has signed in before."""

    __tablename__ = "known_device"
    token_hash: str = Field(primary_key=True)
    user_id: int = Field(primary_key=True, foreign_key="app_user.id")
    seen_at: dt.datetime = _when()


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
    #: Whether it names mount points by drive letters.
    letters: bool = False
    #: Its address on the network, and the one on the storage network.
    address: str | None = None
    storage_address: str | None = None
    #: Its own initiator name.
    iqn: str | None = Field(default=None, unique=True)
    #: Its network link, bytes per second.
    link: int | None = _big(default=None)


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
    #: Stripes whose redundancy is in step, from the first.
    synced_to: int = _big(default=0)
    tint: int = 0
    #: Of a spread pool: what may fail as one.
    domain: str | None = None
    #: Of an encrypted pool: its key, wrapped by the passphrase.
    key: dict[str, Any] | None = Field(default=None, sa_column=Column(JSONB(none_as_null=True), nullable=True))
    #: False until somebody has said that the passphrase shown last is kept.
    passphrase_kept: bool = True
    #: What was promised at building, and what was measured since.
    promised: dict[str, Any] = _json()
    measured: dict[str, Any] = _json()
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
    host: str | None = None
    site: str | None = None
    #: Of a spare: what it stands by for: its pool, its shelf, or all.
    scope: str = "pool"
    drive_id: int | None = Field(default=None, foreign_key="drive.id", unique=True)
    state: str = MemberState.ACTIVE
    #: How often its drive has gone missing; what it missed meanwhile is in ``missed_write``.
    absence: int = 0
    #: Its drive did not hold all its data when it went missing.
    incomplete: bool = False
    #: Stripes already rebuilt onto its drive.
    rebuilt_to: int = _big(default=0)
    __table_args__ = (
        UniqueConstraint("pool_id", "slot", name="one_place_a_slot"),
        CheckConstraint("state in ('active','missing','failed','rebuilding','emptied')", name="known_place_state"),
        CheckConstraint("slot is not null or drive_id is not null", name="a_spare_is_a_drive"),
    )


class MissedWrite(SQLModel, table=True):
    """A place whose drive is away has missed a change of its pool's bytes. Written, and committed, before the
    first byte is changed: so its drive comes back as it was only if nothing changed."""

    __tablename__ = "missed_write"
    place_id: int = Field(primary_key=True, foreign_key="pool_place.id")
    absence: int = Field(primary_key=True)


class VolumeRow(SQLModel, table=True):
    __tablename__ = "volume"
    id: int | None = Field(default=None, primary_key=True)
    pool_id: int = Field(foreign_key="pool.id", index=True)
    name: str
    size: int = _big()
    #: Whole extents that hold its size.
    extents: int = _big()
    thin: bool = False
    purpose: str = ""
    #: Its own protection, in a spread pool.
    protection: str | None = None
    file_system: str
    reserved_share: float | None = None
    overhead: int = _big()
    uuid: str
    created_at: dt.datetime = _when()
    __table_args__ = (
        UniqueConstraint("pool_id", "name", name="one_volume_of_a_name"),
        CheckConstraint("size > 0 and extents > 0", name="volume_has_room"),
    )


class VolumePiece(SQLModel, table=True):
    """Extents of a volume from ``at`` on, and where in the pool's addresses they lie."""

    __tablename__ = "volume_piece"
    id: int | None = Field(default=None, primary_key=True)
    pool_id: int = Field(foreign_key="pool.id")
    volume_id: int = Field(foreign_key="volume.id")
    at: int = _big()
    first: int = _big()
    count: int = _big()


class VolumeStripes(SQLModel, table=True):
    """The stripes of a volume of a spread pool: int32 [stripes, width, (slot, row)], little-endian."""

    __tablename__ = "volume_stripes"
    volume_id: int = Field(primary_key=True, foreign_key="volume.id")
    pool_id: int = Field(foreign_key="pool.id")
    placed: bytes


class SampleFile(SQLModel, table=True):
    """A file that a simulated host keeps on a volume; the checksum is the host's own record."""

    __tablename__ = "sample_file"
    id: int | None = Field(default=None, primary_key=True)
    volume_id: int = Field(foreign_key="volume.id", index=True)
    name: str
    first: int = _big()
    extents: int = _big()
    checksum: str
    #: The way it was written: mount, share, target.
    via: str = "mount"
    folder: str = ""
    #: Who wrote it: an application, a person, a host.
    writer: str = ""
    written_at: dt.datetime = _when()
    read_at: dt.datetime | None = _when(default=False)
    intact: bool | None = None
    #: When it went to the bin of its share.
    deleted_at: dt.datetime | None = _when(default=False)
    __table_args__ = (UniqueConstraint("volume_id", "name", name="one_file_of_a_name"),)


class Mount(SQLModel, table=True):
    """A host's entry that mounts a volume, by the UUID of its file system."""

    id: int | None = Field(default=None, primary_key=True)
    host_id: int = Field(foreign_key="host.id")
    volume_id: int = Field(foreign_key="volume.id")
    at: str
    read_only: bool = False
    access_times: bool = False
    #: Whether the host refuses to start without it.
    required: bool = False
    __table_args__ = (UniqueConstraint("host_id", "at", name="one_volume_a_mount_point"),)


class Party(SQLModel, table=True):
    """A person or a group that shares are for."""

    id: int | None = Field(default=None, primary_key=True)
    name: str
    kind: str = "person"


class PartyMember(SQLModel, table=True):
    __tablename__ = "party_member"
    group_id: int = Field(primary_key=True, foreign_key="party.id")
    person_id: int = Field(primary_key=True, foreign_key="party.id")


class Share(SQLModel, table=True):
    """A folder of a volume over the network."""

    id: int | None = Field(default=None, primary_key=True)
    volume_id: int = Field(foreign_key="volume.id")
    name: str
    folder: str = ""
    quota: int | None = _big(default=None)
    #: Days that deleted files are kept; None: not at all.
    bin_days: int | None = None
    encrypted: bool = True
    purpose: str = ""


class ShareRight(SQLModel, table=True):
    __tablename__ = "share_right"
    share_id: int = Field(primary_key=True, foreign_key="share.id")
    party_id: int = Field(primary_key=True, foreign_key="party.id")
    may: str


class ShareVisit(SQLModel, table=True):
    """Somebody connected to a share."""

    __tablename__ = "share_visit"
    id: int | None = Field(default=None, primary_key=True)
    share_id: int = Field(foreign_key="share.id")
    person_id: int = Field(foreign_key="party.id")
    client: str
    since: dt.datetime = _when()


class Initiator(SQLModel, table=True):
    """A name a host logs in by; declared perhaps before the host is there."""

    id: int | None = Field(default=None, primary_key=True)
    iqn: str = Field(unique=True)
    host_id: int | None = Field(default=None, foreign_key="host.id")


class Target(SQLModel, table=True):
    id: int | None = Field(default=None, primary_key=True)
    iqn: str = Field(unique=True)
    host_id: int = Field(foreign_key="host.id")
    #: Whether several hosts may use it at once.
    shared: bool = False


class TargetLun(SQLModel, table=True):
    __tablename__ = "target_lun"
    target_id: int = Field(primary_key=True, foreign_key="target.id")
    lun: int = Field(primary_key=True)
    volume_id: int = Field(foreign_key="volume.id", unique=True)


class TargetRight(SQLModel, table=True):
    """An initiator let in to a target; with CHAP, by a name and a secret kept as a hash."""

    __tablename__ = "target_right"
    target_id: int = Field(primary_key=True, foreign_key="target.id")
    initiator_id: int = Field(primary_key=True, foreign_key="initiator.id")
    chap_name: str | None = None
    chap_hash: str | None = None


class Application(SQLModel, table=True):
    """Something on a host that keeps data in a folder."""

    id: int | None = Field(default=None, primary_key=True)
    host_id: int = Field(foreign_key="host.id")
    name: str
    kind: str
    owner: str
    folder: str
    #: The file of its settings; it names the folder.
    settings: str
    running: bool = True
    #: The volume its folder stands on; None: the host's own disk.
    volume_id: int | None = Field(default=None, foreign_key="volume.id")
    folder_scheme: str | None = None
    files_per_folder: int | None = None
    #: Of a move that can be undone: where it was.
    moved: dict[str, Any] = _json()
    __table_args__ = (UniqueConstraint("host_id", "name", name="one_application_of_a_name"),)


class KeepRule(SQLModel, table=True):
    """Above this share taken, the oldest recordings of this volume, and of no other, are deleted."""

    __tablename__ = "keep_rule"
    volume_id: int = Field(primary_key=True, foreign_key="volume.id")
    above: float
    application_id: int | None = Field(default=None, foreign_key="application.id")


class PartitionPlan(SQLModel, table=True):
    """Partitions of a drive without a pool: pending until written."""

    __tablename__ = "partition_plan"
    drive_id: int = Field(primary_key=True, foreign_key="drive.id")
    scheme: str
    sector: int
    disk_id: str
    parts: list[dict[str, Any]] = Field(default_factory=list, sa_column=Column(JSONB, nullable=False))
    #: The partitions as the drive has them.
    written: list[dict[str, Any]] | None = Field(
        default=None, sa_column=Column(JSONB(none_as_null=True), nullable=True)
    )
    changed_by: str
    changed_at: dt.datetime = _when()


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


class ErrandRow(SQLModel, table=True):
    """Something to be done on a drive or a host: written down with the change it belongs to, done when that has
    been committed, and done again after a kill."""

    __tablename__ = "errand"
    id: int | None = Field(default=None, primary_key=True)
    sheet_id: int | None = Field(default=None, foreign_key="change_sheet.id")
    #: The drive or host; errands of one subject are done in their order.
    subject: str
    what: str
    facts: dict[str, Any] = _json()
    made_at: dt.datetime = _when()
    done_at: dt.datetime | None = _when(default=False)
    #: Why it could not be done yet.
    why: str | None = None


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

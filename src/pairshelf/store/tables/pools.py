"""Pools, their places, and what an absent drive missed."""

from __future__ import annotations

import datetime as dt
import uuid
from typing import Any

from sqlalchemy import CheckConstraint, Column, Index, UniqueConstraint, text
from sqlalchemy.dialects.postgresql import JSONB
from sqlmodel import Field, SQLModel

from pairshelf.store.tables.columns import MemberState, Numbered, OfMember, big, json_column, when


class PoolRow(Numbered, table=True):
    __tablename__ = "pool"
    id: int | None = Field(default=None, primary_key=True)
    name: str = Field(unique=True)
    #: What it is known by wherever its drives are: 32 hexadecimal digits.
    uid: str = Field(default_factory=lambda: uuid.uuid4().hex, unique=True)
    scheme: str
    sets: int
    capacity: int = big()
    state: str = "healthy"
    #: Its bands, where they are not as the scheme lays its drives: what was added stands behind what there was.
    bands: list[Any] | None = Field(default=None, sa_column=Column(JSONB(none_as_null=True), nullable=True))
    #: The layout it is being restriped to (``store.repositories.layouts.Goal``); None: it is not.
    walk: dict[str, Any] | None = Field(default=None, sa_column=Column(JSONB(none_as_null=True), nullable=True))
    #: The address that the front of a restripe has come to, and whether it goes back.
    front: int | None = big(default=None)
    turned: bool = False
    #: What is extended by itself when the front has arrived: the volumes (none: all), the sheet that says so, and whose.
    extend_after: dict[str, Any] | None = Field(default=None, sa_column=Column(JSONB(none_as_null=True), nullable=True))
    #: Windows that were ever moved in it.
    moves: int = big(default=0)
    #: Stripes whose redundancy is in step, from the first.
    synced_to: int = big(default=0)
    tint: int = 0
    #: A member that is failing by its readings is copied onto a spare by itself.
    acts_early: bool = False
    #: Of a spread pool: what may fail as one.
    domain: str | None = None
    #: Of an encrypted pool: its key, wrapped by the passphrase.
    key: dict[str, Any] | None = Field(default=None, sa_column=Column(JSONB(none_as_null=True), nullable=True))
    #: False until somebody has said that the passphrase shown last is kept.
    passphrase_kept: bool = True
    #: What was promised at building, and what was measured since.
    promised: dict[str, Any] = json_column()
    measured: dict[str, Any] = json_column()
    created_at: dt.datetime = when()
    __table_args__ = (
        CheckConstraint("state in ('healthy','degraded','unprotected','lost','unreachable')", name="known_state"),
        CheckConstraint(
            "(walk is null) = (front is null) and (front is null or front >= 0)", name="a_walk_has_a_front"
        ),
        CheckConstraint("not turned or walk is not null", name="only_a_walk_is_turned"),
    )


class PoolPlace(Numbered, OfMember, table=True):
    """A drive's place in a pool: a member by its slot, a spare, or a drive that is being made a member's copy."""

    __tablename__ = "pool_place"
    id: int | None = Field(default=None, primary_key=True)
    pool_id: int = Field(foreign_key="pool.id", index=True)
    slot: int | None = None
    #: Its slot in the layout that the pool is being restriped to; a member without one leaves when that is done.
    to_slot: int | None = None
    #: The slot of the member whose copy its drive is being made.
    beside: int | None = None
    #: The size the layout was made with; a replacement may be larger.
    size: int = big()
    rate: int | None = big(default=None)
    kind: str = "hdd"
    #: The shelf its drive stood on at building, and that shelf's link: what the promised hours stand on.
    shelf: str | None = None
    link: int | None = big(default=None)
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
    #: Everything is being moved off it (spread pools).
    draining: bool = False
    #: Stripes already rebuilt onto its drive; of one that is made a copy, rows.
    rebuilt_to: int = big(default=0)
    __table_args__ = (
        UniqueConstraint("pool_id", "slot", name="one_place_a_slot", deferrable=True, initially="DEFERRED"),
        UniqueConstraint("pool_id", "to_slot", name="one_place_a_new_slot", deferrable=True, initially="DEFERRED"),
        UniqueConstraint("pool_id", "beside", name="one_copy_a_slot"),
        CheckConstraint("beside is null or slot is null", name="a_copy_is_no_member"),
        CheckConstraint(
            "state in ('active','missing','failed','rebuilding','emptied','copying')", name="known_place_state"
        ),
        CheckConstraint("slot is not null or drive_id is not null", name="a_spare_is_a_drive"),
        CheckConstraint("slot is not null or not draining", name="only_a_member_is_drained"),
    )


class GrowthPathRow(Numbered, table=True):
    """Larger drives that come into the places of smaller ones one after the other, over weeks."""

    __tablename__ = "growth_path"
    id: int | None = Field(default=None, primary_key=True)
    pool_id: int = Field(foreign_key="pool.id")
    #: (slot, drive that comes, whether it has come), in their order.
    steps: list[Any] = Field(default_factory=list, sa_column=Column(JSONB, nullable=False))
    made_by: str
    made_at: dt.datetime = when()
    ended_at: dt.datetime | None = when(default=False)
    __table_args__ = (Index("one_open_path_a_pool", "pool_id", unique=True, postgresql_where=text("ended_at is null")),)


class MissedWrite(SQLModel, table=True):
    """A place whose drive is away has missed a change of the rows of a region. Written, and committed, before the
    first byte is changed: so its drive comes back as it was only if nothing changed, and otherwise is brought up to
    date with what did."""

    __tablename__ = "missed_write"
    place_id: int = Field(primary_key=True, foreign_key="pool_place.id")
    absence: int = Field(primary_key=True)
    #: So many rows from region x so many on (``core.layouts.regions``); -1: anywhere.
    region: int = Field(primary_key=True)


class PoolRecord(SQLModel, table=True):
    """What the drives of a pool were last told to keep of it. Written only by who writes records."""

    __tablename__ = "pool_record"
    pool_id: int = Field(primary_key=True)
    generation: int = big()
    #: How many were written: by turns in one place or the other.
    turn: int
    written_at: dt.datetime = when()
    #: Bytes on each drive.
    size: int = big()
    #: Of a pool that was brought in: the generation that its drives had, and what they said each had missed, by serial.
    brought: dict[str, Any] | None = Field(default=None, sa_column=Column(JSONB(none_as_null=True), nullable=True))
    #: The generation that was last written on each drive, by serial.
    reached: dict[str, int] = json_column()


class BackupRow(Numbered, table=True):
    """The backup of a pool, or of one of its volumes: a recorded fact."""

    __tablename__ = "backup"
    id: int | None = Field(default=None, primary_key=True)
    pool_id: int = Field(foreign_key="pool.id", index=True)
    volume_id: int | None = Field(default=None, foreign_key="volume.id")
    place: str
    age_hours: float
    link: int = big()
    recorded_by: str
    recorded_at: dt.datetime = when()
    __table_args__ = (
        Index("one_backup_a_pool_or_volume", "pool_id", text("coalesce(volume_id, -1)"), unique=True),
        CheckConstraint("age_hours >= 0 and link > 0", name="backup_makes_sense"),
    )

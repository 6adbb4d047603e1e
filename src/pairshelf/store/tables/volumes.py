"""Volumes, where they lie, the files on them, and where they are mounted."""

from __future__ import annotations

import datetime as dt

from sqlalchemy import CheckConstraint, UniqueConstraint
from sqlmodel import Field, SQLModel

from pairshelf.store.tables.columns import Numbered, big, when


class VolumeRow(Numbered, table=True):
    __tablename__ = "volume"
    id: int | None = Field(default=None, primary_key=True)
    pool_id: int = Field(foreign_key="pool.id", index=True)
    name: str
    size: int = big()
    #: Whole extents that hold its size.
    extents: int = big()
    thin: bool = False
    purpose: str = ""
    #: Its own protection, in a spread pool.
    protection: str | None = None
    file_system: str
    reserved_share: float | None = None
    overhead: int = big()
    uuid: str
    created_at: dt.datetime = when()
    #: Its number in the table of a drive divided into partitions.
    partition: int | None = None
    #: The number it was encrypted under where it was made, if that is not its own (``engine.io.volume_io``).
    sealed_as: int | None = big(default=None)
    #: What its history is kept by, if that is not its own number.
    recorded_as: int | None = big(default=None)
    #: Of a copy that nobody sees yet: the volume that is moving to it. And of that: its copy.
    moving_from: int | None = Field(default=None, foreign_key="volume.id")
    moving_to: int | None = Field(default=None, foreign_key="volume.id")
    __table_args__ = (
        UniqueConstraint("pool_id", "name", name="one_volume_of_a_name"),
        UniqueConstraint("pool_id", "partition", name="one_volume_a_partition"),
        UniqueConstraint("moving_from", name="one_copy_of_a_moving_volume"),
        CheckConstraint(
            "size > 0 and (extents > 0 or (extents = 0 and partition is not null))", name="volume_has_room"
        ),
    )


class VolumePiece(Numbered, table=True):
    """Extents of a volume from ``at`` on, and where in the pool's addresses they lie."""

    __tablename__ = "volume_piece"
    id: int | None = Field(default=None, primary_key=True)
    pool_id: int = Field(foreign_key="pool.id")
    volume_id: int = Field(foreign_key="volume.id")
    at: int = big()
    first: int = big()
    count: int = big()


class ChangedRegion(SQLModel, table=True):
    """Extents of a volume that were written while it is being moved, and have to be copied again."""

    __tablename__ = "changed_region"
    volume_id: int = Field(primary_key=True, foreign_key="volume.id")
    #: So many extents from region x so many on (``engine.io.volume_io.CHANGED_TOGETHER``).
    region: int = Field(primary_key=True)


class VolumeStripes(SQLModel, table=True):
    """The stripes of a volume of a spread pool: int32 [stripes, width, (slot, row)], little-endian."""

    __tablename__ = "volume_stripes"
    volume_id: int = Field(primary_key=True, foreign_key="volume.id")
    pool_id: int = Field(foreign_key="pool.id")
    placed: bytes


class SampleFile(Numbered, table=True):
    """A file that a simulated host keeps on a volume; the checksum is the host's own record."""

    __tablename__ = "sample_file"
    id: int | None = Field(default=None, primary_key=True)
    volume_id: int = Field(foreign_key="volume.id", index=True)
    name: str
    first: int = big()
    extents: int = big()
    checksum: str
    #: The way it was written: mount, share, target.
    via: str = "mount"
    folder: str = ""
    #: Who wrote it: an application, a person, a host.
    writer: str = ""
    written_at: dt.datetime = when()
    read_at: dt.datetime | None = when(default=False)
    intact: bool | None = None
    #: When it went to the bin of its share.
    deleted_at: dt.datetime | None = when(default=False)
    __table_args__ = (UniqueConstraint("volume_id", "name", name="one_file_of_a_name"),)


class Mount(Numbered, table=True):
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


class KeepRule(SQLModel, table=True):
    """Above this share taken, the oldest recordings of this volume, and of no other, are deleted."""

    __tablename__ = "keep_rule"
    volume_id: int = Field(primary_key=True, foreign_key="volume.id")
    above: float
    application_id: int | None = Field(default=None, foreign_key="application.id")

"""People and groups, shares, block targets, applications."""

from __future__ import annotations

import datetime as dt
from typing import Any

from sqlalchemy import UniqueConstraint
from sqlmodel import Field, SQLModel

from pairshelf.store.tables.columns import Numbered, big, json_column, when


class Party(Numbered, table=True):
    """A person or a group that shares are for."""

    id: int | None = Field(default=None, primary_key=True)
    name: str
    kind: str = "person"


class PartyMember(SQLModel, table=True):
    __tablename__ = "party_member"
    group_id: int = Field(primary_key=True, foreign_key="party.id")
    person_id: int = Field(primary_key=True, foreign_key="party.id")


class Share(Numbered, table=True):
    """A folder of a volume over the network."""

    id: int | None = Field(default=None, primary_key=True)
    volume_id: int = Field(foreign_key="volume.id")
    name: str
    folder: str = ""
    quota: int | None = big(default=None)
    #: Days that deleted files are kept; None: not at all.
    bin_days: int | None = None
    encrypted: bool = True
    purpose: str = ""


class ShareRight(SQLModel, table=True):
    __tablename__ = "share_right"
    share_id: int = Field(primary_key=True, foreign_key="share.id")
    party_id: int = Field(primary_key=True, foreign_key="party.id")
    may: str


class ShareVisit(Numbered, table=True):
    """Somebody connected to a share."""

    __tablename__ = "share_visit"
    id: int | None = Field(default=None, primary_key=True)
    share_id: int = Field(foreign_key="share.id")
    person_id: int = Field(foreign_key="party.id")
    client: str
    since: dt.datetime = when()


class Initiator(Numbered, table=True):
    """A name a host logs in by; declared perhaps before the host is there."""

    id: int | None = Field(default=None, primary_key=True)
    iqn: str = Field(unique=True)
    host_id: int | None = Field(default=None, foreign_key="host.id")


class Target(Numbered, table=True):
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


class Application(Numbered, table=True):
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
    moved: dict[str, Any] = json_column()
    __table_args__ = (UniqueConstraint("host_id", "name", name="one_application_of_a_name"),)

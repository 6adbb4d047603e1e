"""Drives on their way out: wipes, their certificates and the keys these are signed with, pools taken apart."""

from __future__ import annotations

import datetime as dt
from typing import Any

from sqlalchemy import CheckConstraint, Index, text
from sqlmodel import Field, SQLModel

from pairshelf.store.tables.columns import Numbered, big, json_column, when


class WipeRow(Numbered, table=True):
    """One drive of a lot that is wiped, or was; the sheet is the lot."""

    __tablename__ = "wipe"
    id: int | None = Field(default=None, primary_key=True)
    drive_id: int = Field(foreign_key="drive.id", index=True)
    sheet_id: int | None = Field(default=None, foreign_key="change_sheet.id", index=True)
    job_id: int | None = Field(default=None, foreign_key="job.id", index=True)
    category: str
    method: str
    #: Extents read back afterwards: all of them, or a sample of so many.
    verified_by: str = "all"
    sample: int | None = big(default=None)
    #: Bytes of the remnant that the chance of missing one is said of.
    remnant: int = big(default=2**20)
    #: Where the drive goes afterwards, as far as that is known.
    destination: str | None = None
    asked_by: str
    approved_by: str
    state: str = "open"
    #: Steps done of all: first those that erase (so many of them), then those that read back.
    cursor: int = big(default=0)
    total: int = big()
    erasing: int = big()
    #: Whose hands it is in: an erasure that does not go on where it was begins anew in others.
    run: str | None = None
    #: Why it does not go on just now.
    held: str | None = None
    #: What was found, or stood in the way.
    found: str | None = None
    #: The drive as it was before: what it reported, what it held, where it came from.
    before: dict[str, Any] = json_column()
    started_at: dt.datetime | None = when(default=False)
    ended_at: dt.datetime | None = when(default=False)

    @property
    def share(self) -> float:
        """How far the erasing came, 0 to 1."""
        return min(1.0, self.cursor / self.erasing) if self.erasing else float(self.state == "wiped")

    __table_args__ = (
        CheckConstraint("state in ('open', 'wiped', 'partly', 'not')", name="known_wipe_state"),
        CheckConstraint("verified_by in ('all', 'sample', 'record')", name="known_verification"),
        CheckConstraint("(state = 'open') = (ended_at is null)", name="an_open_wipe_has_no_end"),
        Index("one_open_wipe_a_drive", "drive_id", unique=True, postgresql_where=text("state = 'open'")),
    )


class SigningKey(SQLModel, table=True):
    """A key that certificates are signed with (Ed25519, RFC 8032); one at a time, the old ones stay to verify by."""

    __tablename__ = "signing_key"
    kid: str = Field(primary_key=True)
    #: The public key (JWK, RFC 7517).
    public: dict[str, Any] = json_column()
    #: The private key, encrypted by a key that is kept in a file apart; None once it has been replaced.
    private: str | None = None
    made_at: dt.datetime = when()
    retired_at: dt.datetime | None = when(default=False)
    __table_args__ = (
        CheckConstraint("(private is null) = (retired_at is not null)", name="a_retired_key_signs_nothing"),
        Index("one_key_that_signs", text("(private is not null)"), unique=True,
              postgresql_where=text("private is not null")),
    )  # fmt: skip


class Certificate(SQLModel, table=True):
    """The proof of one wipe, numbered without gaps and signed; kept when the drive is gone."""

    __tablename__ = "certificate"
    number: int = Field(primary_key=True, sa_column_kwargs={"autoincrement": False})
    wipe_id: int = Field(foreign_key="wipe.id", unique=True)
    serial: str = Field(index=True)
    issued_at: dt.datetime = when()
    kid: str = Field(foreign_key="signing_key.kid")
    payload: dict[str, Any] = json_column()
    #: The payload and its signature, as they are handed out (JWS compact serialization, RFC 7515).
    jws: str
    #: SHA-256 of that, the first half, in groups: what stands on the label.
    fingerprint: str


class FormerPoolRow(Numbered, table=True):
    """A pool that was taken apart: what it was, so that it can be put together again while nothing was written, and
    what lay on it, so that a laboratory's findings can be named."""

    __tablename__ = "former_pool"
    id: int | None = Field(default=None, primary_key=True)
    name: str
    scheme: str
    taken_apart_by: str
    taken_apart_at: dt.datetime = when()
    #: Until then it can be put together again.
    until: dt.datetime = when()
    #: Its rows, by table; None once they are not needed any more.
    rows: dict[str, Any] = json_column()
    #: Serials of its drives.
    drives: dict[str, Any] = json_column()
    put_together_at: dt.datetime | None = when(default=False)

"""Who signs in, where, and what is set for all."""

from __future__ import annotations

import datetime as dt
from typing import Any

from sqlalchemy import CheckConstraint
from sqlmodel import Field, SQLModel

from pairshelf.store.clock import wall
from pairshelf.store.tables.columns import Numbered, json_column, when


class User(Numbered, table=True):
    __tablename__ = "app_user"
    id: int | None = Field(default=None, primary_key=True)
    name: str = Field(unique=True, max_length=60)
    role: str
    password_hash: str
    active: bool = True
    seen_at: dt.datetime | None = when(default=False)
    previously_seen_at: dt.datetime | None = when(default=False)
    created_at: dt.datetime = when()
    __table_args__ = (CheckConstraint("role in ('administrator', 'operator', 'viewer')", name="known_role"),)


class SessionRow(Numbered, table=True):
    """Somebody signed in on one browser, until it ends."""

    __tablename__ = "session"
    id: int | None = Field(default=None, primary_key=True)
    user_id: int = Field(foreign_key="app_user.id")
    #: Of what its cookie carries (SHA-256).
    token_hash: str = Field(unique=True)
    address: str
    #: What the browser says it is.
    agent: str
    created_at: dt.datetime = when(clock=wall)
    seen_at: dt.datetime = when(clock=wall)
    ended_at: dt.datetime | None = when(default=False)


class KnownDevice(SQLModel, table=True):
    """A browser on which a user has signed in before."""

    __tablename__ = "known_device"
    token_hash: str = Field(primary_key=True)
    user_id: int = Field(primary_key=True, foreign_key="app_user.id")
    seen_at: dt.datetime = when(clock=wall)


class Setting(SQLModel, table=True):
    key: str = Field(primary_key=True)
    value: Any = json_column()

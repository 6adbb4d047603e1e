"""Who is told what by which way, what was told, and how far that is."""

from __future__ import annotations

import datetime as dt
from typing import Any

from sqlalchemy import Column
from sqlalchemy.dialects.postgresql import JSONB
from sqlmodel import Field, SQLModel

from pairshelf.store.clock import wall
from pairshelf.store.tables.columns import Numbered, when


class Channel(Numbered, table=True):
    """A way by which a person is told."""

    id: int | None = Field(default=None, primary_key=True)
    user_id: int = Field(foreign_key="app_user.id")
    #: mail or hook
    kind: str
    address: str
    #: What a hook's messages are signed with.
    secret: str | None = None
    #: ``core.policies.attention.Gravity``: 0, 1, 2.
    urgencies: list[int] = Field(default_factory=list, sa_column=Column(JSONB, nullable=False))
    #: Minutes after midnight by the clock of a place; the same: never quiet.
    quiet_from: int = 0
    quiet_to: int = 0
    zone: str = "UTC"
    #: What presses now comes in quiet hours, too.
    wakes: bool = True
    made_at: dt.datetime = when(clock=wall)


class TopicRow(SQLModel, table=True):
    """Something that needs, or needed, a person (``core.policies.telling.Topic``)."""

    __tablename__ = "topic"
    key: str = Field(primary_key=True)
    gravity: int
    sentence: str
    link: str
    seen_at: dt.datetime = when(clock=wall)
    told: int | None = None
    gone_at: dt.datetime | None = when(default=False)


class Message(Numbered, table=True):
    """What was told: its lines are sentence, link and gravity each."""

    id: int | None = Field(default=None, primary_key=True)
    uid: str = Field(unique=True)
    #: begun, over or test
    kind: str
    gravity: int
    lines: list[dict[str, Any]] = Field(default_factory=list, sa_column=Column(JSONB, nullable=False))
    #: By the house's clock.
    at: dt.datetime = when()


class Delivery(Numbered, table=True):
    """A message on its way to a person; its times are by the machine's clock."""

    id: int | None = Field(default=None, primary_key=True)
    message_id: int = Field(foreign_key="message.id")
    channel_id: int = Field(foreign_key="channel.id")
    lines: list[dict[str, Any]] = Field(default_factory=list, sa_column=Column(JSONB, nullable=False))
    #: waiting, sent or given-up
    state: str = "waiting"
    next_at: dt.datetime = when(clock=wall)
    since: dt.datetime = when(clock=wall)
    attempts: int = 0
    #: When the attempt under way began, or one that a kill cut off.
    sending_at: dt.datetime | None = when(default=False)
    sent_at: dt.datetime | None = when(default=False)
    error: str | None = None

"""Who is told what by which way; and the mailbox that stands in for those out there."""

from __future__ import annotations

import datetime as dt
from typing import Any

from flask_openapi3 import APIBlueprint
from pydantic import BaseModel, Field
from sqlmodel import Session

from pairshelf.api.guard import needs, signed_in
from pairshelf.core.domain.acts import Act
from pairshelf.core.policies.telling import title_of
from pairshelf.engine.pools import devices
from pairshelf.services import channels, telling
from pairshelf.services.channels import URGENCIES
from pairshelf.standin.mailbox import Mailbox
from pairshelf.store.database import transaction
from pairshelf.store.tables import Channel, Delivery, Message, Setting

api = APIBlueprint("messages", __name__, url_prefix="/api")


class ChannelPath(BaseModel):
    channel_id: int


class ChannelBody(BaseModel):
    #: mail or hook
    kind: str
    address: str = Field(max_length=500)
    #: Of now, soon and sometime.
    urgencies: list[str] = Field(max_length=3)
    #: Minutes after midnight; the same: never quiet.
    quiet_from: int = 0
    quiet_to: int = 0
    zone: str = Field(default="UTC", max_length=60)
    #: What presses now comes in quiet hours, too.
    wakes: bool = True


class LastOut(BaseModel):
    title: str
    at: dt.datetime
    #: waiting, sent or given-up
    state: str
    error: str | None
    #: When it is tried (again); null: it is not.
    next_at: dt.datetime | None


class ChannelOut(BaseModel):
    id: int
    kind: str
    address: str
    urgencies: list[str]
    quiet_from: int
    quiet_to: int
    zone: str
    wakes: bool
    last: LastOut | None
    #: Of a webhook, what its messages are signed with: shown when it is made.
    secret: str | None = None


class ChannelsOut(BaseModel):
    channels: list[ChannelOut]
    #: Where the hook that stands in takes events; null: nowhere now.
    stand_in_hook: str | None


class MailOut(BaseModel):
    #: Mail goes to the mailbox that stands in.
    stand_in: bool
    host: str
    port: int
    security: str
    user: str
    sender: str
    has_password: bool
    #: Where links in messages lead.
    url: str


class MailBody(BaseModel):
    #: Null: to the mailbox that stands in.
    host: str | None = Field(default=None, max_length=250)
    port: int = 587
    #: none, starttls or tls
    security: str = "starttls"
    user: str = Field(default="", max_length=200)
    #: Null: as it was.
    password: str | None = Field(default=None, max_length=500)
    sender: str = Field(default="", max_length=254)
    #: Where links in messages lead; null: as it was.
    url: str | None = Field(default=None, max_length=500)


class LetterOut(BaseModel):
    at: dt.datetime
    sender: str
    to: str
    subject: str
    text: str


class EventOut(BaseModel):
    at: dt.datetime
    headers: dict[str, str]
    body: str


class MailboxOut(BaseModel):
    letters: list[LetterOut]
    events: list[EventOut]
    refuses: bool


class RefuseBody(BaseModel):
    on: bool


_WORDS = {int(gravity): word for word, gravity in URGENCIES.items()}


def _last(found: tuple[Delivery, Message] | None) -> LastOut | None:
    if found is None:
        return None
    delivery, message = found
    return LastOut(
        title=title_of(message.kind, [str(line["sentence"]) for line in delivery.lines]), at=message.at, state=delivery.state,
        error=delivery.error, next_at=delivery.next_at if delivery.state == "waiting" else None,
    )  # fmt: skip


def _out(row: Channel, last: tuple[Delivery, Message] | None, *, with_secret: bool = False) -> ChannelOut:
    return ChannelOut(
        id=row.number, kind=row.kind, address=row.address, urgencies=[_WORDS[u] for u in row.urgencies],
        quiet_from=row.quiet_from, quiet_to=row.quiet_to, zone=row.zone, wakes=row.wakes, last=_last(last),
        secret=row.secret if with_secret else None,
    )  # fmt: skip


def _wanted(body: ChannelBody) -> channels.WayAsked:
    return channels.WayAsked(
        body.kind, body.address, body.urgencies, body.quiet_from, body.quiet_to, body.zone, body.wakes
    )


@api.get("/channels", responses={200: ChannelsOut})
@needs(Act.LOOK)
def own_channels() -> Any:
    """By which ways you are told."""
    _, hook = Mailbox(devices().folder).ports
    with transaction() as session:
        rows = channels.channels_of(session, signed_in().number)
        last = channels.last_deliveries(session, [r.number for r in rows])
        return ChannelsOut(
            channels=[_out(r, last.get(r.number)) for r in rows],
            stand_in_hook=f"http://127.0.0.1:{hook}/" if hook else None,
        )


@api.post("/channels", responses={200: ChannelOut})
@needs(Act.LOOK)
def add_channel(body: ChannelBody) -> Any:
    """Be told by another way."""
    with transaction() as session:
        return _out(channels.keep_channel(session, signed_in(), _wanted(body)), None, with_secret=True)


@api.put("/channels/<int:channel_id>", responses={200: ChannelOut})
@needs(Act.LOOK)
def change_channel(path: ChannelPath, body: ChannelBody) -> Any:
    """Be told otherwise by a way."""
    with transaction() as session:
        before = channels.channel_of(session, signed_in().number, path.channel_id).secret
        row = channels.keep_channel(session, signed_in(), _wanted(body), path.channel_id)
        return _out(row, None, with_secret=row.secret != before)


@api.post("/channels/<int:channel_id>/drop", responses={200: ChannelsOut})
@needs(Act.LOOK)
def drop_channel(path: ChannelPath) -> Any:
    """Be told nothing by a way any more."""
    with transaction() as session:
        channels.drop_channel(session, signed_in(), path.channel_id)
    return own_channels()


@api.post("/channels/<int:channel_id>/test", responses={200: ChannelsOut})
@needs(Act.LOOK)
def test_channel(path: ChannelPath) -> Any:
    """Have a test message sent by a way."""
    with transaction() as session:
        row = channels.channel_of(session, signed_in().number, path.channel_id)
        telling.write_test(session, row, signed_in().name)
    return own_channels()


def _mail_out(session: Session) -> MailOut:
    told = telling.mail_settings(session)
    return MailOut(
        stand_in=session.get(Setting, "mail") is None, host=told["host"], port=told["port"], security=told["security"],
        user=told["user"], sender=told["sender"], has_password=bool(told["password"]), url=telling.address_of_house(session),
    )  # fmt: skip


@api.get("/mail", responses={200: MailOut})
@needs(Act.MANAGE_USERS)
def mail() -> Any:
    """How the house sends mail. The password is never shown."""
    with transaction() as session:
        return _mail_out(session)


@api.put("/mail", responses={200: MailOut})
@needs(Act.MANAGE_USERS)
def set_mail(body: MailBody) -> Any:
    """Say how the house sends mail, and where links in messages lead."""
    who = signed_in().name
    with transaction() as session:
        told = None if body.host is None else body.model_dump(exclude={"url"})
        channels.set_mail(session, who, told)
        if body.url is not None:
            channels.set_address(session, who, body.url)
        session.flush()
        return _mail_out(session)


@api.get("/stand-in/mailbox", responses={200: MailboxOut})
@needs(Act.WORK_STAND_INS)
def mailbox() -> Any:
    """What has arrived in the mailbox and at the hook that stand in for those out there."""
    box = Mailbox(devices().folder)

    def moment(at: float) -> dt.datetime:
        return dt.datetime.fromtimestamp(at, dt.UTC)

    return MailboxOut(
        letters=[LetterOut(at=moment(m.at), sender=m.sender, to=m.to, subject=m.subject, text=m.text) for m in box.letters()],
        events=[EventOut(at=moment(e.at), headers=e.headers, body=e.body) for e in box.events()], refuses=box.refuses,
    )  # fmt: skip


@api.put("/stand-in/mailbox", responses={200: MailboxOut})
@needs(Act.WORK_STAND_INS)
def refuse(body: RefuseBody) -> Any:
    """Have the mailbox and the hook refuse everything, or take it again."""
    Mailbox(devices().folder).refuse(on=body.on)
    return mailbox()

"""Telling people what needs them: seen every few seconds, gathered, and sent by mail and webhooks, each message once.

A message is written down with whom it goes to before anything is sent. What is being sent is marked before it is, and
noted after: a worker that is killed in between sends it once more, with the same id.
"""

from __future__ import annotations

import datetime as dt
import smtplib
import threading
import uuid
from collections.abc import Callable
from email.message import EmailMessage
from typing import Any

import structlog
from sqlalchemy import func
from sqlmodel import Session, col, select

from pairshelf.core.domain.words import one_line
from pairshelf.core.errors import NotPossible
from pairshelf.core.policies.attention import WATCHER, Gravity, Matter
from pairshelf.core.policies.telling import GIVE_UP, News, Topic, Wishes, lines_for, look, not_before, wait_after
from pairshelf.engine.log import SYSTEM, log
from pairshelf.engine.pools import devices
from pairshelf.formats.messages import Said, as_event, as_mail
from pairshelf.services.attending import attend
from pairshelf.services.channels import require_address
from pairshelf.services.senders import Deadline, call_hook, post_mail
from pairshelf.standin.mailbox import Mailbox, Receivers
from pairshelf.store.clock import wall
from pairshelf.store.database import Lock, held_lock, pick, transaction
from pairshelf.store.settings import settings
from pairshelf.store.tables import Channel, Delivery, Message, Setting, TopicRow, User, now

_logger = structlog.get_logger()
#: Seconds between two looks; that a step of an attempt may take, and all of it.
_LOOK_EVERY, _PATIENCE, _IN_ALL = 3.0, 10.0, 20.0
#: How long one that is being sent is nobody else's.
_LEASE = dt.timedelta(seconds=60)
#: Deliveries sent to one channel in one go; channels at a time, and of one person.
_AT_ONCE, _HANDS, _OF_ONE = 50, 16, 3
#: Tries of what fails for a reason of its own, before it is set aside; test messages of one person within an hour.
_TRIES, MOST_TESTS = 5, 10
#: Days that messages are kept.
_KEPT = 90


# -- what is to be told --------------------------------------------------------------------------------


def notice(matters: list[Matter] | None = None) -> list[int]:
    """Look at what needs a person, and write down what is to be told of it; the messages' numbers."""
    with transaction() as session:
        channels = _channels(session)
        if not channels:
            # Nobody is told anything; who asks for it later is told what is so then.
            for row in session.exec(select(TopicRow)):
                session.delete(row)
            return []
        found = attend(session, 0).matters if matters is None else matters
        # Who is looking is here, whatever its last sign of life says.
        found = [m for m in found if m.subject != WATCHER]
        rows = {r.key: r for r in session.exec(select(TopicRow).with_for_update())}
        topics, news = look({k: _topic(r) for k, r in rows.items()}, found, wall())
        for key, row in rows.items():
            if key not in topics:
                session.delete(row)
        for topic in topics.values():
            _keep(session, rows.get(topic.key), topic)
        return [number for one in news if (number := _write(session, one, channels)) is not None]


def _channels(session: Session) -> list[Channel]:
    query = select(Channel).join(User, col(User.id) == Channel.user_id).where(col(User.active))
    return list(session.exec(query.order_by(col(Channel.id))))


def wishes_of(channel: Channel) -> Wishes:
    """What is wished for by a way."""
    return Wishes(
        frozenset(Gravity(u) for u in channel.urgencies),
        channel.quiet_from,
        channel.quiet_to,
        channel.zone,
        channel.wakes,
    )


def _topic(row: TopicRow) -> Topic:
    told = None if row.told is None else Gravity(row.told)
    return Topic(row.key, Gravity(row.gravity), row.sentence, row.link, row.seen_at, told, row.gone_at)


def _keep(session: Session, row: TopicRow | None, topic: Topic) -> None:
    if row is None:
        row = TopicRow(key=topic.key, gravity=0, sentence="", link="")
        session.add(row)
    elif _topic(row) == topic:
        return
    row.gravity, row.sentence, row.link, row.seen_at = int(topic.gravity), topic.sentence, topic.link, topic.seen_at
    row.told, row.gone_at = None if topic.told is None else int(topic.told), topic.gone_at


def _write(session: Session, news: News, channels: list[Channel]) -> int | None:
    """A message, and on its way to whom; None where nobody wants to know."""
    wanted = [(channel, lines) for channel in channels if (lines := lines_for(wishes_of(channel), news))]
    if not wanted:
        return None
    message = Message(
        uid=uuid.uuid4().hex, kind=news.kind, gravity=int(news.gravity), lines=_lines(news.topics), at=now()
    )
    session.add(message)
    session.flush()
    for channel, lines in wanted:
        gravest = min(t.as_told for t in lines)
        session.add(Delivery(
            message_id=message.number, channel_id=channel.number, lines=_lines(lines),
            next_at=not_before(wishes_of(channel), gravest, wall()),
        ))  # fmt: skip
    return message.number


def _lines(topics: tuple[Topic, ...]) -> list[dict[str, Any]]:
    return [{"sentence": t.sentence, "link": t.link, "gravity": int(t.as_told)} for t in topics]


def write_test(session: Session, channel: Channel, who: str) -> Delivery:
    """A test message to one channel, at once whatever the hour. NotPossible after so many within an hour."""
    recent = (
        select(func.count()).select_from(Delivery).join(Message, col(Message.id) == Delivery.message_id)
        .join(Channel, col(Channel.id) == Delivery.channel_id)
        .where(Channel.user_id == channel.user_id, Message.kind == "test", Delivery.since > wall() - dt.timedelta(hours=1))
    )  # fmt: skip
    if session.exec(recent).one() >= MOST_TESTS:
        raise NotPossible(f"At most {MOST_TESTS} test messages an hour; look at what became of those.", code="too-many")
    message = Message(uid=uuid.uuid4().hex, kind="test", gravity=int(Gravity.SOMETIME), lines=[])
    session.add(message)
    session.flush()
    delivery = Delivery(message_id=message.number, channel_id=channel.number)
    session.add(delivery)
    log(session, who, "message-test", channel.address, f"A test message to {channel.address} was asked for.")
    session.flush()
    return delivery


# -- sending -------------------------------------------------------------------------------------------


class Sending:
    """Deliveries under way, each channel in a thread of its own: at most so many of one person at a time, so that one
    person's dead addresses take no thread from another."""

    def __init__(self) -> None:
        self._busy: dict[int, tuple[int, threading.Thread]] = {}

    def begin(self) -> None:
        """Begin to send what is due and not under way; nothing is waited for."""
        self._busy = {c: (u, t) for c, (u, t) in self._busy.items() if t.is_alive()}
        for channel, user in _due():
            of_one = sum(u == user for u, _ in self._busy.values())
            if channel in self._busy or of_one >= _OF_ONE or len(self._busy) >= _HANDS:
                continue
            thread = threading.Thread(target=_deliver_to, args=(channel,), name=f"send-{channel}", daemon=True)
            self._busy[channel] = user, thread
            thread.start()


def _due() -> list[tuple[int, int]]:
    """Channels that something is due to, the longest waiting first, with whose they are."""
    with transaction() as session:
        waits = (
            pick(Channel.id, Channel.user_id, func.min(Delivery.next_at))
            .join(Delivery, col(Channel.id) == Delivery.channel_id).join(User, col(User.id) == Channel.user_id)
            # Who was shut out since is told nothing any more.
            .where(Delivery.state == "waiting", Delivery.next_at <= wall(), col(User.active))
            .group_by(col(Channel.id)).order_by(func.min(Delivery.next_at)).limit(500)
        )  # fmt: skip
        return [(channel, user) for channel, user, _ in session.exec(waits)]


def _deliver_to(channel: int) -> int:
    """Send what is due to one channel, one after the other, until one does not arrive; how many did."""
    arrived = 0
    while arrived < _AT_ONCE:
        with transaction() as session:
            query = select(Delivery.id).where(
                Delivery.channel_id == channel, Delivery.state == "waiting", Delivery.next_at <= wall()
            )
            number = session.exec(query.order_by(col(Delivery.id)).limit(1)).first()
        if number is None or not _deliver(number):
            break
        arrived += 1
    return arrived


def _deliver(number: int) -> bool:
    with transaction() as session:
        delivery = session.get(Delivery, number, with_for_update=True)
        if delivery is None or delivery.state != "waiting" or delivery.next_at > wall():
            return False
        channel = session.get_one(Channel, delivery.channel_id)
        message = session.get_one(Message, delivery.message_id)
        said = Said(f"{message.uid}-{channel.id}", message.kind, delivery.lines, message.at, address_of_house(session))
        kind, address, secret = channel.kind, channel.address, channel.secret or ""
        mail = mail_settings(session) if kind == "mail" else {}
        delivery.sending_at, delivery.attempts = wall(), delivery.attempts + 1
        # Nobody else tries it meanwhile; one that a kill cut off is tried again then.
        delivery.next_at = wall() + _LEASE
    error, poisoned = None, False
    try:
        require_address(kind, address)
        if kind == "mail":
            _post(mail, as_mail(said, mail["sender"], address))
        else:
            _call(address, *as_event(said, secret, wall()))
    except (OSError, smtplib.SMTPException) as failed:
        error = _one_line(failed)
    except Exception as failed:  # Whatever it is, it is this one's alone.
        error, poisoned = _one_line(failed), True
    with transaction() as session:
        delivery = session.get(Delivery, number, with_for_update=True)
        if delivery is None:
            return error is None
        delivery.sending_at, delivery.error = None, error
        if error is None:
            delivery.state, delivery.sent_at = "sent", wall()
        elif poisoned and delivery.attempts >= _TRIES:
            delivery.state = "given-up"
            log(
                session,
                SYSTEM,
                "message-set-aside",
                address,
                f"A message to {address} cannot be sent and is set aside: {error}",
            )
        elif wall() - delivery.since >= GIVE_UP:
            delivery.state = "given-up"
            log(session, SYSTEM, "message-given-up", "", f"A message could not be delivered in three days: {error}")
        else:
            delivery.next_at = wall() + wait_after(delivery.attempts)
    return error is None


def _one_line(failed: Exception) -> str:
    return one_line(f"{failed}")[:300] or type(failed).__name__


def mail_settings(session: Session) -> dict[str, Any]:
    """Where mail is handed over: what the house has set, or the mailbox that stands in."""
    row = session.get(Setting, "mail")
    if row is not None:
        return dict(row.value)
    port, _ = Mailbox(devices().folder).ports
    return {"host": "127.0.0.1", "port": port, "security": "none", "user": "", "password": "", "sender": "pairshelf@house.example",
            "stand_in": True}  # fmt: skip


def address_of_house(session: Session) -> str:
    """Where people reach the application: as an administrator has set it, else as it was started with; empty where
    neither is known. Never what a request says."""
    row = session.get(Setting, "address")
    if row is not None and not row.value.get("seen"):
        return str(row.value["url"])
    return settings().address


def _post(settings: dict[str, Any], mail: EmailMessage) -> None:
    if not settings["port"]:
        raise ConnectionRefusedError("the mailbox that stands in is not there; it is with the worker")
    post_mail(settings, mail, Deadline(_IN_ALL, _PATIENCE))


def _call(url: str, headers: dict[str, str], body: bytes) -> None:
    call_hook(url, headers, body, Deadline(_IN_ALL, _PATIENCE))


# -- the threads ---------------------------------------------------------------------------------------


def forget_old() -> None:
    """Messages that are long over go."""
    with transaction() as session:
        open_ones = select(Delivery.message_id).where(Delivery.state == "waiting")
        old = select(Message).where(Message.at < now() - dt.timedelta(days=_KEPT), col(Message.id).not_in(open_ones))
        for row in session.exec(old.limit(500)):
            session.delete(row)


def keep_noticing(stopping: threading.Event) -> None:
    """See what is to be told, until told to stop."""
    _over_and_over(stopping, Lock.NOTICING, notice)


def keep_sending(stopping: threading.Event) -> None:
    """Send what is to be told, until told to stop; with it the receivers that stand in for those out there."""
    receivers, sending, looks = Receivers(Mailbox(devices().folder)), Sending(), 0

    def send() -> None:
        nonlocal looks
        if looks == 0:
            receivers.start()
        looks += 1
        sending.begin()
        if looks % 1000 == 1:
            forget_old()

    _over_and_over(stopping, Lock.SENDING, send)
    if looks:
        receivers.stop()


def _over_and_over(stopping: threading.Event, lock: Lock, do: Callable[[], object]) -> None:
    """Every few seconds, in one process at a time."""
    while not stopping.wait(_LOOK_EVERY):
        try:
            with held_lock(lock) as mine:
                if mine is not None:
                    do()
        except Exception as error:
            # Whatever it was, the next look may fare better.
            _logger.warning(lock.name.lower(), error=f"{type(error).__name__}: {error}".split("\n")[0])

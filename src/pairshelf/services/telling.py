"""Telling people what needs them: seen every few seconds, gathered, and sent by mail and webhooks, each message once.

A message is written down with whom it goes to before anything is sent. What is being sent is marked before it is, and
noted after: a worker that is killed in between sends it once more, with the same id.
"""

from __future__ import annotations

import datetime as dt
import smtplib
import ssl
import threading
import urllib.error
import urllib.request
import uuid
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from email.message import EmailMessage
from typing import Any

import structlog
from sqlmodel import Session, col, select

from pairshelf.core.policies.attention import WATCHER, Gravity, Matter
from pairshelf.core.policies.telling import GIVE_UP, News, Topic, Wishes, lines_for, look, not_before, wait_after
from pairshelf.engine.log import SYSTEM, log
from pairshelf.engine.pools import devices
from pairshelf.formats.messages import Said, as_event, as_mail
from pairshelf.services.attending import attend
from pairshelf.standin.mailbox import Mailbox, Receivers
from pairshelf.store.clock import wall
from pairshelf.store.database import Lock, held_lock, transaction
from pairshelf.store.tables import Channel, Delivery, Message, Setting, TopicRow, User, now

_logger = structlog.get_logger()
#: Seconds between two looks, and that an attempt may take.
_LOOK_EVERY, _PATIENCE = 3.0, 15.0
#: Deliveries sent in one go.
_AT_ONCE = 50
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
    """A test message to one channel, at once whatever the hour."""
    message = Message(uid=uuid.uuid4().hex, kind="test", gravity=int(Gravity.SOMETIME), lines=[])
    session.add(message)
    session.flush()
    delivery = Delivery(message_id=message.number, channel_id=channel.number)
    session.add(delivery)
    log(session, who, "message-test", channel.address, f"A test message to {channel.address} was asked for.")
    session.flush()
    return delivery


# -- sending -------------------------------------------------------------------------------------------


def deliver() -> int:
    """Send what is due; how many arrived. Side by side: who does not answer holds nobody else up."""
    with transaction() as session:
        due = (
            select(Delivery.id).join(Channel, col(Channel.id) == Delivery.channel_id)
            .join(User, col(User.id) == Channel.user_id)
            # Who was shut out since is told nothing any more.
            .where(Delivery.state == "waiting", Delivery.next_at <= wall(), col(User.active))
        )  # fmt: skip
        found = list(session.exec(due.order_by(col(Delivery.id)).limit(_AT_ONCE)))
    if not found:
        return 0
    with ThreadPoolExecutor(max_workers=8, thread_name_prefix="send") as hands:
        return sum(hands.map(_deliver, [number for number in found if number is not None]))


def _deliver(number: int) -> bool:
    with transaction() as session:
        delivery = session.get(Delivery, number, with_for_update=True)
        if delivery is None or delivery.state != "waiting":
            return False
        channel = session.get_one(Channel, delivery.channel_id)
        message = session.get_one(Message, delivery.message_id)
        said = Said(f"{message.uid}-{channel.id}", message.kind, delivery.lines, message.at, address_of_house(session))
        send = _way(session, channel, said)
        delivery.sending_at, delivery.attempts = wall(), delivery.attempts + 1
    error = None
    try:
        send()
    except (OSError, smtplib.SMTPException, ValueError) as failed:
        error = " ".join(f"{failed}".split())[:300] or type(failed).__name__
    with transaction() as session:
        delivery = session.get(Delivery, number, with_for_update=True)
        if delivery is None:
            return error is None
        delivery.sending_at, delivery.error = None, error
        if error is None:
            delivery.state, delivery.sent_at = "sent", wall()
        elif wall() - delivery.since >= GIVE_UP:
            delivery.state = "given-up"
            log(session, SYSTEM, "message-given-up", "", f"A message could not be delivered in three days: {error}")
        else:
            delivery.next_at = wall() + wait_after(delivery.attempts)
    return error is None


def _way(session: Session, channel: Channel, said: Said) -> Callable[[], None]:
    """What sends it."""
    if channel.kind == "mail":
        settings = mail_settings(session)
        mail = as_mail(said, settings["sender"], channel.address)
        return lambda: _post(settings, mail)
    headers, body = as_event(said, channel.secret or "", wall())
    return lambda: _call(channel.address, headers, body)


def mail_settings(session: Session) -> dict[str, Any]:
    """Where mail is handed over: what the house has set, or the mailbox that stands in."""
    row = session.get(Setting, "mail")
    if row is not None:
        return dict(row.value)
    port, _ = Mailbox(devices().folder).ports
    return {"host": "127.0.0.1", "port": port, "security": "none", "user": "", "password": "", "sender": "pairshelf@house.example",
            "stand_in": True}  # fmt: skip


def address_of_house(session: Session) -> str:
    """Where people reach the application; empty where nobody has been there."""
    row = session.get(Setting, "address")
    return str(row.value["url"]) if row is not None else ""


def note_address(session: Session, url: str) -> None:
    """Somebody has reached the application there: messages link to it, unless another address has been set by hand."""
    row = session.get(Setting, "address")
    if row is None or (row.value.get("seen") and row.value["url"] != url):
        session.merge(Setting(key="address", value={"url": url, "seen": True}))


def _post(settings: dict[str, Any], mail: EmailMessage) -> None:
    if not settings["port"]:
        raise ConnectionRefusedError("the mailbox that stands in is not there; it is with the worker")
    context = ssl.create_default_context()
    if settings["security"] == "tls":
        server: smtplib.SMTP = smtplib.SMTP_SSL(settings["host"], settings["port"], timeout=_PATIENCE, context=context)
    else:
        server = smtplib.SMTP(settings["host"], settings["port"], timeout=_PATIENCE)
    with server:
        if settings["security"] == "starttls":
            server.starttls(context=context)
        if settings["user"]:
            server.login(settings["user"], settings["password"])
        server.send_message(mail)


class _NoRedirect(urllib.request.HTTPRedirectHandler):
    """What is signed for one address does not go to another."""

    def redirect_request(self, *_: Any) -> None:
        """Not followed."""


_opener = urllib.request.build_opener(_NoRedirect)


def _call(url: str, headers: dict[str, str], body: bytes) -> None:
    request = urllib.request.Request(url, body, headers, method="POST")  # noqa: S310 - http and https only, as was asked for
    try:
        with _opener.open(request, timeout=_PATIENCE) as answer:
            answer.read(1024)
    except urllib.error.HTTPError as refused:
        raise OSError(f"it answered {refused.code} {refused.reason}") from None


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
    receivers, looks = Receivers(Mailbox(devices().folder)), 0

    def send() -> None:
        nonlocal looks
        if looks == 0:
            receivers.start()
        looks += 1
        deliver()
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

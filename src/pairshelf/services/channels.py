"""By which ways a person is told: kept and changed; and how the house sends mail."""

from __future__ import annotations

import re
from collections.abc import Collection
from dataclasses import dataclass
from typing import Any
from urllib.parse import urlsplit

from sqlalchemy.dialects.postgresql import distinct_on
from sqlmodel import Session, col, select

from pairshelf.core.domain.acts import Act, why_not
from pairshelf.core.errors import BadInput, Denied, NotFound, NotPossible
from pairshelf.core.policies.attention import Gravity
from pairshelf.core.policies.schedule import require_zone
from pairshelf.engine.log import log
from pairshelf.formats.messages import new_secret
from pairshelf.store.tables import Channel, Delivery, Message, Setting, User

#: Ways a person may have.
MOST = 10
SECURITY = ("none", "starttls", "tls")
#: An address as mail servers take it without quoting (RFC 5321, dot-string and domain).
_MAIL = re.compile(
    r"[A-Za-z0-9!#$%&'*+/=?^_`{|}~-]+(\.[A-Za-z0-9!#$%&'*+/=?^_`{|}~-]+)*"
    r"@[A-Za-z0-9]([A-Za-z0-9-]*[A-Za-z0-9])?(\.[A-Za-z0-9]([A-Za-z0-9-]*[A-Za-z0-9])?)*"
)


@dataclass(frozen=True, slots=True)
class WayAsked:
    """A way, as somebody asks for it."""

    kind: str
    address: str
    urgencies: Collection[str]
    quiet_from: int
    quiet_to: int
    zone: str
    wakes: bool


#: Urgencies by the word they are asked for with.
URGENCIES = {"now": Gravity.NOW, "soon": Gravity.SOON, "sometime": Gravity.SOMETIME}


def channels_of(session: Session, user_id: int) -> list[Channel]:
    """A person's ways."""
    return list(session.exec(select(Channel).where(Channel.user_id == user_id).order_by(col(Channel.id))))


def channel_of(session: Session, user_id: int, number: int) -> Channel:
    """One of a person's own ways; NotFound for another's, or none."""
    row = session.get(Channel, number)
    if row is None or row.user_id != user_id:
        raise NotFound("channel")
    return row


def keep_channel(session: Session, user: User, wanted: WayAsked, number: int | None = None) -> Channel:
    """Keep a way, or change one. BadInput at the field that will not do; Denied where a viewer asks for a webhook."""
    if wanted.kind not in ("mail", "hook"):
        raise BadInput("A way is mail or hook.", field="kind")
    address = wanted.address.strip()
    if wanted.kind == "hook" and (reason := why_not(user.role, Act.RUN_JOBS)):
        raise Denied(reason)
    require_address(wanted.kind, address)
    if not wanted.urgencies or any(u not in URGENCIES for u in wanted.urgencies):
        raise BadInput(f"Choose of {', '.join(URGENCIES)} at least one.", field="urgencies")
    require_zone(wanted.zone)
    for field in ("quiet_from", "quiet_to"):
        if not 0 <= getattr(wanted, field) < 1440:
            raise BadInput("A day has minutes 0 to 1439.", field=field)
    others = [c for c in channels_of(session, user.number) if c.id != number]
    if any((c.kind, c.address) == (wanted.kind, address) for c in others):
        raise NotPossible("You are told at this address already.", code="there-already", field="address")
    if number is None and len(others) >= MOST:
        raise NotPossible(f"At most {MOST} ways.", code="too-many")
    row = (
        channel_of(session, user.number, number)
        if number is not None
        else Channel(user_id=user.number, kind="", address="")
    )
    if row.kind != wanted.kind:
        row.secret = new_secret() if wanted.kind == "hook" else None
    row.kind, row.address, row.zone, row.wakes = wanted.kind, address, wanted.zone, wanted.wakes
    row.urgencies = sorted(int(URGENCIES[u]) for u in set(wanted.urgencies))
    row.quiet_from, row.quiet_to = wanted.quiet_from, wanted.quiet_to
    session.add(row)
    session.flush()
    log(
        session,
        user.name,
        "channel-set",
        address,
        f"{user.name} is told of {', '.join(wanted.urgencies)} at {address}.",
    )
    return row


def require_address(kind: str, address: str) -> None:
    """BadInput for an address that nothing can be sent to: asked when it is entered, and again when it is used."""
    if kind == "hook":
        _require_url(address)
    elif not is_mail_address(address):
        raise BadInput("Write an address as ida@house.example.", field="address")


def is_mail_address(text: str) -> bool:
    """Whether it is a mail address of plain letters, within the lengths of RFC 5321."""
    return len(text) <= 254 and len(text.partition("@")[0]) <= 64 and _MAIL.fullmatch(text) is not None


def _require_url(address: str) -> None:
    try:
        parts = urlsplit(address)
        well = (
            len(address) <= 500
            and address.isascii()
            and parts.scheme in ("http", "https")
            and not parts.username
            and (parts.port is None or parts.port > 0)
            and re.fullmatch(r"[A-Za-z0-9._-]+|[0-9A-Fa-f:.]+", parts.hostname or "") is not None
            and not re.search(r"[\\<>\"{}|^`]", address)
        )
    except ValueError:
        well = False
    if not well or not address.isprintable() or " " in address:
        raise BadInput(
            "Write an address that begins with https:// or http://, without a name or password in it.", field="address"
        )


def drop_channel(session: Session, user: User, number: int) -> None:
    """Tell nothing there any more; what waits to be sent there goes."""
    row = channel_of(session, user.number, number)
    log(session, user.name, "channel-ended", row.address, f"{user.name} is told nothing at {row.address} any more.")
    session.delete(row)


def last_deliveries(session: Session, channels: Collection[int]) -> dict[int, tuple[Delivery, Message]]:
    """The newest of each channel."""
    query = (
        select(Delivery, Message).join(Message, col(Message.id) == Delivery.message_id)
        .where(col(Delivery.channel_id).in_(channels)).ext(distinct_on(col(Delivery.channel_id)))
        .order_by(col(Delivery.channel_id), col(Delivery.id).desc())
    )  # fmt: skip
    return {delivery.channel_id: (delivery, message) for delivery, message in session.exec(query)}


def set_mail(session: Session, who: str, settings: dict[str, Any] | None) -> None:
    """How the house sends mail; None: to the mailbox that stands in. BadInput at the field that will not do."""
    row = session.get(Setting, "mail")
    if settings is None:
        if row is not None:
            session.delete(row)
            log(session, who, "mail-set", "", "Mail goes to the mailbox that stands in.")
        return
    host, sender = str(settings["host"]).strip(), str(settings["sender"]).strip()
    if not re.fullmatch(r"[A-Za-z0-9.:-]{1,250}", host):
        raise BadInput("Write the name of the mail server, as mail.house.example.", field="host")
    if not 1 <= settings["port"] <= 65535:
        raise BadInput("A port is from 1 to 65535.", field="port")
    if settings["security"] not in SECURITY:
        raise BadInput(f"Security is {', '.join(SECURITY)}.", field="security")
    if not is_mail_address(sender):
        raise BadInput("Write the address that mail comes from, as storage@house.example.", field="sender")
    password = settings["password"]
    if password is None:  # Not said anew: what was kept stays.
        password = row.value.get("password", "") if row is not None else ""
    if settings["user"] and settings["security"] == "none" and host not in ("127.0.0.1", "localhost", "::1"):
        raise BadInput("A password is not sent unencrypted; choose starttls or tls.", field="security")
    value = {"host": host, "port": settings["port"], "security": settings["security"], "user": settings["user"],
             "password": password, "sender": sender}  # fmt: skip
    session.merge(Setting(key="mail", value=value))
    log(session, who, "mail-set", host, f"Mail is handed over to {host}:{settings['port']}, from {sender}.")


def set_address(session: Session, who: str, url: str) -> None:
    """Where people reach the application, for the links in messages. BadInput for what is none."""
    url = url.strip()
    _require_url(url)
    session.merge(Setting(key="address", value={"url": url.rstrip("/") + "/", "seen": False}))
    log(session, who, "address-set", url, f"Links in messages lead to {url}.")

"""Messages as they are sent: mail (RFC 5322), and CloudEvents 1.0 signed as webhooks are (HMAC with SHA-256)."""

from __future__ import annotations

import base64
import datetime as dt
import hashlib
import hmac
import secrets
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from email.message import EmailMessage
from email.utils import format_datetime
from typing import Any

from cloudevents.core.bindings.http import to_structured
from cloudevents.core.formats.json import JSONFormat
from cloudevents.core.v1.event import CloudEvent

from pairshelf.core.domain.words import one_line
from pairshelf.core.policies.telling import MOST_LINES, title_of

_URGENCY = ("now", "before long", "when there is time")
_TYPES = {"begun": "pairshelf.needs-you", "over": "pairshelf.all-is-well", "test": "pairshelf.test"}
_PREFIX = "whsec_"


@dataclass(frozen=True, slots=True)
class Said:
    """One message to one person."""

    #: The same however often it is sent.
    id: str
    #: begun, over or test
    kind: str
    #: Sentence, link (a path) and gravity each.
    lines: Sequence[Mapping[str, Any]]
    at: dt.datetime
    #: Where the application is; empty where nobody has said.
    base: str

    @property
    def title(self) -> str:
        """In one line."""
        return one_line(title_of(self.kind, [str(line["sentence"]) for line in self.lines]))

    def url(self, link: str) -> str:
        """A page of the application."""
        return f"{self.base.rstrip('/')}{link}" if self.base and link else link


def as_mail(said: Said, sender: str, to: str) -> EmailMessage:
    """As a letter in plain text."""
    mail = EmailMessage()
    mail["Subject"] = f"Pair Shelf: {said.title}"[:200]
    mail["From"], mail["To"] = sender, to
    mail["Date"] = format_datetime(said.at)
    mail["Message-ID"] = f"<{said.id}@{sender.rsplit('@', 1)[-1]}>"
    mail["Auto-Submitted"] = "auto-generated"
    mail.set_content(_text(said))
    return mail


def _text(said: Said) -> str:
    begin = {
        "begun": "", "over": "All is well again. Over are:\n\n",
        "test": "This is a test: messages to you arrive. Nothing is the matter.\n",
    }[said.kind]  # fmt: skip
    parts = []
    for line in said.lines[:MOST_LINES]:
        urgency = f"[{_URGENCY[line['gravity']]}] " if said.kind == "begun" else ""
        parts.append(f"{urgency}{one_line(line['sentence'])}\n{said.url(line['link'])}\n")
    more = len(said.lines) - MOST_LINES
    if more > 0:
        parts.append(f"And {more} more: {said.url('/')}\n")
    return begin + "\n".join(parts)


# -- webhooks ------------------------------------------------------------------------------------------


def new_secret() -> str:
    """What a hook's messages are signed with."""
    return _PREFIX + base64.b64encode(secrets.token_bytes(32)).decode()


def signature(secret: str, event_id: str, timestamp: int, body: bytes) -> str:
    """HMAC with SHA-256 of id, timestamp and body, as Standard Webhooks 1.0.0 has it."""
    key = base64.b64decode(secret.removeprefix(_PREFIX))
    signed = f"{event_id}.{timestamp}.".encode() + body
    return "v1," + base64.b64encode(hmac.new(key, signed, hashlib.sha256).digest()).decode()


def as_event(said: Said, secret: str, at: dt.datetime) -> tuple[dict[str, str], bytes]:
    """Headers and body of an event; ``at``: when it is sent."""
    event = CloudEvent(
        {"id": said.id, "source": said.base or "urn:pairshelf", "type": _TYPES[said.kind], "specversion": "1.0",
         "time": said.at, "datacontenttype": "application/json"},
        {"title": said.title,
         "matters": [{"urgency": _URGENCY[line["gravity"]], "sentence": one_line(line["sentence"]), "url": said.url(line["link"])}
                     for line in said.lines]},
    )  # fmt: skip
    message = to_structured(event, JSONFormat())
    timestamp = int(at.timestamp())
    body = bytes(message.body)
    return {
        **{k.title(): v for k, v in message.headers.items()}, "Webhook-Id": said.id, "Webhook-Timestamp": str(timestamp),
        "Webhook-Signature": signature(secret, said.id, timestamp, body),
    }, body  # fmt: skip

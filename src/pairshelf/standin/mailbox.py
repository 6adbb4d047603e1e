"""A mailbox and a receiver of webhooks that stand in for those out there: what is sent arrives over real connections on
loopback, and lies in files. It can be told to refuse, as those out there sometimes do."""

from __future__ import annotations

import json
import socket
import threading
import uuid
from dataclasses import dataclass
from email import message_from_bytes, policy
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

from aiosmtpd.controller import Controller

#: Letters and events kept, and bytes of one.
MOST, MOST_BYTES = 200, 2**20


@dataclass(frozen=True, slots=True)
class Letter:
    """What has arrived by mail."""

    at: float
    sender: str
    to: str
    subject: str
    text: str
    id: str


@dataclass(frozen=True, slots=True)
class Event:
    """What has arrived at the hook."""

    at: float
    headers: dict[str, str]
    body: str


class Mailbox:
    """The files of both."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder / "mailbox"
        self._folder.mkdir(parents=True, exist_ok=True)

    # -- what has arrived ----------------------------------------------------------------------

    def letters(self) -> list[Letter]:
        """The newest first."""
        found = []
        for path in self._newest(".eml"):
            mail = message_from_bytes(path.read_bytes(), policy=policy.default)
            body = mail.get_body(("plain",))
            found.append(Letter(
                path.stat().st_mtime, str(mail["From"]), str(mail["To"]), str(mail["Subject"]),
                body.get_content() if body is not None else "", str(mail["Message-ID"]),
            ))  # fmt: skip
        return found

    def events(self) -> list[Event]:
        """The newest first."""
        found = []
        for path in self._newest(".json"):
            told = json.loads(path.read_bytes())
            found.append(Event(path.stat().st_mtime, told["headers"], told["body"]))
        return found

    def _newest(self, suffix: str) -> list[Path]:
        paths = [p for p in self._folder.glob(f"*{suffix}") if not p.name.startswith(".")]
        return sorted(paths, key=lambda p: (p.stat().st_mtime_ns, p.name), reverse=True)

    def keep(self, suffix: str, content: bytes) -> None:
        """Something has arrived; what is old goes."""
        draft = self._folder / f".{uuid.uuid4().hex}"
        draft.write_bytes(content)
        draft.rename(self._folder / f"{uuid.uuid4().hex}{suffix}")
        for old in self._newest(suffix)[MOST:]:
            old.unlink(missing_ok=True)

    # -- where it is ---------------------------------------------------------------------------

    @property
    def ports(self) -> tuple[int, int]:
        """Where mail and events are received on loopback; 0: nowhere now."""
        try:
            told = json.loads((self._folder / "ports").read_bytes())
            return int(told["mail"]), int(told["hook"])
        except (OSError, ValueError, KeyError, TypeError):
            return 0, 0

    def note_ports(self, mail: int, hook: int) -> None:
        """They are received there from now on."""
        draft = self._folder / f".{uuid.uuid4().hex}"
        draft.write_text(json.dumps({"mail": mail, "hook": hook}))
        draft.rename(self._folder / "ports")

    @property
    def refuses(self) -> bool:
        """Whether everything is refused for now."""
        return (self._folder / "refuses").exists()

    def refuse(self, *, on: bool) -> None:
        """Refuse everything, or take it again."""
        if on:
            (self._folder / "refuses").touch()
        else:
            (self._folder / "refuses").unlink(missing_ok=True)


class _Post:
    """What becomes of mail."""

    def __init__(self, mailbox: Mailbox) -> None:
        self._mailbox = mailbox

    async def handle_DATA(self, _server: Any, _session: Any, envelope: Any) -> str:  # noqa: N802 - its name there
        if self._mailbox.refuses:
            return "451 The stand-in was told to refuse; try again later"
        self._mailbox.keep(".eml", envelope.content)
        return "250 Taken"


class Receivers:
    """Both, received while it runs."""

    def __init__(self, mailbox: Mailbox) -> None:
        self.mailbox = mailbox
        with socket.socket() as probe:
            probe.bind(("127.0.0.1", 0))
            self._port = int(probe.getsockname()[1])
        self._mail = Controller(_Post(mailbox), hostname="127.0.0.1", port=self._port, data_size_limit=MOST_BYTES)
        self._hook = ThreadingHTTPServer(("127.0.0.1", 0), _handler(mailbox))

    def start(self) -> None:
        """Begin to receive; where is kept with the mailbox."""
        self._mail.start()
        threading.Thread(target=self._hook.serve_forever, name="hook", daemon=True).start()
        self.mailbox.note_ports(self._port, self._hook.server_address[1])

    def stop(self) -> None:
        """Receive no more."""
        self._mail.stop()
        self._hook.shutdown()
        self._hook.server_close()


def _handler(mailbox: Mailbox) -> type[BaseHTTPRequestHandler]:
    class Hook(BaseHTTPRequestHandler):
        timeout = 5

        def do_POST(self) -> None:
            length = int(self.headers.get("Content-Length") or 0)
            body = self.rfile.read(min(length, MOST_BYTES))
            if mailbox.refuses or length > MOST_BYTES:
                self.send_response(503)
            else:
                told = {"headers": dict(self.headers.items()), "body": body.decode(errors="replace")}
                mailbox.keep(".json", json.dumps(told).encode())
                self.send_response(204)
            self.end_headers()

        def log_message(self, *_: Any) -> None:
            """Nothing of it is logged."""

    return Hook

"""One delivery to the outside, by mail or webhook: what is said there is not believed, and all of it has a deadline."""

from __future__ import annotations

import contextlib
import http.client
import ipaddress
import smtplib
import socket
import ssl
import threading
from collections.abc import Mapping
from email.message import EmailMessage
from types import TracebackType
from typing import Any
from urllib.parse import urlsplit


class Deadline:
    """The sockets of one delivery. When its time is over they are shut down, so that whoever waits on one gets an error,
    however slowly the other side goes on sending."""

    def __init__(self, seconds: float, patience: float) -> None:
        """``seconds`` for all of it, ``patience`` for each step."""
        self._seconds, self._patience = seconds, patience
        self._sockets: list[socket.socket] = []
        self._late = False
        self._timer = threading.Timer(seconds, self._end)
        self._timer.daemon = True

    def __enter__(self) -> Deadline:
        self._timer.start()
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, where: TracebackType | None
    ) -> None:
        self._timer.cancel()
        for one in self._sockets:
            with contextlib.suppress(OSError):
                one.close()
        # What ends because it was shut down may look like an end of its own.
        if self._late and (error is None or isinstance(error, Exception)):
            raise TimeoutError(f"it was not done in {self._seconds:g} s") from None

    def connect(self, host: str, port: int) -> socket.socket:
        """A connection. OSError for an address that belongs to nobody: unspecified, multicast or link-local."""
        made = socket.create_connection((host, port), timeout=self._patience)
        there = ipaddress.ip_address(str(made.getpeername()[0]).split("%")[0])
        if there.is_unspecified or there.is_multicast or there.is_link_local:
            made.close()
            raise OSError(f"nothing is sent to {there}")
        return self.watch(made)

    def secure(self, plain: socket.socket, host: str) -> socket.socket:
        """The same, encrypted, once the other side has proved who it is."""
        wrapped = ssl.create_default_context().wrap_socket(plain, server_hostname=host, do_handshake_on_connect=False)
        self.watch(wrapped)
        wrapped.do_handshake()
        return wrapped

    def watch(self, one: socket.socket) -> socket.socket:
        """Shut it down at the end of the time."""
        self._sockets.append(one)
        if self._late:
            raise TimeoutError
        return one

    def _end(self) -> None:
        self._late = True
        for one in list(self._sockets):
            with contextlib.suppress(OSError):
                one.shutdown(socket.SHUT_RDWR)


class _Hook(http.client.HTTPConnection):
    """A connection to a webhook: within a deadline, and nowhere else than asked for."""

    def __init__(self, host: str, port: int, deadline: Deadline, *, secure: bool) -> None:
        super().__init__(host, port)
        self._deadline, self._secure = deadline, secure

    def connect(self) -> None:
        plain = self._deadline.connect(self.host, self.port)
        self.sock = self._deadline.secure(plain, self.host) if self._secure else plain


def call_hook(url: str, headers: Mapping[str, str], body: bytes, deadline: Deadline) -> None:
    """POST to a webhook. OSError where it does not answer with success, or with no HTTP."""
    parts = urlsplit(url)
    secure = parts.scheme == "https"
    path = (parts.path or "/") + (f"?{parts.query}" if parts.query else "")
    with deadline:
        connection = _Hook(parts.hostname or "", parts.port or (443 if secure else 80), deadline, secure=secure)
        try:
            connection.request("POST", path, body, dict(headers))
            answer = connection.getresponse()
            answer.read(1024)
        except http.client.HTTPException as error:
            raise OSError(f"it answers no HTTP ({type(error).__name__})") from None
        if not 200 <= answer.status < 300:
            raise OSError(f"it answered {answer.status} {answer.reason}")


def post_mail(settings: Mapping[str, Any], mail: EmailMessage, deadline: Deadline) -> None:
    """Hand a letter over to a mail server. OSError or SMTPException where it does not take it."""
    host, secure = str(settings["host"]), settings["security"] == "tls"

    class Server(smtplib.SMTP):
        def _get_socket(self, host: str, port: int, _timeout: float) -> socket.socket:  # type: ignore[override]
            plain = deadline.connect(host, port)
            return deadline.secure(plain, host) if secure else plain

    with deadline, Server(host, int(settings["port"])) as server:
        if settings["security"] == "starttls":
            server.starttls(context=ssl.create_default_context())
            if server.sock is not None:
                deadline.watch(server.sock)
        if settings["user"]:
            server.login(settings["user"], settings["password"])
        server.send_message(mail)

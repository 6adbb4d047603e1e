"""The application as the web server runs it: answers in threads, streams and everything slow without any.

The server (uvicorn) waits for requests on one event loop a process, so somebody who sends half a request holds a
socket and nothing else. A request is given to Flask, in a thread, when all of it is here. An open stream of events
is a waiting coroutine: one connection to the database listens for all streams of a process.
"""

from __future__ import annotations

import asyncio
import contextlib
import gc
import io
import json
import logging
import tempfile
import threading
import time
from collections import Counter
from collections.abc import Awaitable, Callable, MutableMapping
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from typing import Any

import psycopg
import structlog
from a2wsgi.wsgi import build_environ
from h11 import IDLE
from uvicorn.protocols.http.h11_impl import H11Protocol

from pairshelf.api.app import served
from pairshelf.api.guard import most_body
from pairshelf.api.problems import Problem
from pairshelf.engine.signs import AWAY, WATCHER, WORKER
from pairshelf.store.settings import settings

Message = MutableMapping[str, Any]
Receive = Callable[[], Awaitable[Message]]
Send = Callable[[Message], Awaitable[None]]

_logger = structlog.get_logger()

#: Answers worked out side by side in one process.
THREADS = 32
#: Seconds for the head of a request, and for its body.
HEAD_TIME, BODY_TIME = 15.0, 60.0
#: Streams of one person, and of all, in one process.
MOST_OF_ONE, MOST_STREAMS = 24, 2000
#: Seconds between two looks at what answers; every stream is told.
BEAT = 4.0
#: Streams end after this long and are opened again by the browser, so that rights are asked anew.
_LONGEST = 600.0
#: Where the address of events is; the header by which the application lets somebody in to them.
EVENTS, ADMITTED = "/api/events", b"x-admitted"


class Patient(H11Protocol):
    """HTTP as uvicorn speaks it, with a limit to how long the head of a request may take."""

    _late: asyncio.TimerHandle | None = None

    def connection_made(self, transport: asyncio.Transport) -> None:  # type: ignore[override]
        """See asyncio."""
        super().connection_made(transport)
        self._await_head()

    def data_received(self, data: bytes) -> None:
        """See asyncio."""
        super().data_received(data)
        if self.conn.their_state is IDLE and data and (self.cycle is None or self.cycle.response_complete):
            self._await_head()
        elif self.conn.their_state is not IDLE and self._late is not None:
            self._late.cancel()
            self._late = None

    def connection_lost(self, exc: Exception | None) -> None:
        """See asyncio."""
        if self._late is not None:
            self._late.cancel()
        super().connection_lost(exc)

    def _await_head(self) -> None:
        if self._late is None:
            self._late = self.loop.call_later(HEAD_TIME, self._too_late)

    def _too_late(self) -> None:
        self._late = None
        if self.conn.their_state is IDLE and not self.transport.is_closing():
            self.transport.close()


# -- streams of events ---------------------------------------------------------------------------------


@dataclass(eq=False)
class Stream:
    """Somebody who hears what changes."""

    user: int
    session: int
    topics: set[str] = field(default_factory=set)
    state: str = ""
    ended: bool = False
    woken: asyncio.Event = field(default_factory=asyncio.Event)


class Hub:
    """One connection that listens, and everybody who hears of it."""

    def __init__(self) -> None:
        self.streams: set[Stream] = set()
        self._state = json.dumps({"database": True, WORKER: True, WATCHER: True})
        self._tasks: list[asyncio.Task[None]] = []

    def refusal(self, user: int) -> Problem | None:
        """Why one more stream is one too many, or None."""
        if Counter(s.user for s in self.streams)[user] >= MOST_OF_ONE:
            said = f"You have {MOST_OF_ONE} windows open that listen; close some. This one shows what was when it was loaded."
            return Problem(title=said, status=429, code="too-many-streams")
        if len(self.streams) >= MOST_STREAMS:
            said = "Too many windows listen just now; this one shows what was when it was loaded."
            return Problem(title=said, status=503, code="too-many-streams")
        return None

    def join(self, user: int, session: int) -> Stream:
        """Hear of what changes from now on."""
        if not self._tasks:
            self._tasks = [asyncio.create_task(self._listen()), asyncio.create_task(self._look())]
        stream = Stream(user, session, state=self._state)
        self.streams.add(stream)
        return stream

    async def _listen(self) -> None:
        while True:
            try:
                connecting = psycopg.AsyncConnection.connect(settings().libpq_url, autocommit=True, connect_timeout=5)
                async with await connecting as connection:
                    await connection.execute("listen pairshelf")
                    self._tell("everything")
                    async for notice in connection.notifies():
                        self._tell(notice.payload)
            except (psycopg.Error, OSError) as error:
                _logger.warning("events", error=str(error).split("\n")[0])
                await asyncio.sleep(1)

    def _tell(self, topic: str) -> None:
        for stream in self.streams:
            stream.topics.add(topic)
            stream.woken.set()

    async def _look(self) -> None:
        """What answers, and whose session has ended, every few seconds."""
        while True:
            # While the database does not answer, nothing is known of the others.
            database, here, asked = False, {WORKER, WATCHER}, list(self.streams)
            alive = {s.session for s in asked}
            with contextlib.suppress(psycopg.Error, OSError, TimeoutError):
                async with asyncio.timeout(BEAT):
                    async with await psycopg.AsyncConnection.connect(
                        settings().libpq_url, autocommit=True, connect_timeout=4
                    ) as connection:
                        here, alive = await _asked(connection, [s.session for s in asked])
                        database = True
            self._state = json.dumps({"database": database} | {who: who in here for who in (WORKER, WATCHER)})
            for stream in asked:
                stream.ended |= stream.session not in alive
            for stream in self.streams:
                stream.state = self._state
                stream.woken.set()
            await asyncio.sleep(BEAT)


async def _asked(connection: psycopg.AsyncConnection[Any], sessions: list[int]) -> tuple[set[str], set[int]]:
    """Who has given a sign of life lately, and which sessions are open."""
    signs = await connection.execute(
        "select key from setting where key = any(%s) and (value ->> 'seen_at')::timestamptz > now() - %s",
        ([WORKER, WATCHER], AWAY),
    )
    here = {row[0] for row in await signs.fetchall()}
    alive = await connection.execute(
        "select s.id from session s join app_user u on u.id = s.user_id "
        "where s.id = any(%s) and s.ended_at is null and u.active",
        (sessions,),
    )
    return here, {row[0] for row in await alive.fetchall()}


# -- the application -----------------------------------------------------------------------------------


class Served:
    """What the web server runs."""

    def __init__(self) -> None:
        # Streams never end by themselves, so every stop cuts them off; nobody needs to read of that.
        logging.getLogger("uvicorn.error").addFilter(lambda told: "graceful shutdown exceeded" not in told.getMessage())
        self._app = served().wsgi_app
        # What is there from the start stays: looking through it for what is no longer used took a tenth of the time.
        gc.collect()
        gc.freeze()
        self._threads = ThreadPoolExecutor(THREADS, "answer")
        self.hub = Hub()

    async def __call__(self, scope: MutableMapping[str, Any], receive: Receive, send: Send) -> None:
        """See ASGI."""
        if scope["type"] == "lifespan":
            while (await receive())["type"] != "lifespan.shutdown":
                await send({"type": "lifespan.startup.complete"})
            await send({"type": "lifespan.shutdown.complete"})
        elif scope["type"] == "http":
            if scope["path"] == EVENTS and scope["method"] == "GET":
                await self._stream(scope, receive, send)
            else:
                await self._answer(scope, receive, send)

    async def _answer(self, scope: MutableMapping[str, Any], receive: Receive, send: Send) -> None:
        limit = most_body(scope["path"])
        with tempfile.SpooledTemporaryFile(max_size=256 * 1024) as body:
            try:
                async with asyncio.timeout(BODY_TIME):
                    refused = await _read(receive, body, limit)
            except TimeoutError:
                refused = Problem(title="What was sent did not arrive in time.", status=408, code="too-slow")
            if refused is not None:
                await _refuse(send, refused)
                return
            # All of it is here, however it came.
            length = str(body.tell()).encode()
            kept = [(n, v) for n, v in scope["headers"] if n not in (b"content-length", b"transfer-encoding")]
            scope["headers"] = [*kept, (b"content-length", length)]
            body.seek(0)
            gone = threading.Event()
            scope["pairshelf.gone"] = gone
            watching = asyncio.create_task(_until_gone(receive, gone))

            try:
                await _give(send, *await self._ask(scope, body))
            finally:
                watching.cancel()

    async def _ask(self, scope: MutableMapping[str, Any], body: Any) -> tuple[int, list[tuple[bytes, bytes]], bytes]:
        """Flask's whole answer, worked out in a thread. One way there and one back: where threads share an
        interpreter, every further hand-over waits for its turn."""
        environ: dict[str, Any] = build_environ(scope, None)  # type: ignore[arg-type, assignment]
        environ["wsgi.input"] = body
        return await asyncio.get_running_loop().run_in_executor(self._threads, self._answered, environ)

    def _answered(self, environ: dict[str, Any]) -> tuple[int, list[tuple[bytes, bytes]], bytes]:
        begun: list[tuple[str, list[tuple[str, str]]]] = []

        def start(status: str, headers: list[tuple[str, str]], _error: Any = None) -> Any:
            begun.append((status, headers))

        pieces = self._app(environ, start)
        try:
            content = b"".join(pieces)
        finally:
            getattr(pieces, "close", lambda: None)()
        status, headers = begun[-1]
        return int(status[:3]), [(n.lower().encode("latin1"), v.encode("latin1")) for n, v in headers], content

    async def _stream(self, scope: MutableMapping[str, Any], receive: Receive, send: Send) -> None:
        """Names of tables as they change; ``everything`` when something may have been missed."""
        status, headers, content = await self._ask(scope, io.BytesIO())
        admitted = dict(headers).get(ADMITTED)
        if admitted is None:
            await _give(send, status, headers, content)
            return
        user, session = (int(n) for n in admitted.split(b":"))
        if refusal := self.hub.refusal(user):
            await _refuse(send, refusal)
            return
        stream = self.hub.join(user, session)
        gone = threading.Event()
        watching = asyncio.create_task(_until_gone(receive, gone, stream.woken))
        try:
            await _tell_stream(stream, gone, send)
        except asyncio.CancelledError:  # the server stops
            await send({"type": "http.response.body", "body": b"", "more_body": False})
        finally:
            watching.cancel()
            self.hub.streams.discard(stream)


async def _tell_stream(stream: Stream, gone: threading.Event, send: Send) -> None:
    headers = [(b"content-type", b"text/event-stream"), (b"cache-control", b"no-cache"), (b"x-accel-buffering", b"no"),
               (b"x-content-type-options", b"nosniff")]  # fmt: skip
    await send({"type": "http.response.start", "status": 200, "headers": headers})
    text, until, told = "retry: 1000\n\ndata: everything\n\n", time.monotonic() + _LONGEST, 0.0
    while not gone.is_set() and not stream.ended and time.monotonic() < until:
        if stream.state and time.monotonic() - told >= BEAT - 0.5:
            text, told = f"{text}event: state\ndata: {stream.state}\n\n", time.monotonic()
        if text:
            await send({"type": "http.response.body", "body": text.encode(), "more_body": True})
        stream.woken.clear()
        await stream.woken.wait()
        # Much changes at once: what changes within a tenth of a second is told together.
        await asyncio.sleep(0.1)
        topics, stream.topics = stream.topics, set()
        text = f"data: {','.join(sorted(topics))}\n\n" if topics else ""
    await send({"type": "http.response.body", "body": b"", "more_body": False})


async def _read(receive: Receive, into: Any, limit: int) -> Problem | None:
    """All of a body, or why not."""
    size = 0
    while True:
        message = await receive()
        if message["type"] == "http.disconnect":
            return Problem(title="The sender has left.", status=400, code="gone")
        piece = message.get("body", b"")
        size += len(piece)
        if size > limit:
            said = f"What was sent is larger than the {limit // 1024} KiB that are taken here."
            return Problem(title=said, status=413, code="too-large")
        into.write(piece)
        if not message.get("more_body", False):
            return None


async def _until_gone(receive: Receive, gone: threading.Event, also: asyncio.Event | None = None) -> None:
    """Notice when nobody waits for the answer any more."""
    while (await receive())["type"] != "http.disconnect":
        pass
    gone.set()
    if also is not None:
        also.set()


async def _give(send: Send, status: int, headers: list[tuple[bytes, bytes]], content: bytes) -> None:
    await send({"type": "http.response.start", "status": status, "headers": headers})
    await send({"type": "http.response.body", "body": content, "more_body": False})


async def _refuse(send: Send, problem: Problem) -> None:
    body = problem.model_dump_json().encode()
    headers = [(b"content-type", b"application/problem+json"), (b"content-length", str(len(body)).encode()),
               (b"cache-control", b"no-store"), (b"connection", b"close")]  # fmt: skip
    await _give(send, problem.status, headers, body)

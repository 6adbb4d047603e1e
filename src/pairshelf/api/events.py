"""Server-sent events: screens hear which tables changed, fed by PostgreSQL's LISTEN and NOTIFY."""

from __future__ import annotations

import contextlib
import queue
import threading
import time
from collections.abc import Iterator
from typing import Any

import psycopg
import structlog
from flask import Blueprint, Response

from pairshelf.api.guard import needs
from pairshelf.core.acts import Act
from pairshelf.store.settings import settings

api = Blueprint("events", __name__, url_prefix="/api")

_logger = structlog.get_logger()
_BEAT = 15.0
#: Streams end after this long and are opened again by the browser, so that rights are asked anew.
_LONGEST = 600.0


class Hub:
    """One connection that listens a process, and a queue a stream."""

    def __init__(self) -> None:
        self._streams: set[queue.Queue[str]] = set()
        self._lock = threading.Lock()
        self._thread: threading.Thread | None = None

    @contextlib.contextmanager
    def stream(self) -> Iterator[queue.Queue[str]]:
        """A queue of what changes, for as long as it is looked at."""
        mine: queue.Queue[str] = queue.Queue(maxsize=1000)
        with self._lock:
            self._streams.add(mine)
            if self._thread is None or not self._thread.is_alive():
                self._thread = threading.Thread(target=self._listen, name="listen", daemon=True)
                self._thread.start()
        try:
            yield mine
        finally:
            with self._lock:
                self._streams.discard(mine)

    def _listen(self) -> None:
        while True:
            try:
                with psycopg.connect(settings().libpq_url, autocommit=True, connect_timeout=5) as connection:
                    connection.execute("listen pairshelf")
                    self._tell("everything")
                    for notice in connection.notifies():
                        self._tell(notice.payload)
            except psycopg.Error as error:
                _logger.warning("events", error=str(error).split("\n")[0])
                self._tell("lost")
                time.sleep(1)

    def _tell(self, topic: str) -> None:
        with self._lock:
            for stream in self._streams:
                with contextlib.suppress(queue.Full):
                    stream.put_nowait(topic)


hub = Hub()


def _next(mine: queue.Queue[str]) -> set[str]:
    """What changed next, with all that changed within a tenth of a second; nothing after a while."""
    topics: set[str] = set()
    with contextlib.suppress(queue.Empty):
        topics.add(mine.get(timeout=_BEAT))
        time.sleep(0.1)
        while True:
            topics.add(mine.get_nowait())
    return topics


@api.get("/events")
@needs(Act.LOOK)
def events() -> Any:
    """Names of tables as they change; ``everything`` when something may have been missed."""

    def body() -> Iterator[str]:
        until = time.monotonic() + _LONGEST
        with hub.stream() as mine:
            yield "retry: 1000\n\ndata: everything\n\n"
            while time.monotonic() < until:
                topics = _next(mine)
                yield f"data: {','.join(sorted(topics))}\n\n" if topics else ": still here\n\n"

    return Response(
        body(),
        content_type="text/event-stream",
        headers={"Cache-Control": "no-cache", "X-Accel-Buffering": "no"},
    )

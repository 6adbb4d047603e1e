"""The job queue, kept in PostgreSQL: work is enqueued inside the transaction that records it."""

from __future__ import annotations

from functools import lru_cache

import procrastinate
from sqlmodel import Session

from pairshelf.store.settings import settings

TASK = "carry-job"


@lru_cache
def _sender() -> procrastinate.App:
    """Enqueues on connections it is handed; has none of its own."""
    return procrastinate.App(connector=procrastinate.SyncPsycopgConnector(conninfo=settings().libpq_url))


def receiver() -> procrastinate.App:
    """The queue as a worker reads it."""
    return procrastinate.App(connector=procrastinate.PsycopgConnector(conninfo=settings().libpq_url))


def enqueue(session: Session, job_id: int) -> None:
    """Hand a job to the workers when, and only when, the session's transaction commits."""
    raw = session.connection().connection.driver_connection
    _sender().configure_task(TASK, connection=raw).defer(job_id=job_id)

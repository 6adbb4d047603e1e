"""The connection to PostgreSQL, transactions, locks, and bringing the tables up to date."""

from __future__ import annotations

import errno
import time
from collections.abc import Callable, Collection, Iterable, Iterator
from contextlib import contextmanager
from enum import IntEnum
from functools import lru_cache
from pathlib import Path
from typing import Any

import structlog
from psycopg import OperationalError
from psycopg.errors import DiskFull
from sqlalchemy import ARRAY, Connection, Engine, Integer, bindparam, cast, create_engine, event, func, text, true
from sqlalchemy.exc import ArgumentError, DisconnectionError
from sqlmodel import Session, select

from pairshelf.store.settings import settings

_logger = structlog.get_logger()


class Lock(IntEnum):
    """Families of advisory locks, the first number of each."""

    #: One worker a job.
    JOB = 7001
    #: One writer a pool.
    POOL = 7002
    #: One watcher of the devices.
    WATCH = 7003
    #: One import of drives at a time.
    IMPORT = 7004
    #: One process brings the tables up to date.
    MIGRATE = 7005
    #: One process does errands on drives and hosts.
    ERRANDS = 7007
    #: One change at a time of a host's mounts and names.
    HOST = 7008
    #: One change at a time of books that stand in one list together (``core.changes.kind``).
    ALONE = 7009
    #: One writer of a pool's record on its drives.
    RECORD = 7010
    #: Whoever records what is seen as time passes.
    HISTORY = 7011
    #: Whoever lets days pass for the simulated house.
    PASSING = 7012
    #: Whoever sees what is to be told.
    NOTICING = 7013
    #: Whoever sends it.
    SENDING = 7014


#: Connections that this process keeps, and has besides at most.
_connections = [12, 12]


def use_few_connections() -> None:
    """This process has little to ask, and leaves connections to others. To be said before the first is used."""
    _connections[:] = [4, 4]


@lru_cache
def engine() -> Engine:
    """The engine of this process; a stale connection is noticed before it is used."""
    url = settings().sqlalchemy_url
    if not url.startswith("postgresql+psycopg://"):
        raise ArgumentError("no address of a PostgreSQL database")
    made = create_engine(
        url, pool_size=_connections[0], max_overflow=_connections[1], pool_timeout=10,
        # The one that was used last knows the most statements already.
        pool_use_lifo=True,
        # A server that takes the connection and says nothing is none.
        connect_args={} if "connect_timeout" in url else {"connect_timeout": 6},
    )  # fmt: skip
    event.listen(made, "connect", _remembers)
    event.listen(made, "checkin", _rests)
    event.listen(made, "checkout", _still_there)
    return made


def _remembers(connection: Any, _record: Any) -> None:
    # Screens ask more different things than the usual number of statements that a connection keeps prepared.
    connection.prepared_max = 500


#: Seconds for which a connection is taken for alive. Asking it every time took as long as a small question.
_FRESH = 1.0


def _rests(_connection: Any, record: Any) -> None:
    record.info["since"] = time.monotonic()


def _still_there(connection: Any, record: Any, _proxy: Any) -> None:
    if connection is None or time.monotonic() - record.info.get("since", 0.0) < _FRESH:
        return
    try:
        connection.execute("select 1")
        connection.rollback()
    except OperationalError as gone:
        raise DisconnectionError from gone


def is_full(error: BaseException) -> bool:
    """Whether there is no room left: on the disk of the database, or on the one that a file lies on."""
    if isinstance(error, OSError):
        return error.errno in (errno.ENOSPC, errno.EDQUOT)
    return isinstance(getattr(error, "orig", None), DiskFull)


@contextmanager
def transaction() -> Iterator[Session]:
    """All or nothing; then what was asked to be done afterwards, or, where it came to nothing, undone."""
    with Session(engine(), expire_on_commit=False) as session:
        try:
            with session.begin():
                yield session
        except BaseException:
            for undo in session.info.get("undo", ()):
                undo()
            raise
    for act in session.info.get("afterwards", ()):
        try:
            act()
        except Exception as error:
            # What was decided stands; whoever looks after what is left over sees to it.
            _logger.warning("afterwards", error=f"{type(error).__name__}: {error}".split("\n")[0])


def afterwards(session: Session, act: Callable[[], object]) -> None:
    """Do this, once, when the transaction has been committed. A kill may prevent it."""
    acts = session.info.setdefault("afterwards", [])
    if act not in acts:
        acts.append(act)


def if_undone(session: Session, act: Callable[[], object]) -> None:
    """Do this when the transaction comes to nothing. A kill may prevent it."""
    session.info.setdefault("undo", []).append(act)


def pick(*columns: Any) -> Any:
    """``select`` of more columns, or other ones, than SQLModel's own types know of."""
    return select(*columns)


def among(column: Any, ids: Iterable[int | None]) -> Any:
    """The column is one of these, as one parameter however many there are: the statement stays the same, and
    is not worked out anew for each number of values."""
    return column == func.any(cast(list(ids), ARRAY(Integer)))


def in_these(column: Any, called: str = "these") -> Any:
    """The column is one of those that the statement is asked with, so ``called``. For statements that are asked often:
    put together once, they take a third of the time."""
    return column == func.any(bindparam(called, type_=ARRAY(Integer)))


def these(ids: Iterable[int | None]) -> dict[str, Any]:
    """What a statement with ``in_these`` is asked with."""
    return {"these": list(ids)}


#: Of more than so many, all rows are read instead of looking each of them up.
_MANY = 100


def many(ids: Collection[int]) -> bool:
    """Whether there are so many that whoever asks had better read all and look them up in the answer."""
    return len(ids) > _MANY


def in_these_or_all(column: Any, every: bool) -> Any:
    """The column is one of those that the statement is asked with; of ``every`` one, whatever it is."""
    return true() if every else in_these(column)


def lock_until_commit(session: Session, family: Lock, which: int | str = 0) -> None:
    """Wait for a lock and hold it to the end of the transaction. A name stands for a number of its own; two names
    that happen to have the same number wait for each other, and nothing else comes of it."""
    number = ":n" if isinstance(which, int) else "hashtext(:n)"
    session.connection().execute(text(f"select pg_advisory_xact_lock(:f, {number})"), {"f": family.value, "n": which})


def tell(session: Session, table: str) -> None:
    """Open screens fetch anew what shows something of a table, as if it had changed."""
    session.connection().execute(text("select pg_notify('pairshelf', :t)"), {"t": table})


@contextmanager
def held_lock(family: Lock, number: int = 0) -> Iterator[Connection | None]:
    """A lock on a connection of its own, or None if another process has it; a dead process frees it."""
    with engine().connect().execution_options(isolation_level="AUTOCOMMIT") as connection:
        got = connection.execute(
            text("select pg_try_advisory_lock(:f, :n)"), {"f": family.value, "n": number}
        ).scalar_one()
        if not got:
            yield None
            return
        try:
            yield connection
        finally:
            if not connection.closed and not connection.invalidated:
                connection.execute(text("select pg_advisory_unlock(:f, :n)"), {"f": family.value, "n": number})


def migrate() -> None:
    """Bring the tables up to date; several processes may call it at once."""
    # Loaded by who brings tables up to date, not by who serves.
    from alembic import command
    from alembic.config import Config

    config = Config()
    config.set_main_option("script_location", str(Path(__file__).parent / "migrations"))
    with engine().connect() as connection:
        connection.execute(text("select pg_advisory_lock(:f, 0)"), {"f": Lock.MIGRATE.value})
        connection.commit()
        try:
            config.attributes["connection"] = connection
            command.upgrade(config, "head")
            connection.commit()
        finally:
            connection.rollback()
            connection.execute(text("select pg_advisory_unlock(:f, 0)"), {"f": Lock.MIGRATE.value})
            connection.commit()

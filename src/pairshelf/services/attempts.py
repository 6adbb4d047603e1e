"""Guessing is slowed, and nobody is kept out by somebody else's guessing.

Every attempt is counted before the secret is looked at, in a transaction of its own under the lock of its
counter, so attempts side by side count like attempts one after the other. What is counted is who makes them:
a name together with an address, an address, and, far more patiently, a name; on a device that is known, or in
a session, that device or session alone. The wait grows with every failure, and ends.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterable
from dataclasses import dataclass

from sqlalchemy import text

from pairshelf.core.errors import NotNow
from pairshelf.store.clock import wall
from pairshelf.store.database import transaction

#: Without a failure for so long, counting begins anew.
_FORGOTTEN = dt.timedelta(hours=1)
_KEPT = dt.timedelta(days=2)


@dataclass(frozen=True, slots=True, order=True)
class Counter:
    """One count of attempts."""

    key: str
    #: Attempts that may fail before there is a wait.
    free: int = 5
    #: The first wait, which doubles with every further failure, and the longest; seconds.
    first: float = 1.0
    longest: float = 900.0
    #: Whether it begins anew with a right attempt.
    forgives: bool = True

    def wait(self, failures: int) -> float:
        """Seconds to wait after so many failures."""
        if failures < self.free:
            return 0.0
        return min(self.longest, self.first * 2.0 ** min(failures - self.free, 30))


def of_sign_in(name: str, address: str, device: str | None) -> list[Counter]:
    """Who is counted at signing in; ``device``: the mark of one that this user has signed in on before."""
    if device is not None:
        return [Counter(f"device {device} {name}", first=2.0, longest=300.0)]
    return [
        Counter(f"name {name} from {address}"),
        Counter(f"address {address}", free=30, longest=300.0, forgives=False),
        # From many addresses at once: slow, and never longer than a minute.
        Counter(f"name {name}", free=60, longest=60.0, forgives=False),
    ]


def of_session(session_id: int) -> list[Counter]:
    """Who is counted when a signed-in person is asked for a secret."""
    return [Counter(f"session {session_id}", first=2.0, longest=300.0)]


_TAKE = text("""
insert into attempts (key, last_at, wait_until) values (:key, :at, :at) on conflict (key) do nothing
""")
_LOOK = text("select failures, last_at, wait_until from attempts where key = :key for update")
_COUNT = text("update attempts set failures = :failures, last_at = :at, wait_until = :until where key = :key")
_CLEAR = text("delete from attempts where last_at < :before")
_UNCOUNT = text(
    "update attempts set failures = greatest(0, failures - 1), wait_until = least(wait_until, :at) where key = :key"
)
_FORGIVE = text("delete from attempts where key = :key")


def claim(counters: Iterable[Counter]) -> None:
    """Count one attempt, as if it failed. Denied, and not counted, while there is a wait."""
    moment = wall()
    with transaction() as session:
        connection = session.connection()
        connection.execute(_CLEAR, {"before": moment - _KEPT})
        counted = []
        # In one order, so that two never wait for each other.
        for counter in sorted(counters):
            connection.execute(_TAKE, {"key": counter.key, "at": moment})
            failures, last_at, until = connection.execute(_LOOK, {"key": counter.key}).one()
            if until > moment:
                raise NotNow.for_a_while((until - moment).total_seconds())
            failures = 1 if moment - last_at > _FORGOTTEN else failures + 1
            counted.append((counter, failures))
        for counter, failures in counted:
            until = moment + dt.timedelta(seconds=counter.wait(failures))
            connection.execute(_COUNT, {"key": counter.key, "failures": failures, "at": moment, "until": until})


def forgive(counters: Iterable[Counter]) -> None:
    """The attempt was right after all, and was no failure: its own counters begin anew. Of an address, and of a name
    everywhere, this one is not counted, and all others stay: else one right guess would hide a hundred wrong ones."""
    with transaction() as session:
        for counter in sorted(counters):
            statement = _FORGIVE if counter.forgives else _UNCOUNT
            session.connection().execute(statement, {"key": counter.key, "at": wall()})

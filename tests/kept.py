"""What is worked out of pools is kept until something of them changes: whatever a test did, it is never older."""

from __future__ import annotations

from sqlmodel import select

from pairshelf.engine import history
from pairshelf.store.database import engine, transaction
from pairshelf.store.repositories import holdings
from pairshelf.store.tables import PoolRow

_ALL = (holdings._kept, history._used)


def forget() -> None:
    """Nothing is kept any longer: what a test finds kept, it has kept itself."""
    for one in _ALL:
        one._of.clear()


def look() -> None:
    """Keep what all pools hold now."""
    with transaction() as session:
        for one in _ALL:
            one.get(session)


def nothing_kept_is_old() -> None:
    """What is kept is what is worked out anew."""
    if not any(one._of.get(engine()) for one in _ALL):
        return
    with transaction() as session:
        pools = [pool for pool in session.exec(select(PoolRow.id)) if pool is not None]
        for one in _ALL:
            assert one.get(session) == one._work_out(session, pools)

"""What is kept of pools: as new as the database, and worked out no more often than something changes."""

from __future__ import annotations

import pytest
from sqlalchemy import text
from sqlmodel import Session

from pairshelf.store.database import engine, transaction
from pairshelf.store.repositories import kept as keeping
from pairshelf.store.repositories.kept import PerPool, Sweeper
from pairshelf.store.tables import PartitionPlan, PoolRow, now
from tests.engine.helpers import shelf

pytestmark = pytest.mark.usefixtures("db")


def pools(*names: str) -> list[int]:
    with transaction() as session:
        rows = [
            PoolRow(uid=f"u-{name}", name=name, scheme="parity-2", sets=1, capacity=10, created_at=now(), promised={})
            for name in names
        ]
        session.add_all(rows)
        session.flush()
        return [row.number for row in rows]


def renamed(session: Session, pool: int, name: str) -> None:
    session.get_one(PoolRow, pool).name = name


class Names(PerPool[str]):
    """The names of pools, and of which they were looked up."""

    def __init__(self) -> None:
        super().__init__(self._look_up)
        self.looked_up: list[int] = []

    def _look_up(self, session: Session, some: list[int]) -> dict[int, str]:
        self.looked_up += some
        found = session.connection().execute(text("select id, name from pool where id = any(:s)"), {"s": some})
        return {row[0]: row[1] for row in found}

    def now(self, of: list[int] | None = None) -> tuple[list[str], list[int]]:
        """Names as a new transaction is told them; of which they were looked up for it."""
        self.looked_up.clear()
        with transaction() as session:
            told = self.get(session, of)
        return list(told.values()), list(self.looked_up)


def test_only_what_has_changed_is_worked_out_again() -> None:
    b, a = pools("b", "a")
    names = Names()
    assert names.now() == (["a", "b"], [a, b])
    assert names.now() == (["a", "b"], [])
    with transaction() as session:
        renamed(session, b, "0")
    assert names.now() == (["0", "a"], [b])
    (c,) = pools("c")
    assert names.now([a, b]) == (["0", "a"], [])
    assert names.now() == (["0", "a", "c"], [c])
    with transaction() as session:
        session.delete(session.get_one(PoolRow, a))
    assert names.now() == (["0", "c"], [])
    assert names.now([a, c, 10**6]) == (["c"], [])


def test_a_pool_in_the_place_of_another_is_not_taken_for_it() -> None:
    (a,) = pools("a")
    names = Names()
    names.now()
    with transaction() as session:
        session.delete(session.get_one(PoolRow, a))
        session.flush()
        session.add(
            PoolRow(id=a, uid="v", name="b", scheme="mirror", sets=1, capacity=1, created_at=now(), promised={})
        )
    assert names.now() == (["b"], [a])


def test_the_table_of_a_divided_drive_is_its_pools() -> None:
    a, b = pools("a", "b")
    (drive,) = shelf(1)
    names = Names()
    names.now()
    with transaction() as session:
        session.add(PartitionPlan(drive_id=drive, pool_id=a, scheme="gpt", sector=512, disk_id="d", changed_by="ida"))
    assert names.now() == (["a", "b"], [a])
    with transaction() as session:
        session.get_one(PartitionPlan, drive).scheme = "mbr"
    assert names.now() == (["a", "b"], [a])
    with transaction() as session:
        session.get_one(PartitionPlan, drive).pool_id = b
    assert names.now() == (["a", "b"], [a, b])
    with transaction() as session:
        session.delete(session.get_one(PartitionPlan, drive))
    assert names.now() == (["a", "b"], [b])


def test_a_change_of_one_that_was_not_asked_for_is_not_forgotten() -> None:
    a, b = pools("a", "b")
    names = Names()
    names.now()
    with transaction() as session:
        renamed(session, b, "c")
    assert names.now([a]) == (["a"], [])
    assert names.now([b]) == (["c"], [b])


def test_what_is_not_committed_is_told_to_nobody_else() -> None:
    (a,) = pools("a")
    names = Names()
    names.now()

    class Undone(Exception):
        pass

    def comes_to_nothing() -> None:
        with transaction() as session:
            renamed(session, a, "b")
            # Whoever changes it sees it, whether or not it has been sent to the database yet.
            assert names.get(session) == {a: "b"}
            assert names.now() == (["a"], [])
            raise Undone

    with pytest.raises(Undone):
        comes_to_nothing()
    assert names.now() == (["a"], [])
    with transaction() as session:
        renamed(session, a, "c")
        assert names.get(session) == {a: "c"}
    assert names.now() == (["c"], [a])


def test_what_was_under_way_when_somebody_looked_is_seen_once_it_is_committed() -> None:
    a, b = pools("a", "b")
    names = Names()
    with transaction() as early:
        renamed(early, a, "x")
        early.flush()
        # Begun later and committed earlier: transactions do not end in the order of their numbers.
        with transaction() as late:
            renamed(late, b, "y")
        assert names.now() == (["a", "y"], [a, b])
        assert names.now() == (["a", "y"], [])
    assert names.now() == (["x", "y"], [a])


@pytest.mark.alone  # a transaction of any database on the server is one that may be under way
def test_lines_go_when_nobody_can_need_them_any_longer(monkeypatch: pytest.MonkeyPatch) -> None:
    a, _b = pools("a", "b")
    names, sweeper = Names(), Sweeper()
    names.now()
    clock = 0.0
    monkeypatch.setattr(keeping.time, "monotonic", lambda: clock)

    def sweep() -> int:
        with transaction() as session:
            sweeper.sweep(session)
            return int(session.connection().execute(text("select count(*) from pool_change")).scalar_one())

    assert sweep() == 2
    with transaction() as session:
        renamed(session, a, "c")
        session.flush()
        clock = 599.0
        assert sweep() == 2
        clock = 601.0
        # Both of what came before the first time; what is under way is seen by nobody else.
        assert sweep() == 0
        clock = 1202.0
        # It was under way the last time, and stays.
        assert sweep() == 0
    assert names.now() == (["b", "c"], [a])
    clock = 1803.0
    assert sweep() == 1
    clock = 2404.0
    assert sweep() == 0


def test_what_nobody_asked_for_in_a_while_is_worked_out_anew(monkeypatch: pytest.MonkeyPatch) -> None:
    (a,) = pools("a")
    names = Names()
    clock = 0.0
    monkeypatch.setattr(keeping.time, "monotonic", lambda: clock)
    names.now()
    clock = 299.0
    assert names.now() == (["a"], [])
    clock = 599.0
    assert names.now() == (["a"], [a])


def test_another_database_is_not_taken_for_the_one_before() -> None:
    (a,) = pools("a")
    names = Names()
    names.now()
    # As a backup that was brought in while the program ran: the table is another one, transactions are counted anew.
    with engine().begin() as connection:
        connection.execute(text("create table other (like pool_change including all)"))
        connection.execute(text("drop table pool_change"))
        connection.execute(text("alter table other rename to pool_change"))
    assert names.now() == (["a"], [a])


def test_what_could_not_be_worked_out_is_tried_again() -> None:
    (a,) = pools("a")
    names = Names()
    names.now()
    with transaction() as session:
        renamed(session, a, "b")
    works, names._work_out = names._work_out, lambda _session, _some: 1 // 0  # type: ignore[assignment]
    for _ in range(2):
        with pytest.raises(ZeroDivisionError):
            names.now()
    names._work_out = works
    assert names.now() == (["b"], [a])

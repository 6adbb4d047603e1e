"""The store by itself: what tables hold to, whatever the code above them does, and what comes back out of them."""

from __future__ import annotations

import pytest
from sqlalchemy.exc import DBAPIError, IntegrityError
from sqlmodel import Session, select

from pairshelf.api.problems import CONFLICTS
from pairshelf.services.accounts import add_user
from pairshelf.store import tables
from pairshelf.store.database import afterwards, if_undone, transaction
from pairshelf.store.repositories.books import load_books
from pairshelf.store.repositories.drives_and_pools import load_drives, load_pools
from pairshelf.store.tables import DriveRow, Host, PoolRow, Setting, Site, VolumeRow
from tests.engine.helpers import at_once, build, do, shelf

IQN = "iqn.2026-01.example.fernhollow:"


@pytest.fixture
def full(db: str) -> None:
    """Two of everything, so that one can be made the other's double."""
    at_once()
    for name in ("one", "two"):
        build(shelf(4, name=name), "parity-1", name=name)
    with transaction() as session:
        site = session.exec(select(Site)).one()
        session.add_all(Host(name=n, site_id=site.number) for n in ("elm", "fir"))
        for user in ("ida", "maud"):
            add_user(session, user, "a good password", "administrator")
    for name in ("one", "two"):
        do("delete-volume", volume=f"{name}/v")
        for volume in ("v", "w"):
            do("make-volumes", pool=name, name=volume, size="10 GiB")
            do("make-volumes", pool=name, name=f"disk-{volume}", size="10 GiB", file_system="none")
        do("mount-volume", volume=f"{name}/v", host="elm", mount_point=f"/{name}")
        do("add-party", name=f"person-{name}")
        do("make-share", volume=f"{name}/v", name=name, folder=name)
        do("declare-initiator", iqn=IQN + name)
        do("make-target", iqn=IQN + "t-" + name, host="fir", volume=f"{name}/disk-v")


DOUBLES = {
    "drive_serial_key": "update drive set serial = 'one1' where serial = 'one2'",
    "one_drive_a_bay": "update drive set bay = 1 where serial = 'one2'",
    "shelf_with_bay": "update drive set bay = null where serial = 'one2'",
    "size_positive": "update drive set size = 0 where serial = 'one2'",
    "known_kind": "update drive set kind = 'tape' where serial = 'one2'",
    "known_service": "update drive set service = 'lost' where serial = 'one2'",
    "known_condition": "update drive set condition = 'fine' where serial = 'one2'",
    "pool_name_key": "update pool set name = 'one' where name = 'two'",
    "known_state": "update pool set state = 'fine'",
    "pool_place_drive_id_key": "update pool_place set drive_id = (select min(drive_id) from pool_place)",
    "one_place_a_slot": "update pool_place set slot = 0",
    "known_place_state": "update pool_place set state = 'fine'",
    "one_volume_of_a_name": "update volume set name = 'v' where name = 'w'",
    "volume_has_room": "update volume set size = 0 where name = 'w'",
    "one_volume_a_mount_point": "update mount set at = '/one'",
    "one_share_of_a_name": "update share set name = 'ONE' where name = 'two'",
    "one_party_of_a_name": "update party set name = 'Person-One' where name = 'person-two'",
    "app_user_name_key": "update app_user set name = 'ida' where name = 'maud'",
    "known_role": "update app_user set role = 'king'",
    "one_target_a_volume": "update target_lun set volume_id = (select min(volume_id) from target_lun)",
    "initiator_iqn": f"update initiator set iqn = '{IQN}one'",
    "target_iqn": f"update target set iqn = '{IQN}t-one'",
    "known_job_state": "update job set state = 'fine'",
    "site_id_fkey": "delete from site",
    "pool_place_drive_id_fkey": "delete from drive where serial = 'one1'",
    "pool_id_fkey": "delete from pool where name = 'one'",
    "volume_id_fkey": "delete from volume where name = 'v'",
}


@pytest.mark.usefixtures("full")
def test_every_double_and_every_orphan_is_refused() -> None:
    for rule, statement in DOUBLES.items():
        with pytest.raises(DBAPIError) as refused, transaction() as session:
            session.connection().exec_driver_sql(statement)
        name = getattr(getattr(refused.value.orig, "diag", None), "constraint_name", "") or ""
        assert rule in name, (statement, name, refused.value)
    with transaction() as session:
        assert len(session.exec(select(PoolRow)).all()) == 2


@pytest.mark.usefixtures("db")
def test_what_is_said_of_a_conflict_is_about_a_rule_there_is() -> None:
    """A constraint renamed would leave its sentence unsaid."""
    with transaction() as session:
        found = session.connection().exec_driver_sql(
            "select conname from pg_constraint union select indexname from pg_indexes where schemaname = 'public'"
        )
        there = {name for (name,) in found}
    assert set(CONFLICTS) <= there, set(CONFLICTS) - there


@pytest.mark.usefixtures("db")
def test_all_or_nothing_and_what_is_done_after() -> None:
    done: list[str] = []

    def tried(session: Session, name: str) -> None:
        afterwards(session, lambda: done.append(f"after {name}"))
        if_undone(session, lambda: done.append(f"undone {name}"))
        session.add(Setting(key=name, value={}))
        session.flush()

    with transaction() as session:
        tried(session, "kept")

    def fails() -> None:
        with transaction() as session:
            tried(session, "lost")
            session.connection().exec_driver_sql("insert into setting (key, value) values ('kept', '{}')")

    with pytest.raises(IntegrityError):
        fails()
    assert done == ["after kept", "undone lost"]
    with transaction() as session:
        assert session.get(Setting, "kept") is not None and session.get(Setting, "lost") is None


@pytest.mark.usefixtures("full")
def test_what_goes_in_comes_out() -> None:
    """The books, and pools by number, say what was done; nothing of what was not asked for."""
    with transaction() as session:
        pools = {p.name: p.number for p in session.exec(select(PoolRow))}
        books = load_books(session, pool_ids=[pools["two"]])
        (two,) = load_pools(session, [pools["two"]])
        ids = [d.number for d in session.exec(select(DriveRow).order_by(DriveRow.serial))]
        assert [d.id for d in load_drives(session, [*reversed(ids), 10**6])] == list(reversed(ids))
    assert books.pool_names == {"one", "two"} and [p.name for p in books.pools] == ["two"]
    assert [v.ref for v in books.volumes if v.pool == "two"] == ["two/disk-v", "two/disk-w", "two/v", "two/w"]
    placed = {v.ref: v.placed for v in books.volumes}
    assert placed["two/v"] == 10 and placed["one/v"] == 0, "of pools not asked for nothing is counted"
    assert [(m.host, m.volume, m.at) for m in books.mounts] == [("elm", "one/v", "/one"), ("elm", "two/v", "/two")]
    assert [(s.name, s.volume, s.folder) for s in books.shares] == [("one", "one/v", "one"), ("two", "two/v", "two")]
    assert [(t.iqn, t.luns) for t in books.targets] == [
        (IQN + "t-one", ((0, "one/disk-v"),)), (IQN + "t-two", ((1, "two/disk-v"),)),
    ]  # fmt: skip
    assert {p for p, _ in books.parties} == {"person-one", "person-two"}
    assert two.free == two.layout.data_extents - 40 and len(two.places) == 4 and two.state == "healthy"


def test_a_row_not_kept_yet_has_no_number() -> None:
    with pytest.raises(AssertionError, match="VolumeRow is not in its table yet"):
        _ = VolumeRow(pool_id=1, name="v", size=1, extents=1, uuid="x").number


def test_all_tables_are_handed_out() -> None:
    assert {t.__tablename__ for t in vars(tables).values() if hasattr(t, "__tablename__")} >= {
        "drive", "pool", "volume", "share", "target", "job", "errand", "logbook", "session", "backup",
    }  # fmt: skip

"""A shelf unplugged, a host switched off: as one act, and back as it was. Nothing is rebuilt, nothing written is lost."""

from __future__ import annotations

import pytest
from sqlmodel import col, select

from pairshelf.core.domain.drives import Kind
from pairshelf.core.domain.inventory import DriveRecord
from pairshelf.core.domain.units import GIB
from pairshelf.core.errors import NotFound, NotPossible
from pairshelf.engine.carry import carry
from pairshelf.engine.observe import observe
from pairshelf.engine.pools import devices
from pairshelf.services.attending import attend
from pairshelf.services.simulated_use import switch
from pairshelf.store.database import transaction
from pairshelf.store.repositories.drives_and_pools import add_records, load_drives
from pairshelf.store.tables import DriveRow, Host, JobRow, Service, Shelf
from tests.engine.helpers import (
    at_once,
    build,
    carry_all,
    check,
    do,
    files_intact,
    fill,
    happens,
    open_jobs,
    pool_state,
    shelf,
)

pytestmark = pytest.mark.usefixtures("db")


@pytest.fixture(autouse=True)
def quick(db: str) -> None:
    at_once()


def shelf_number(name: str) -> int:
    with transaction() as session:
        return session.exec(select(Shelf.id).where(Shelf.name == name)).one() or 0


def turn(what: str, number: int, *, on: bool) -> str:
    with transaction() as session:
        said = switch(session, what, number, "ida", devices(), on=on)
    observe(devices())
    return said


def where() -> dict[str, tuple[int | None, int | None, str]]:
    with transaction() as session:
        return {d.serial: (d.shelf_id, d.bay, d.condition) for d in session.exec(select(DriveRow))}


def test_a_pool_on_the_shelf_is_away_not_lost_what_is_written_is_held_and_it_is_back_as_it_was() -> None:
    pool = build(shelf(5), "parity-1", spares=1)
    carry_all()
    carry(fill(pool, 0.3))
    before = where()
    writing = fill(pool, 0.6)
    said = turn("shelf", shelf_number("A"), on=False)
    assert said == "Simulated shelf A is unplugged: 5 drives are gone with it."
    assert pool_state(pool)[0] == "unreachable"
    carry(writing, stop=iter([False, True, True]).__next__)
    with transaction() as session:
        assert session.get_one(JobRow, writing).state == "held"
        (matter,) = [m for m in attend(session).matters if m.page and not m.sort]
        assert "Nothing is lost" in matter.sentence and "is lost" not in matter.sentence.replace("Nothing is lost", "")
        assert session.exec(select(JobRow).where(col(JobRow.kind).in_(("rebuild", "copy", "self-repair")))).all() == []
    assert (
        turn("shelf", shelf_number("A"), on=True)
        == "Simulated shelf A is plugged in again: 5 drives are back as they were."
    )
    assert where() == before
    carry_all()
    assert pool_state(pool)[0] == "healthy" and files_intact(pool) and check(pool).report["mismatches"] == 0
    assert open_jobs() == []


def test_a_pool_over_two_shelves_goes_on_and_gets_only_what_changed_when_the_shelf_is_back() -> None:
    drives = [*shelf(2), *shelf(2, name="B")]
    pool = do("build-pool", name="p", scheme="copies-2", drives=(drives[0], drives[2], drives[1], drives[3]), sets=2, volume="v",
              file_system="xfs").pool_id or 0  # fmt: skip
    carry_all()
    carry(fill(pool, 0.3))
    turn("shelf", shelf_number("B"), on=False)
    assert pool_state(pool)[0] in ("degraded", "unprotected")
    carry(fill(pool, 0.5))
    turn("shelf", shelf_number("B"), on=True)
    rebuilds = open_jobs("rebuild")
    assert len(rebuilds) == 2
    with transaction() as session:
        assert all(
            session.get_one(JobRow, j).report.get("missed") is not None or session.get_one(JobRow, j).total < 59
            for j in rebuilds
        )
    carry_all()
    assert pool_state(pool)[0] == "healthy" and files_intact(pool)


def test_what_was_out_or_had_failed_before_is_so_afterwards() -> None:
    shelf(4)
    happens("pull", "A1")
    happens("fail", "A2")
    happens("warn", "A3")
    turn("shelf", shelf_number("A"), on=False)
    # A second time nothing more goes, and nobody is forgotten.
    assert turn("shelf", shelf_number("A"), on=False).endswith(": 0 drives are gone with it.")
    turn("shelf", shelf_number("A"), on=True)
    assert {s: c for s, (_, _, c) in where().items()} == {
        "A1": "missing",
        "A2": "failed",
        "A3": "failing",
        "A4": "good",
    }


def test_a_host_takes_all_its_shelves_with_it() -> None:
    with transaction() as session:
        add_records(session, [
            DriveRecord(name, bay, f"{name}{bay}", 60 * GIB, Kind.HDD, host="elm") for name in ("H", "I") for bay in (1, 2)
        ], service=Service.FREE)  # fmt: skip
    shelf(1, name="K")
    with transaction() as session:
        host = session.exec(select(Host.id).where(Host.name == "elm")).one() or 0
    before = where()
    turn("host", host, on=False)
    dark = {s: now for s, now in where().items() if now[2] == "missing"}
    # They stay in their bays, in another state: none of them is taken for a gap.
    assert set(dark) == {"H1", "H2", "I1", "I2"} and all(now[:2] == before[s][:2] for s, now in dark.items())
    with transaction() as session:
        ids = session.exec(select(DriveRow.id).where(col(DriveRow.serial).in_(list(dark)))).all()
        assert all(d.offline for d in load_drives(session, ids))
    assert devices().unplugged() == {f"host {host}"}
    turn("host", host, on=True)
    assert where() == before and devices().unplugged() == frozenset()


def test_a_drive_is_taken_out_of_a_dead_box_and_put_in_elsewhere() -> None:
    drives = [*shelf(2), *shelf(2, name="B")]
    pool = do("build-pool", name="p", scheme="copies-2", drives=(drives[0], drives[2], drives[1], drives[3]), sets=2, volume="v",
              file_system="xfs").pool_id or 0  # fmt: skip
    carry_all()
    carry(fill(pool, 0.3))
    with transaction() as session:
        session.get_one(Shelf, shelf_number("A")).bays = 8
    turn("shelf", shelf_number("B"), on=False)
    devices().put_in(DriveRecord("A", 7, "B1", 60 * GIB, Kind.HDD))
    observe(devices())
    at = where()["B1"]
    assert at == (shelf_number("A"), 7, "good") and where()["B2"][:2] == (shelf_number("B"), 2)
    # It hangs on B no more: neither its coming back nor its going again is taken for that shelf's.
    turn("shelf", shelf_number("B"), on=True)
    assert where()["B1"] == at and where()["B2"][2] == "good"
    turn("shelf", shelf_number("B"), on=False)
    devices().take_from_the_dark("B2")
    observe(devices())
    assert where()["B2"] == (None, None, "missing")
    devices().put_back("B2")
    observe(devices())
    carry_all()
    assert pool_state(pool)[0] == "healthy" and files_intact(pool)


def test_what_cannot_be_switched_is_refused() -> None:
    shelf(1)
    number = shelf_number("A")
    with transaction() as session:
        session.add(Shelf(name="empty", site_id=session.get_one(Shelf, number).site_id, bays=4))
    for what, which, on, kind in (("shelf", 99, False, NotFound), ("host", 99, False, NotFound), ("shelf", number, True, NotPossible),
                                  ("shelf", shelf_number("empty"), False, NotPossible)):  # fmt: skip
        with pytest.raises(kind):
            turn(what, which, on=on)

"""A pool that fills up under its volumes holds what is written, says which, and lets go when there is room."""

from __future__ import annotations

import pytest
from sqlmodel import col, select

from pairshelf.core.domain.units import GIB
from pairshelf.core.errors import NotPossible
from pairshelf.engine.carry import carry, pick_up_the_dropped
from pairshelf.engine.io.files import remove_files
from pairshelf.engine.jobs import pacing
from pairshelf.engine.pools import open_pool
from pairshelf.services.attending import attend
from pairshelf.services.trouble import trouble_about
from pairshelf.store.database import transaction
from pairshelf.store.tables import JobRow, SampleFile, VolumeRow
from tests.engine.helpers import at_once, build, carry_all, check, do, files_intact, fill, shelf

pytestmark = pytest.mark.usefixtures("db")


@pytest.fixture(params=["parity-1", "spread"])
def full(db: str, request: pytest.FixtureRequest) -> tuple[int, list[int]]:
    """A pool with two thin volumes that promise more than there is, one of them being written to until it is full."""
    at_once()
    spread = {"domain": "drive", "protection": "parity-1:3"} if request.param == "spread" else {}
    pool = do("build-pool", name="p", scheme=request.param, drives=tuple(shelf(4, size=40 * GIB)), volume="v", thin=True,
              volume_size="100 GiB", file_system="none", **spread).pool_id or 0  # fmt: skip
    carry_all()
    do("make-volumes", pool="p", name="w", size="100 GiB", thin=True, file_system="none",
       **({"protection": "parity-1:3"} if spread else {}))  # fmt: skip
    carry_all()
    with transaction() as session:
        volumes = list(
            session.exec(select(VolumeRow.id).where(VolumeRow.pool_id == pool).order_by(col(VolumeRow.name)))
        )
    return pool, [v or 0 for v in volumes]


def _job(number: int) -> JobRow:
    with transaction() as session:
        row = session.get_one(JobRow, number)
        session.expunge(row)
        return row


def _taken(volume: int) -> int:
    with transaction() as session:
        return sum(session.exec(select(SampleFile.extents).where(SampleFile.volume_id == volume)))


def test_what_is_written_waits_and_goes_on_where_it_was(full: tuple[int, list[int]]) -> None:
    pool, (v, w) = full
    carry(fill(pool, 0.6, v))
    assert _taken(v) == 60
    writing = fill(pool, 0.9, w)
    carry(writing)
    held = _job(writing)
    assert held.state == "held" and held.why_held is not None and held.why_held.startswith("pool p is full")
    # What room there was, was used first: nothing is left of it but part of a stripe.
    with transaction() as session:
        left = open_pool(session, pool).layout
        assert left.data_extents
    before = _taken(w)
    assert 40 <= before + _taken(v) <= 119 and before > 0
    assert files_intact(pool, v) and files_intact(pool, w) and check(pool).report["mismatches"] == 0

    # It is said which, and what one would do; nothing is lost.
    with transaction() as session:
        matter = next(m for m in attend(session).matters if m.sort == "room")
        assert "What is written to w waits, and goes on by itself" in matter.sentence
        about = trouble_about(session, matter.key)
        assert next(words for words, _ in about.also).startswith("Reclaim") and about.jobs == [writing]
        assert about.guide is not None and about.guide.still.startswith("Nothing is lost")

    # Asked again while nothing has changed, it waits on, and holds no worker.
    pick_up_the_dropped()
    carry(writing)
    assert _job(writing).state == "held" and _taken(w) == before

    # There is room: it goes on by itself, to its end.
    with transaction() as session:
        opened = open_pool(session, pool)
        files = session.exec(select(SampleFile).where(SampleFile.volume_id == v)).all()
        remove_files(session, opened, session.get_one(VolumeRow, v), files)
    carry_all()
    done = _job(writing)
    assert done.state == "done" and _taken(w) == 90
    assert files_intact(pool, w) and check(pool).report["mismatches"] == 0
    with transaction() as session:
        said = trouble_about(session, matter.key)
        assert said.matter is None or "waits" not in said.matter.sentence


def test_a_write_that_waits_can_be_ended_and_its_volume_used_again(full: tuple[int, list[int]]) -> None:
    pool, (v, w) = full
    carry(fill(pool, 0.6, v))
    writing = fill(pool, 0.9, w)
    carry(writing)
    with transaction() as session:
        pacing.end(session.get_one(JobRow, writing), "ida")
        with pytest.raises(NotPossible):
            pacing.end(session.get_one(JobRow, writing), "ida")
    assert pick_up_the_dropped() == 0
    carry(writing)
    ended = _job(writing)
    assert ended.state == "failed" and ended.error == "Ended by ida before it was done; what it had done stays."
    assert files_intact(pool, v)
    do("delete-volume", volume="p/w")
    carry_all()


def test_what_would_be_left_half_done_is_not_ended(db: str) -> None:
    at_once()
    build(shelf(4), "parity-1")
    with transaction() as session:
        sync = session.exec(select(JobRow).where(JobRow.kind == "first-sync")).one()
        with pytest.raises(NotPossible) as refused:
            pacing.end(sync, "ida")
    assert refused.value.code == "not-ended-halfway"

"""What was deleted comes back to the pool, exactly; what stays reads back; days that pass are recorded as days."""

from __future__ import annotations

import datetime as dt
import random

import pytest
from sqlmodel import col, select

from pairshelf.core.domain.units import EXTENT, GIB
from pairshelf.core.errors import BadInput, NotPossible, PairShelfError
from pairshelf.core.watching.thresholds import USUAL, Thresholds
from pairshelf.engine import passing
from pairshelf.engine.apply.pools.reclaim import idle
from pairshelf.engine.history import Watch
from pairshelf.engine.io.volume_io import pieces_of
from pairshelf.services.simulated_use import MOST_A_DAY, delete_samples, keep_writes
from pairshelf.services.watching import pools_at_a_glance, set_thresholds
from pairshelf.store import clock
from pairshelf.store.database import transaction
from pairshelf.store.repositories.holdings import PoolHolds, load_holdings
from pairshelf.store.tables import HostWrites, LogRow, SampleFile, Threshold, VolumeRow
from tests.engine.helpers import at_once, build, carry_all, do, files_intact, fill, shelf


def _held(pool: int) -> PoolHolds:
    with transaction() as session:
        (found,) = load_holdings(session, [pool])
        return found


def _volume(name: str) -> int:
    with transaction() as session:
        return session.exec(select(VolumeRow).where(VolumeRow.name == name)).one().number


def _half_full(scheme: str = "parity-1", **more: object) -> tuple[int, int]:
    """A pool with a thin volume, half full; their numbers."""
    at_once()
    if scheme == "spread":
        do("build-pool", name="p", scheme="spread", drives=tuple(shelf(6)), domain="drive")
    else:
        build(shelf(4), scheme)
        do("delete-volume", volume="p/v")
    do("make-volumes", pool="p", name="t", size="100 GiB", thin=True, **more)
    carry_all()
    volume = _volume("t")
    for share in (0.1, 0.2, 0.3, 0.4, 0.5, 0.6):  # so that there are several files
        fill(1, share, volume)
        carry_all()
    return 1, volume


def _some_deleted(volume: int, seed: int) -> None:
    """Not the oldest, but here and there: what is left over is in pieces."""
    with transaction() as session:
        files = session.exec(
            select(SampleFile).where(SampleFile.volume_id == volume).order_by(col(SampleFile.first))
        ).all()
        for file in [*random.Random(seed).sample(list(files)[:-1], len(files) // 2), files[-1]]:
            session.delete(file)


@pytest.mark.usefixtures("db")
@pytest.mark.parametrize("seed", [1, 2])
@pytest.mark.parametrize(
    ("scheme", "more"),
    [("parity-1", {}), ("spread", {"protection": "parity-1:3"}), ("spread", {"protection": "copies-2"})],
)
def test_what_comes_back_is_what_was_said_and_all_that_stays_reads_back(
    scheme: str, more: dict[str, object], seed: int
) -> None:
    pool, volume = _half_full(scheme, **more)
    assert _held(pool).account.reclaimable == 0
    _some_deleted(volume, seed)
    before = _held(pool).account
    outcome = do("reclaim", pool="p")
    assert outcome.pool_id == pool
    after = _held(pool).account
    assert before.given - after.given == before.reclaimable
    assert after.reclaimable == 0
    assert before.reclaimable > 0
    if scheme != "spread":
        assert after.given == after.files
    with transaction() as session:
        assert idle(session, session.get_one(VolumeRow, volume)) == []
    assert files_intact(pool, volume)
    # What came back is written to again, and what is written there is right.
    fill(pool, 0.9, volume)
    carry_all()
    assert files_intact(pool, volume)
    with pytest.raises(NotPossible) as refused:
        do("reclaim", pool="p")
    assert refused.value.code == "nothing-to-reclaim"


@pytest.mark.usefixtures("db")
def test_bins_are_emptied_only_when_that_was_said() -> None:
    pool, volume = _half_full()
    with transaction() as session:
        files = session.exec(select(SampleFile).order_by(col(SampleFile.id))).all()
        for file in files[:2]:
            file.deleted_at = clock.now()
        binned = sum(f.extents for f in files[:2])
    with pytest.raises(NotPossible, match="lie in bins; they come back if these are emptied"):
        do("reclaim", pool="p")
    assert _held(pool).account.reclaimable == binned * EXTENT
    before = _held(pool).account.given
    do("reclaim", pool="p", bins=True)
    assert before - _held(pool).account.given == binned * EXTENT
    with transaction() as session:
        assert session.exec(select(SampleFile).where(col(SampleFile.deleted_at).is_not(None))).all() == []
    assert files_intact(pool, volume)


@pytest.mark.usefixtures("db")
def test_a_sheet_goes_stale_when_something_else_was_deleted_since() -> None:
    from pairshelf.core.changes.kinds import request_of
    from pairshelf.engine import approver
    from pairshelf.engine.pools import devices

    _, volume = _half_full()
    _some_deleted(volume, 1)
    with transaction() as session:
        sheet = approver.draw_up(session, "reclaim", request_of("reclaim", {"pool": "p"}), "ida")
    with transaction() as session:
        delete_samples(session, volume, 0.3, "ida")
    with pytest.raises(PairShelfError) as refused, transaction() as session:
        approver.approve(session, sheet.number, "ida", "", devices())
    assert refused.value.code == "changed-since"


@pytest.mark.usefixtures("db")
def test_a_host_that_deletes_tells_no_pool() -> None:
    pool, volume = _half_full()
    given = _held(pool).account.given
    with transaction() as session:
        pieces = pieces_of(session, volume)
        said = delete_samples(session, volume, 1.0, "ida")
    assert "deleted from t" in said
    with transaction() as session:
        assert pieces_of(session, volume) == pieces
        with pytest.raises(NotPossible, match="no files"):
            delete_samples(session, volume, 0.5, "ida")
    assert _held(pool).account.reclaimable == given
    do("reclaim", pool="p")
    assert _held(pool).account.given == 0


# -- days that pass ------------------------------------------------------------------------------------


@pytest.mark.usefixtures("db")
def test_days_pass_hosts_write_and_it_is_recorded_on_its_days() -> None:
    pool, volume = _half_full()
    before = _held(pool).account.files
    with transaction() as session:
        assert keep_writes(session, volume, "2.5 GiB", "ida") == 5 * GIB // 2
        begun = clock.now()
        end = passing.begin(session, "ida", dt.timedelta(days=9, hours=2))
    watch, strides = Watch(clock.now), 1

    # There is no worker here: what a stride starts is carried before it is waited for.
    plain = passing._wait_for
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(passing, "_wait_for", lambda jobs: (carry_all(), plain(jobs)))
        while passing.stride(watch):
            strides += 1
    assert strides == 37  # nine days of four, and two hours
    assert abs(clock.now() - end) < dt.timedelta(minutes=2)
    assert clock.ahead() >= dt.timedelta(days=9)
    # To the extent: what is too little for one is owed.
    with transaction() as session:
        owed = session.exec(select(HostWrites)).one().owed
        assert passing.until(session) is None
    written = _held(pool).account.files - before
    assert 0 <= owed < EXTENT
    assert written + owed == pytest.approx(2.5 * GIB * (9 + 2 / 24), rel=1e-3)
    assert files_intact(pool, volume)
    with transaction() as session:
        glance = pools_at_a_glance(session, [pool])[pool]
        dated = session.exec(
            select(SampleFile).where(SampleFile.volume_id == volume).order_by(col(SampleFile.id).desc())
        ).first()
        acts = [r.act for r in session.exec(select(LogRow).where(LogRow.at > begun))]
    assert dated is not None and dated.written_at - begun > dt.timedelta(days=8)
    assert glance.outlook is not None and glance.outlook.days >= 7 and glance.outlook.at is not None
    assert glance.outlook.growth == pytest.approx(2.5 * GIB, rel=0.1)
    # One line that time passes, not one for each time a host wrote.
    assert acts.count("time-passes") == 1 and "fill-finished" not in acts


@pytest.mark.usefixtures("db")
def test_a_stride_that_was_cut_off_is_not_written_twice(monkeypatch: pytest.MonkeyPatch) -> None:
    pool, volume = _half_full()
    before = _held(pool).account.files
    with transaction() as session:
        keep_writes(session, volume, "8 GiB", "ida")
        passing.begin(session, "ida", dt.timedelta(days=1))

    class Killed(BaseException):
        pass

    def killed(_: dt.timedelta) -> None:
        raise Killed

    monkeypatch.setattr(passing, "_wait_for", lambda _jobs: carry_all())
    with monkeypatch.context() as patch:
        patch.setattr(clock, "go_ahead", killed)
        with pytest.raises(Killed):
            passing.stride(Watch(clock.now))
    while passing.stride(Watch(clock.now)):
        pass
    assert _held(pool).account.files - before <= 8 * GIB
    assert clock.ahead() >= dt.timedelta(hours=23)


@pytest.mark.usefixtures("db")
def test_hosts_write_no_more_than_there_is_room_for_and_wait_where_they_cannot() -> None:
    pool, volume = _half_full()
    with transaction() as session:
        keep_writes(session, volume, "300 GiB", "ida")
        jobs = passing._write(session, dt.timedelta(days=1))
        assert len(jobs) == 1
        # Nothing more while that is being written; it stays owed, and not for ever.
        for _ in range(50):
            assert passing._write(session, dt.timedelta(days=1)) == []
        assert session.exec(select(HostWrites)).one().owed <= 30 * 300 * GIB
    carry_all()
    (held,) = _held(pool).volumes
    assert held.files <= held.for_files
    assert held.share > 0.98
    with transaction() as session:
        assert passing._write(session, dt.timedelta(days=1)) == []
        keep_writes(session, volume, "", "ida")
        assert session.exec(select(HostWrites)).all() == []


@pytest.mark.usefixtures("db")
def test_the_clock_goes_forward_only_and_everybody_sees_it() -> None:
    first = clock.now()
    clock.go_ahead(dt.timedelta(days=3))
    assert clock.now() - first >= dt.timedelta(days=3)
    clock.go_ahead(dt.timedelta(days=-5))
    assert clock.now() - first >= dt.timedelta(days=3)
    assert clock.wall() - first < dt.timedelta(minutes=5)


@pytest.mark.usefixtures("db")
def test_what_makes_no_sense_is_refused_at_its_field() -> None:
    pool, volume = _half_full()
    for text in ("much", f"{MOST_A_DAY + 1} B", "-1 GB"):
        with pytest.raises(BadInput) as refused, transaction() as session:
            keep_writes(session, volume, text, "ida")
        assert refused.value.field == "a_day"
    for wrong in (99, 0):
        with pytest.raises(PairShelfError), transaction() as session:
            keep_writes(session, wrong, "1 GB", "ida")
        with pytest.raises(PairShelfError), transaction() as session:
            set_thresholds(session, "ida", USUAL, volume_id=wrong)
    with transaction() as session:
        set_thresholds(session, "ida", Thresholds(0.5, 0.6), pool_id=pool)
        set_thresholds(session, "ida", Thresholds(0.4, 0.6), pool_id=pool)
        assert session.exec(select(Threshold)).one().tell == 0.4
        # The usual ones need no row.
        set_thresholds(session, "ida", USUAL, pool_id=pool)
        assert session.exec(select(Threshold)).all() == []

"""The watch: what is recorded is what is there, nothing is lost or counted twice, and a crossing is told once."""

from __future__ import annotations

import datetime as dt
import random

import pytest
from sqlalchemy import delete, text, update
from sqlalchemy.exc import OperationalError
from sqlmodel import col, select

from pairshelf.core.domain.units import EXTENT, GIB
from pairshelf.core.watching.series import BY_ID, GRAINS, ROUND, Grain
from pairshelf.engine import history as watching
from pairshelf.engine.history import (
    Watch,
    look_at_thresholds,
    still_there,
    take_round,
    used_on_drives,
    work_out_outlooks,
)
from pairshelf.engine.io.files import remove_files
from pairshelf.engine.pools import open_pool
from pairshelf.store.database import transaction
from pairshelf.store.repositories import history
from pairshelf.store.repositories.drives_and_pools import load_drives
from pairshelf.store.repositories.history import load_points
from pairshelf.store.repositories.holdings import PoolHolds, load_holdings
from pairshelf.store.tables import Crossing, LogRow, OutlookRow, PoolRow, SampleFile, Threshold, VolumeRow
from tests.engine.helpers import at_once, build, carry_all, do, fill, replace, shelf

START = dt.datetime(2026, 3, 1, 6, 0, tzinfo=dt.UTC)
MINUTE, HOUR, DAY = (next(g for g in GRAINS if g.id == name) for name in ("minute", "hour", "day"))
GIVEN, FILES, USED = BY_ID["pool-given"], BY_ID["volume-files"], BY_ID["drive-used"]


def _values(at: dt.datetime, values: dict[int, int]) -> None:
    with transaction() as session:
        history.make_parts(session, at)
        history.store_round(session, at, {GIVEN: values})


def _points(of: int, grain: Grain, begin: dt.datetime, end: dt.datetime) -> list[history.Point]:
    with transaction() as session:
        return load_points(session, GIVEN, [of], grain, begin, end)[of]


def _condense(at: dt.datetime) -> None:
    Watch().condense(at)


@pytest.mark.usefixtures("db")
def test_every_grain_says_what_the_rounds_said_before_and_after_condensing() -> None:
    dice = random.Random(5)
    said = {
        START + dt.timedelta(seconds=10 * i): {1: dice.randrange(1000), 300: -dice.randrange(50)}
        for i in range(0, 800, 1)
    }
    for at, values in said.items():
        if dice.random() < 0.9:
            _values(at, values)
        else:
            said[at] = {}
    end = START + dt.timedelta(seconds=8000)
    _condense(end)
    before = {(of, g.id): _points(of, g, g.start(START), end) for of in (1, 300) for g in GRAINS}
    _condense(end + dt.timedelta(days=1))
    for of in (1, 300):
        for grain in GRAINS:
            points = _points(of, grain, grain.start(START), end)
            known = [v[of] for v in said.values() if of in v]
            assert sum(p.count for p in points) == len(known)
            assert sum(p.total for p in points) == sum(known)
            assert (min(p.low for p in points), max(p.high for p in points)) == (min(known), max(known))
            # What had not been condensed was said the same way, as far back as that lacks.
            assert before[of, grain.id] == points
            assert [p.at for p in points] == sorted({grain.start(at) for at, v in said.items() if of in v})
    assert _points(2, MINUTE, START, end) == []


@pytest.mark.usefixtures("db")
def test_a_round_counts_once_and_condensing_twice_changes_nothing() -> None:
    for value in (5, 7):  # a second worker, at the same moment
        _values(START, {1: value})
    _condense(START + dt.timedelta(days=2))
    first = _points(1, DAY, DAY.start(START), START + dt.timedelta(days=1))
    with transaction() as session:
        session.connection().execute(text("insert into history_due values ('minute', :m), ('hour', :h), ('day', :d)"),
                                     {"m": START, "h": START, "d": DAY.start(START)})  # fmt: skip
    _condense(START + dt.timedelta(days=2))
    assert first == _points(1, DAY, DAY.start(START), START + dt.timedelta(days=1))
    assert (first[0].count, first[0].total) == (1, 5)


@pytest.mark.usefixtures("db")
def test_killed_between_any_two_steps_of_condensing_the_rest_is_done_later(monkeypatch: pytest.MonkeyPatch) -> None:
    for i in range(30):
        _values(START + dt.timedelta(seconds=240 * i), {1: i})
    done, plain = 0, history.condense_one

    class Killed(BaseException):
        pass

    def some(session: object, grain: Grain, at: dt.datetime) -> None:
        nonlocal done
        plain(session, grain, at)  # type: ignore[arg-type]
        done += 1
        if done % 3 == 0:
            raise Killed

    monkeypatch.setattr(history, "condense_one", some)
    for _ in range(60):
        try:
            _condense(START + dt.timedelta(days=2))
            break
        except Killed:
            continue
    (day,) = _points(1, DAY, DAY.start(START), START + dt.timedelta(days=1))
    assert (day.count, day.low, day.high, day.total) == (30, 0, 29, sum(range(30)))
    assert done > 33


@pytest.mark.usefixtures("db")
def test_a_clock_that_jumps_loses_nothing_and_counts_nothing_twice() -> None:
    """An hour back and again forward, then a year ahead by mistake and back: rounds at one moment are one."""
    moments = [*range(60), *range(30, 90)]
    for i in moments:
        _values(START + dt.timedelta(minutes=i), {1: i})
        _condense(START + dt.timedelta(minutes=i))
    wrong = START + dt.timedelta(days=365)
    _values(wrong, {1: 1000})
    _condense(wrong)  # everything old enough has gone from the fine tables
    for i in range(90, 100):
        _values(START + dt.timedelta(minutes=i), {1: i})
        _condense(START + dt.timedelta(minutes=i))
    _condense(START + dt.timedelta(days=2))
    (day,) = _points(1, DAY, DAY.start(START), START + dt.timedelta(days=1))
    # Of the hour that the mistake cut in two, the part that more is known of stands: never both, never twice.
    assert (day.low, day.high, day.count, day.total) == (0, 89, 90, sum(range(90)))


@pytest.mark.usefixtures("db")
def test_what_is_too_old_goes_and_never_before_it_is_condensed() -> None:
    _values(START, {1: 5})
    with transaction() as session:
        # A worker that was away for a month: first condensed, then dropped.
        assert history.drop_parts(session, START + dt.timedelta(days=30)) == ["history_minute_20260301"]
    later = START + dt.timedelta(days=30)
    _condense(later)
    with transaction() as session:
        there = set(
            session.connection()
            .execute(text("select relname from pg_class where relname ~ '^history_.*[0-9]{8}$'"))
            .scalars()
        )
    assert not any(name.startswith(("history_round", "history_minute")) for name in there)
    assert any(name.startswith("history_hour") for name in there)
    assert _points(1, DAY, DAY.start(START), later)[0].total == 5
    assert _points(1, ROUND, START, later) == []


# -- what is recorded ----------------------------------------------------------------------------------


def _round(at: dt.datetime = START) -> None:
    with transaction() as session:
        take_round(session, at)


@pytest.mark.usefixtures("db")
def test_what_is_recorded_is_what_the_books_say() -> None:
    at_once()
    drives = shelf(5)
    pool = build(drives[:4], "parity-1")
    fill(pool, 0.3)
    carry_all()
    _round()
    with transaction() as session:
        volume = session.exec(select(VolumeRow)).one()
        files = sum(f.extents for f in session.exec(select(SampleFile)))
        (held,) = load_holdings(session, [pool])
        used = used_on_drives(session)
        points = {
            series.id: load_points(session, series, [of], ROUND, START, START + dt.timedelta(minutes=1))[of]
            for series, of in ((GIVEN, pool), (FILES, volume.number), (USED, drives[0]), (USED, drives[4]))
        }
    assert held.account.given == volume.extents * EXTENT == points["pool-given"][0].total * EXTENT
    assert points["volume-files"][0].total == files > 10
    assert [v.files for v in held.volumes] == [files * EXTENT]
    # A thick volume has all rows it takes, redundancy included; a free drive has no value, not nought.
    assert used == dict.fromkeys(drives[:4], -(-volume.extents // 3))
    assert points["drive-used"] == []
    # After a replacement another drive has it.
    replace(pool, 0, drives[4])
    carry_all()
    with transaction() as session:
        assert set(used_on_drives(session)) == {*drives[1:5]}


@pytest.mark.usefixtures("db")
def test_nothing_is_worked_out_again_while_nothing_moves(monkeypatch: pytest.MonkeyPatch) -> None:
    at_once()
    pools = [build(shelf(3, name=n), "parity-1", name=n) for n in ("one", "two")]
    do("delete-volume", volume="one/v")
    do("make-volumes", pool="one", name="thin", size="10 GiB", thin=True)
    carry_all()
    asked: list[int] = []
    plain = watching._used_in
    monkeypatch.setattr(watching._used, "_work_out", lambda session, some: asked.extend(some) or plain(session, some))  # type: ignore[func-returns-value]

    def look() -> list[int]:
        asked.clear()
        with transaction() as session:
            used_on_drives(session)
        return sorted(asked)

    look()
    assert look() == []
    with transaction() as session:
        thin = session.exec(select(VolumeRow).where(VolumeRow.name == "thin")).one().number
    fill(pools[0], 0.5, thin)
    carry_all()
    assert look() == [pools[0]]
    assert look() == []


@pytest.mark.usefixtures("db")
def test_thin_spread_volumes_are_recorded_with_what_they_really_take() -> None:
    at_once()
    drives = shelf(6)
    do("build-pool", name="s", scheme="spread", drives=tuple(drives), domain="drive")
    do("make-volumes", pool="s", name="a", size="60 GiB", protection="parity-2:4", thin=True)
    do("make-volumes", pool="s", name="b", size="12 GiB", protection="copies-2")
    carry_all()
    with transaction() as session:
        volume = session.exec(select(VolumeRow).where(VolumeRow.name == "a")).one()
        fill_job = (volume.pool_id, volume.number)
    fill(fill_job[0], 0.5, fill_job[1])
    carry_all()
    with transaction() as session:
        (held,) = load_holdings(session)
        used = used_on_drives(session)
        files = sum(f.extents for f in session.exec(select(SampleFile)))
    a, b = held.volumes
    assert b.taken == 24 * GIB and b.given == 12 * GIB
    assert a.given >= files * EXTENT
    # Whole stripes of two extents of data each, and two of redundancy.
    assert a.taken == -(-files // 2) * 4 * EXTENT
    # What the account says is what lies on the drives, to the extent.
    assert held.account.given == sum(used.values()) * EXTENT
    assert held.account.over_commit == pytest.approx((120 + 24) * GIB / held.account.capacity)


@pytest.mark.usefixtures("db")
def test_a_volumes_history_and_threshold_go_with_it_to_another_pool() -> None:
    at_once()
    pools = [build(shelf(3, name=n), "parity-1", name=n) for n in ("one", "two")]
    do("delete-volume", volume="two/v")
    do("delete-volume", volume="one/v")
    do("make-volumes", pool="one", name="v", size="20 GiB")
    with transaction() as session:
        first = session.exec(select(VolumeRow)).one().number
        session.add(Threshold(volume_id=first, tell=0.5, urgent=0.6))
    fill(pools[0], 0.5)
    carry_all()
    _round()
    do("move-volume", volume="one/v", pool="two")
    carry_all()
    _round(START + dt.timedelta(seconds=10))
    with transaction() as session:
        volume = session.exec(select(VolumeRow).where(VolumeRow.pool_id == pools[1])).one()
        assert (volume.number != first, volume.recorded_as) == (True, first)
        assert session.exec(select(Threshold)).one().volume_id == volume.number
        points = load_points(session, FILES, [first], ROUND, START, START + dt.timedelta(minutes=1))[first]
    assert len(points) == 2
    assert points[0].total == points[1].total > 5


# -- thresholds and outlooks ---------------------------------------------------------------------------


def _look(watch: Watch) -> list[str]:
    before = _said()
    assert watch.look()
    return _said()[len(before) :]


def _said() -> list[str]:
    with transaction() as session:
        rows = session.exec(select(LogRow).where(LogRow.act == "threshold-crossed").order_by(LogRow.id))  # type: ignore[arg-type]
        return [r.sentence for r in rows]


@pytest.fixture
def clock() -> list[dt.datetime]:
    return [START]


def _watch(clock: list[dt.datetime]) -> Watch:
    def tick() -> dt.datetime:
        clock[0] += dt.timedelta(seconds=10)
        return clock[0]

    return Watch(tick)


@pytest.mark.usefixtures("db")
def test_each_crossing_is_told_once_whoever_watches(clock: list[dt.datetime]) -> None:
    at_once()
    pool = build(shelf(3), "parity-1")
    fill(pool, 0.85)
    carry_all()
    watch = _watch(clock)
    (said,) = _look(watch)
    assert "Volume v of p is 8" in said and "above 80 %" in said
    assert _look(watch) == [] == _look(_watch(clock))
    with transaction() as session:
        volume = session.exec(select(VolumeRow)).one().number
        session.add(Threshold(volume_id=volume, tell=0.5, urgent=0.7))
    (said,) = _look(watch)
    assert "above 70 %" in said
    with transaction() as session:
        opened = open_pool(session, pool)
        row = session.get_one(VolumeRow, volume)
        remove_files(session, opened, row, session.exec(select(SampleFile)).all())
    (said,) = _look(watch)
    assert said == "Volume v of p is 0 % full again, below 70 %."
    with transaction() as session:
        assert session.exec(select(Crossing)).all() == []


@pytest.mark.usefixtures("db")
def test_what_is_taken_away_while_it_is_looked_at_is_told_of_no_more() -> None:
    at_once()
    pool = build(shelf(3), "parity-1")
    fill(pool, 0.95)
    carry_all()

    def told(seen: list[PoolHolds]) -> tuple[list[str], int]:
        with transaction() as session:
            return look_at_thresholds(session, seen, START), work_out_outlooks(session, seen, START)

    with transaction() as session:
        with_volume = take_round(session, START).pools
    do("delete-volume", volume="p/v")
    with transaction() as session:
        without = take_round(session, START + dt.timedelta(minutes=1)).pools
    assert told(with_volume) == ([], 1), "the pool has an outlook, what was its volume none"
    with transaction() as session:
        assert still_there(session, PoolRow, [pool, pool + 1]) == {pool}
        with transaction() as other:
            other.connection().execute(text("set local lock_timeout = '50ms'"))
            with pytest.raises(OperationalError, match="lock timeout"):
                other.connection().execute(delete(PoolRow).where(col(PoolRow.id) == pool))
            other.rollback()
    do("take-apart", pool="p")
    assert told(with_volume) == told(without) == ([], 0)


@pytest.mark.usefixtures("db")
def test_a_pool_is_told_of_by_what_is_written_under_its_thin_volumes(clock: list[dt.datetime]) -> None:
    at_once()
    pool = build(shelf(3), "parity-1")
    watch = _watch(clock)
    # A thick volume over all of it is no pool that fills up.
    assert _look(watch) == []
    do("delete-volume", volume="p/v")
    with transaction() as session:
        (held,) = load_holdings(session, [pool])
    do("make-volumes", pool="p", name="t", size=f"{held.account.capacity // GIB} GiB", thin=True)
    assert _look(watch) == []
    fill(pool, 1)
    carry_all()
    pool_said, volume_said = _look(watch)
    assert "Pool p is 9" in pool_said.replace("100", "9") and "above 90 %" in pool_said and "Volume t" in volume_said


@pytest.mark.usefixtures("db")
def test_an_outlook_comes_after_a_week_and_is_worked_out_anew_when_there_is_more_room(
    clock: list[dt.datetime], monkeypatch: pytest.MonkeyPatch
) -> None:
    at_once()
    pool = build(shelf(3), "parity-1")
    with transaction() as session:
        volume = session.exec(select(VolumeRow)).one()
        number, room = volume.number, (volume.size - volume.overhead) / EXTENT

    def told() -> OutlookRow:
        with transaction() as session:
            return session.exec(select(OutlookRow).where(OutlookRow.volume_id == number)).one()

    use = [10]
    monkeypatch.setitem(watching._READ, "volume-files", lambda *_: {number: use[0] * EXTENT})
    for day in range(9):
        use[0] = 10 + 2 * day
        clock[0] = DAY.start(START) + dt.timedelta(days=day, hours=6)
        _look(_watch(clock))
        use[0] = 10 + 2 * (day + 1)
        clock[0] = DAY.start(START) + dt.timedelta(days=day + 1, seconds=30)
        _look(_watch(clock))
        assert told().days == day + 1
        assert (told().at is not None) == (day >= 6)
    found = told()
    assert found.at is not None and found.earliest is not None and found.growth == pytest.approx(2 * EXTENT)
    # 2 GiB a day, from 26 at the last day's middle.
    left = dt.timedelta(days=(room - 26) / 2) - (clock[0] - (DAY.start(START) + dt.timedelta(days=8.5)))
    assert abs((found.at - clock[0]) - left) < dt.timedelta(hours=1)
    # Nothing is worked out again within the hour, unless there is another room to fill.
    assert (_look(_watch(clock)), told().worked_out_at) == ([], found.worked_out_at)
    with transaction() as session:
        session.connection().execute(update(VolumeRow).values(overhead=0))
    _look(_watch(clock))
    assert told().worked_out_at > found.worked_out_at
    assert told().at > found.at  # type: ignore[operator]
    with transaction() as session:
        assert load_drives(session, [pool]) is not None

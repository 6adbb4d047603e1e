"""What watching costs with 10,000 drives in 500 pools: a round recorded, a year's chart, the first screen."""

from __future__ import annotations

import datetime as dt
import gc
import signal
import subprocess
import sys
import time

from bench.building import surroundings
from bench.common import line

DRIVES, POOLS = 10_000, 500
#: Longest a round, a year's chart and the first screen may take, seconds.
ROUND, CHART, TODAY = 1.0, 0.15, 0.2


def watching() -> None:
    """Rounds until they are worked out and then on and on; a year of days condensed; the first screen."""
    with surroundings():
        from sqlmodel import select

        from pairshelf.core.domain.drives import Drive, Kind
        from pairshelf.core.domain.inventory import DriveRecord
        from pairshelf.core.domain.units import EXTENT
        from pairshelf.core.layouts.model import Division
        from pairshelf.core.layouts.registry import layout_of
        from pairshelf.core.watching.series import BY_ID, GRAINS
        from pairshelf.engine.history import Seen, Watch, look_at_thresholds, take_round, work_out_outlooks
        from pairshelf.engine.readings import judge_drives
        from pairshelf.services.attending import attend
        from pairshelf.services.watching import history_of
        from pairshelf.store import clock
        from pairshelf.store.database import transaction
        from pairshelf.store.repositories import history
        from pairshelf.store.repositories.drives_and_pools import copy_records
        from pairshelf.store.tables import DriveRow, PoolPlace, PoolRow, SampleFile, VolumePiece, VolumeRow

        size = 14 * 10**12
        records = [DriveRecord(f"S{i // 20}", i % 20 + 1, f"D{i:05}", size, Kind.HDD, bays=20) for i in range(DRIVES)]
        layout = layout_of([Drive(str(i), size) for i in range(20)], "parity-2", Division(1, built=True))
        with transaction() as session:
            copy_records(session, records)
        with transaction() as session:
            session.connection().exec_driver_sql("update drive set service = 'in-use'")
            ids = list(session.exec(select(DriveRow.id).order_by(DriveRow.id)))  # type: ignore[arg-type]
            pools = [
                PoolRow(
                    name=f"p{i:03}", scheme="parity-2", sets=1, capacity=layout.data_extents, synced_to=layout.stripes
                )
                for i in range(POOLS)
            ]
            session.add_all(pools)
            session.flush()
            for number, pool in enumerate(pools):
                own = ids[number * 20 : number * 20 + 20]
                session.add_all(
                    PoolPlace(pool_id=pool.number, slot=slot, size=size, drive_id=drive)
                    for slot, drive in enumerate(own)
                )
                volumes = [
                    VolumeRow(
                        pool_id=pool.number, name=f"v{k}", size=2000 * EXTENT, extents=2000, thin=k == 1,
                        file_system="xfs", overhead=2 * EXTENT, uuid=f"{number}-{k}",
                    )
                    for k in range(4)
                ]  # fmt: skip
                session.add_all(volumes)
                session.flush()
                for k, volume in enumerate(volumes):
                    session.add(
                        VolumePiece(
                            pool_id=pool.number,
                            volume_id=volume.number,
                            at=0,
                            first=2000 * k,
                            count=1000 * (1 + (k != 1)),
                        )
                    )
                    session.add_all(
                        SampleFile(volume_id=volume.number, name=f"f{f}", first=2 + 60 * f, extents=60, checksum="-")
                        for f in range(5)
                    )

        seen, took, judged = Seen(), [], []
        at = clock.now()
        for number in range(8):
            began = time.perf_counter()
            then = at + dt.timedelta(seconds=10 * number)
            with transaction() as session:
                found = take_round(session, then, seen)
            with transaction() as session:
                look_at_thresholds(session, found.pools, then)
            judging = time.perf_counter()
            with transaction() as session:
                judge_drives(session, found.taken, then, seen.before)
            judged.append(time.perf_counter() - judging)
            with transaction() as session:
                work_out_outlooks(session, found.pools, then)
            took.append(time.perf_counter() - began)
        line("10,000 drives: the first round, all worked out", f"{took[0]:.2f} s")
        middle = sorted(took[1:])[3]
        line("10,000 drives: a round every ten seconds", f"{middle:.2f} s = {middle / ROUND:.2f} of allowed")
        began = time.perf_counter()
        Watch().condense(at + dt.timedelta(hours=3))
        line("  of that, their readings held against the rules", f"{sorted(judged[1:])[3]:.2f} s")
        line("condensed by the minute and the hour", f"{time.perf_counter() - began:.2f} s")

        # A year of days, as they would have been condensed.
        day = GRAINS[-1]
        with transaction() as session:
            raw = session.connection().connection.driver_connection
            for back in range(1, 366):
                then = day.start(at - dt.timedelta(days=back))
                history.make_parts(session, then)
            raw.execute(
                "insert into history_day (series, block, at, counts, lows, highs, totals) "
                "select s, b, date_trunc('day', now() at time zone 'utc') at time zone 'utc' - make_interval(days => d), "
                "array_fill(8640, array[256]), array_fill((1000 + d)::bigint, array[256]), array_fill((1100 + d)::bigint, array[256]), "
                "array_fill((1050::bigint + d) * 8640, array[256]) "
                "from generate_series(1, 365) d, (values (6, 40), (5, 8), (4, 8)) s(s, n), generate_series(0, n - 1) b"
            )
        took = []
        for drive in ids[::500]:
            began = time.perf_counter()
            with transaction() as session:
                points = history_of(session, BY_ID["drive-used"], drive or 0, dt.timedelta(days=365), None).points
            took.append(time.perf_counter() - began)
            assert len(points) >= 365
        slow = sorted(took)[int(len(took) * 0.95)]
        line("a year's chart of a drive, 95th percentile", f"{slow * 1000:.0f} ms = {slow / CHART:.2f} of allowed")

        # What was made here to be looked at is nothing that a server holds.
        del records, pools, layout, found
        gc.collect()
        gc.freeze()
        took = []
        for _ in range(60):
            began = time.perf_counter()
            with transaction() as session:
                attend(session, 24)
            took.append(time.perf_counter() - began)
        slow = sorted(took)[int(len(took) * 0.95)]
        line("the first screen, 500 pools, 95th percentile", f"{slow * 1000:.0f} ms = {slow / TODAY:.2f} of allowed")
        _beside()


def _beside() -> None:
    """Checks of a pool while 10,000 drives are watched and messages are seen to, against checks alone: by turns."""
    from sqlmodel import select

    from pairshelf.core.changes.pools.build_pool import BuildPool
    from pairshelf.core.domain.drives import Kind
    from pairshelf.core.domain.inventory import DriveRecord
    from pairshelf.engine import approver
    from pairshelf.engine.carry import carry
    from pairshelf.engine.jobs.check import start_check
    from pairshelf.engine.jobs.fill import start_fill
    from pairshelf.engine.pools import devices, open_pool
    from pairshelf.store.database import transaction
    from pairshelf.store.repositories.drives_and_pools import add_records
    from pairshelf.store.tables import Channel, JobRow, Service, Setting, User, VolumeRow

    records = [DriveRecord("X", i + 1, f"X{i}", 4 * 10**12, Kind.HDD, bays=6) for i in range(6)]
    with transaction() as session:
        session.merge(Setting(key="speed", value={"factor": 0}))
        ids = tuple(r.number for r in add_records(session, records, service=Service.FREE))
        user = User(name="ida", role="administrator", password_hash="-")
        session.add(user)
        session.flush()
        session.add(Channel(user_id=user.number, kind="mail", address="ida@house.example", urgencies=[0, 1]))
    with transaction() as session:
        sheet = approver.draw_up(
            session, "build-pool", BuildPool(name="x", scheme="parity-2", drives=ids, volume="w"), "ida"
        )
    with transaction() as session:
        approver.approve(session, sheet.number, "ida", "x", devices())
    with transaction() as session:
        jobs = list(session.exec(select(JobRow.id).where(JobRow.kind == "first-sync")))
    for job in jobs:
        carry(job or 0)
    with transaction() as session:
        volume = session.exec(select(VolumeRow).where(VolumeRow.name == "w")).one()
        job = start_fill(session, open_pool(session, volume.pool_id), volume, 0.3, "ida").number
        pool_id = volume.pool_id
    carry(job)
    done = {False: 0, True: 0}
    watcher = subprocess.Popen([sys.executable, "-m", "pairshelf.launch.watcher"])
    # Its first round works everything out.
    time.sleep(30)
    for number in range(4):
        watched = number % 2 == 1
        watcher.send_signal(signal.SIGCONT if watched else signal.SIGSTOP)
        until = time.perf_counter() + 21
        while time.perf_counter() < until:
            with transaction() as session:
                job = start_check(session, open_pool(session, pool_id), "ida").number
            carry(job)
            done[watched] += 1
    watcher.send_signal(signal.SIGCONT)
    watcher.terminate()
    watcher.wait(20)
    line("checks of a pool while 10,000 drives are watched", f"{done[True] / done[False]:.2f} as many as alone")


if __name__ == "__main__":
    watching()

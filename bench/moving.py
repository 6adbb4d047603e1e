"""What draining and moving cost: bytes moved against this machine's memory copies, and a shelf of 60 drives planned."""

from __future__ import annotations

import time
from typing import Any

from bench.building import BLOCK, surroundings
from bench.common import line
from bench.wiping import memory_copy_speed

#: The longest that a sheet for 60 drives among 1,000 may take, milliseconds.
PLANNED_MS = 500


def moving() -> None:
    """A spread pool's drive and a set's drive drained, a volume moved; then the sheet for a whole shelf."""
    with surroundings():
        from sqlmodel import col, select

        from pairshelf.core.changes.kinds import request_of
        from pairshelf.core.domain.drives import Kind
        from pairshelf.core.domain.inventory import DriveRecord
        from pairshelf.engine import approver
        from pairshelf.engine.carry import carry
        from pairshelf.engine.jobs.fill import start_fill
        from pairshelf.engine.pools import devices, open_pool
        from pairshelf.store.database import transaction
        from pairshelf.store.repositories.drives_and_pools import add_records
        from pairshelf.store.tables import JobRow, Service, Setting, VolumeRow

        def shelf(name: str, count: int, size: int) -> list[int]:
            records = [DriveRecord(name, i + 1, f"{name}-{i}", size, Kind.HDD, bays=200) for i in range(count)]
            with transaction() as session:
                return [r.id or 0 for r in add_records(session, records, service=Service.FREE)]

        def drawn(kind: str, **request: Any) -> int:
            with transaction() as session:
                return approver.draw_up(session, kind, request_of(kind, request), "bench").number

        def do(kind: str, **request: Any) -> int:
            sheet = drawn(kind, **request)
            with transaction() as session:
                row = approver.approve(session, sheet, "bench", _confirm(session, sheet), devices())[1]
                return row.pool_id or 0

        def _confirm(session: Any, sheet: int) -> str:
            from pairshelf.store.tables import SheetRow

            return session.get_one(SheetRow, sheet).body["confirm"] or ""

        def jobs(kind: str | None = None) -> list[JobRow]:
            with transaction() as session:
                query = select(JobRow).where(col(JobRow.state).not_in(("done", "failed"))).order_by(col(JobRow.id))
                return [j for j in session.exec(query) if kind in (None, j.kind)]

        def carried(kind: str | None = None) -> float:
            began = time.perf_counter()
            for job in jobs(kind):
                carry(job.number)
            return time.perf_counter() - began

        def filled(pool: int, share: float) -> None:
            with transaction() as session:
                volume = session.exec(select(VolumeRow).where(VolumeRow.pool_id == pool)).one()
                start_fill(session, open_pool(session, pool), volume, share, "bench")
            carried("fill")

        with transaction() as session:
            session.merge(Setting(key="speed", value={"factor": 0}))
        memory = memory_copy_speed()
        wide = do("build-pool", name="wide", scheme="spread", domain="drive", drives=tuple(shelf("S", 8, 4 * 10**12)), volume="v",
                  volume_size="8 TB", protection="parity-1:4", file_system="xfs")  # fmt: skip
        carried()
        filled(wide, 0.8)
        first = drawn("drain", drives=(1,))
        with transaction() as session:
            moved = open_pool(session, wide).layout.used_extents[0]
            approver.approve(session, first, "bench", "", devices())
        took = carried("drain")
        line(
            "a drive of a spread pool drained, of memory copy",
            f"{moved * BLOCK / took / memory:.3f} ({moved} in {took:.1f} s)",
        )
        herbs = do("build-pool", name="herbs", scheme="parity-2", drives=tuple(shelf("H", 6, 8 * 10**12)), volume="v",
                   volume_size="20 TB", file_system="xfs")  # fmt: skip
        carried()
        filled(herbs, 0.5)
        shelf("N", 2, 8 * 10**12)
        do("drain", drives=(9, 10))
        with transaction() as session:
            copied = 2 * open_pool(session, herbs).layout.used_extents[0]
        took = carried("copy")
        line(
            "two members of a set drained, of memory copy",
            f"{copied * BLOCK / took / memory:.3f} ({copied} in {took:.1f} s)",
        )
        do("build-pool", name="seeds", scheme="copies-2", drives=tuple(shelf("C", 2, 22 * 10**12)))
        carried()
        do("move-volume", volume="herbs/v", pool="seeds")
        with transaction() as session:
            extents = session.exec(select(VolumeRow.extents).where(VolumeRow.pool_id == herbs)).one()
        took = carried("move-volume")
        line(
            "a volume moved and compared, of memory copy",
            f"{extents * BLOCK / took / memory:.3f} ({extents} in {took:.1f} s)",
        )
        # A house of 1,000 drives: a shelf of 60 in ten pools is to go, and there are enough free ones.
        members = shelf("M", 60, 4 * 10**12)
        for number in range(10):
            do("build-pool", name=f"m{number}", scheme="parity-2", drives=tuple(members[6 * number : 6 * number + 6]))
        for number in range(15):
            shelf(f"F{number}", 60, 4 * 10**12)
        best = 10.0
        for _ in range(3):
            began = time.perf_counter()
            drawn("drain", shelves=("M",))
            best = min(best, time.perf_counter() - began)
        line("sheet to drain 60 of 1,000 drives", f"{best * 1000:.0f} ms [{PLANNED_MS}]")


if __name__ == "__main__":
    moving()

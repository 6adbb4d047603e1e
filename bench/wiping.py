"""What wiping costs: overwriting and reading back against this machine's memory copies, and 60 drives side by side."""

from __future__ import annotations

import time

import numpy as np
from sqlmodel import col, select

from bench.building import BLOCK, surroundings
from bench.common import line

#: The figures that are allowed: shares of memory-copy speed, and the screen's answer, milliseconds.
SHARE, SCREEN_MS = 0.5, 60


def memory_copy_speed() -> float:
    """Bytes a second that this machine copies in memory."""
    source, target = np.ones(2**28, np.uint8), np.zeros(2**28, np.uint8)
    best = min(_timed(lambda: np.copyto(target, source)) for _ in range(4))
    return source.nbytes / best


def _timed(work: object) -> float:
    began = time.perf_counter()
    work()  # type: ignore[operator]
    return time.perf_counter() - began


def wiping() -> None:
    """Eight drives of 18 TB through the interface, then 60 of them side by side."""
    with surroundings():
        from pairshelf.core.changes.kinds import request_of
        from pairshelf.core.domain.drives import Kind
        from pairshelf.core.domain.inventory import DriveRecord
        from pairshelf.engine import approver
        from pairshelf.engine.carry import carry
        from pairshelf.engine.pools import devices
        from pairshelf.store.database import transaction
        from pairshelf.store.repositories.drives_and_pools import add_records
        from pairshelf.store.tables import JobRow, Service, Setting, WipeRow

        def lot(name: str, count: int, size: int) -> int:
            records = [DriveRecord(name, i + 1, f"{name}{i}", size, Kind.HDD, bays=200) for i in range(count)]
            with transaction() as session:
                ids = [r.id or 0 for r in add_records(session, records, service=Service.FREE)]
            for r in records:
                devices().be(r.serial, size, Kind.HDD, commands=[], protected=0, reassigned=[])
                devices().open(r.serial, size).write(0, bytes(BLOCK))
            with transaction() as session:
                sheet = approver.draw_up(
                    session, "wipe", request_of("wipe", {"drives": ids, "category": "clear"}), "bench"
                )
            with transaction() as session:
                approver.approve(session, sheet.number, "bench", sheet.body["confirm"], devices())
            with transaction() as session:
                return session.exec(select(JobRow.id).order_by(col(JobRow.id).desc())).first() or 0

        def left(job: int) -> tuple[bool, bool]:
            """Whether any is still being erased, and whether any is open."""
            with transaction() as session:
                rows = session.exec(select(WipeRow).where(WipeRow.job_id == job)).all()
            return any(w.cursor < w.erasing for w in rows), any(w.state == "open" for w in rows)

        with transaction() as session:
            session.merge(Setting(key="speed", value={"factor": 0}))
        memory = memory_copy_speed()
        size, rows, count = 18 * 10**12, 16_763, 8
        job = lot("W", count, size)
        times = {True: 0.0, False: 0.0}
        while True:
            erasing, open_ones = left(job)
            if not open_ones:
                break
            steps = [1]

            def stop(steps: list[int] = steps) -> bool:
                steps[0] -= 1
                return steps[0] < 0

            began = time.perf_counter()
            carry(job, stop=stop)
            times[erasing] += time.perf_counter() - began
        moved = count * rows * BLOCK
        for what, erasing in (("overwriting", True), ("reading back", False)):
            line(
                f"{what} 8 drives of 18 TB, of memory-copy speed",
                f"{moved / times[erasing] / memory:.2f} [{SHARE}] in {times[erasing]:.1f} s",
            )
        job = lot("S", 60, 4 * 10**12)
        from pairshelf.api.disposal import _lot

        slowest, began = 0.0, time.perf_counter()
        while left(job)[1]:
            steps = [1]

            def stop_too(steps: list[int] = steps) -> bool:
                steps[0] -= 1
                return steps[0] < 0

            carry(job, stop=stop_too)
            with transaction() as session:
                slowest = max(slowest, _timed(lambda: _lot(session, job)))
        line("60 drives of 4 TB side by side", f"{time.perf_counter() - began:.1f} s")
        line("  what the screen asks meanwhile, slowest", f"{slowest * 1000:.0f} ms [{SCREEN_MS}]")


if __name__ == "__main__":
    wiping()

"""What growing costs: a restripe against this machine's copying, sheets and ways on an estate of 1,000 drives."""

from __future__ import annotations

from sqlmodel import select

from bench.building import BLOCK, copy_speed, surroundings, timed
from bench.common import line

#: The figures that are allowed: share of copy speed; seconds.
SHARE, SHEET_SECONDS, WAYS_SECONDS = 0.3, 0.2, 0.3


def growing() -> None:
    """Seven drives of 18 TB and one more: everything restriped. Then the estate of 1,000 drives, 60 of them free."""
    with surroundings() as folder:
        from pairshelf.core.changes.kinds import request_of
        from pairshelf.core.domain.drives import Kind
        from pairshelf.core.domain.inventory import DriveRecord
        from pairshelf.engine import approver
        from pairshelf.engine.carry import carry
        from pairshelf.engine.pools import devices
        from pairshelf.services.growing import growth_of
        from pairshelf.store.database import transaction
        from pairshelf.store.repositories.drives_and_pools import add_records
        from pairshelf.store.tables import JobRow, Service, Setting

        def shelf(name: str, count: int, size: int) -> list[int]:
            records = [DriveRecord(name, i + 1, f"{name}{i}", size, Kind.HDD) for i in range(count)]
            with transaction() as session:
                return [r.id or 0 for r in add_records(session, records, service=Service.FREE)]

        def draw(kind: str, **request: object) -> int:
            with transaction() as session:
                return approver.draw_up(session, kind, request_of(kind, request), "bench").number

        def approve(sheet: int, confirm: str) -> int:
            with transaction() as session:
                return approver.approve(session, sheet, "bench", confirm, devices())[1].pool_id or 0

        def carry_all() -> None:
            with transaction() as session:
                jobs = [j.number for j in session.exec(select(JobRow).where(JobRow.state == "waiting"))]
            for job in jobs:
                carry(job)

        with transaction() as session:
            session.merge(Setting(key="speed", value={"factor": 0}))
        copy = copy_speed(folder)
        size, rows = 18 * 10**12, 16_763
        pool = approve(draw("build-pool", name="g", scheme="parity-2", drives=shelf("G", 7, size)), "g")
        carry_all()
        sheet = draw("add-drives", pool="g", drives=shelf("H", 1, size))
        approve(sheet, "g")
        took = timed(carry_all)
        # Read once as data, written once with redundancy: 5 of 7, and 8 of 8 over as many rows.
        moved = (rows * 5 + rows * 8) * BLOCK / 2
        line(
            "restripe of 7 drives of 18 TB to 8, of copy speed", f"{moved / took / copy:.2f} [{SHARE}] in {took:.1f} s"
        )
        shelf("F", 60, size)
        shelf("U", 932, size)
        free = list(range(9, 69))
        for kind, request in (
            ("add-drives", {"pool": "g", "drives": free[:1]}), ("add-sets", {"pool": "g", "drives": free[:8]}),
            ("convert-pool", {"pool": "g", "scheme": "parity-3", "drives": free[:1]}),
            ("replace-drive", {"pool_id": pool, "slot": 0, "drive_id": free[0]}),
        ):  # fmt: skip
            once = min(timed(lambda: draw(kind, **request)) for _ in range(5))  # noqa: B023
            line(f"  sheet {kind}, 1,000 drives", f"{once * 1000:.0f} ms [{SHEET_SECONDS * 1000:.0f}]")

        def ways() -> None:
            with transaction() as session:
                growth_of(session, pool, free, devices())

        line(
            "  ways to grow, 60 free drives",
            f"{min(timed(ways) for _ in range(5)) * 1000:.0f} ms [{WAYS_SECONDS * 1000:.0f}]",
        )


if __name__ == "__main__":
    growing()

"""What runs, as the question whether power may go off needs it."""

from __future__ import annotations

from collections.abc import Collection

from sqlmodel import Session, col, or_, select

from pairshelf.core.disposal.methods import METHODS
from pairshelf.core.domain.estate import EstatePool
from pairshelf.core.policies.switching_off import Answer, Going, may_go_off
from pairshelf.engine.jobs.kinds import JOBS
from pairshelf.store.database import among
from pairshelf.store.tables import JobRow, JobState, WipeRow


def answer(session: Session, pools: Collection[EstatePool], drives: Collection[int]) -> Answer:
    """Whether power may go off for these drives; ``pools`` are those that have some of them."""
    names = {p.id: p.name for p in pools}
    rows = session.exec(
        select(JobRow).where(
            or_(among(JobRow.pool_id, list(names)), JobRow.kind == "wipe"),
            col(JobRow.state).not_in((JobState.DONE, JobState.FAILED)),
        ).order_by(col(JobRow.id))
    ).all()  # fmt: skip
    erasing: dict[int | None, list[int]] = {}
    for wipe in session.exec(select(WipeRow).where(WipeRow.state == "open", col(WipeRow.started_at).is_not(None))):
        method = METHODS.get(wipe.method)
        if method is not None and method.command is not None and wipe.cursor < wipe.erasing:
            erasing.setdefault(wipe.job_id, []).append(wipe.drive_id)
    going = [
        Going(
            j.kind, JOBS[j.kind].name + (f" of {names[j.pool_id]}" if j.pool_id in names else ""), j.pool_id,
            max(0.0, j.seconds - j.spent), tuple(erasing.get(j.id, ())),
        )
        for j in rows
    ]  # fmt: skip
    return may_go_off(list(pools), set(drives), going)

"""What runs, as the question whether power may go off needs it."""

from __future__ import annotations

from collections.abc import Collection

from sqlmodel import Session, col, or_, select

from pairshelf.core.disposal.methods import METHODS
from pairshelf.core.domain.estate import EstatePool
from pairshelf.core.errors import BadInput, NotFound
from pairshelf.core.policies.switching_off import Going, PowerMayGo, may_go_off
from pairshelf.engine.jobs.kinds import JOBS
from pairshelf.store.database import among
from pairshelf.store.repositories.drives_and_pools import load_pools
from pairshelf.store.tables import DriveRow, Host, JobRow, JobState, PoolPlace, Shelf, Site, WipeRow

#: What has power.
POWERED = ("drive", "shelf", "host", "site", "everything")
#: Drives looked at, of a site or everything.
_MOST = 20_000


def drives_in(session: Session, kind: str, name: str) -> list[int]:
    """The drives that stand in something: a drive by its serial, a shelf by its name or site/name, a host, a site,
    everything; none of what is something else."""
    statement = select(DriveRow.id)
    if kind == "drive":
        statement = statement.where(DriveRow.serial == name)
    elif kind in ("shelf", "host", "site", "everything"):
        statement = statement.join(Shelf, col(Shelf.id) == DriveRow.shelf_id)
        statement = statement.join(Site, col(Site.id) == Shelf.site_id)
        site, _, shelf = name.rpartition("/")
        if kind == "shelf":
            statement = statement.where(Shelf.name == shelf)
            statement = statement.where(Site.name == site) if site else statement
        elif kind == "host":
            statement = statement.join(Host, col(Host.id) == Shelf.host_id).where(Host.name == name)
        elif kind == "site":
            statement = statement.where(Site.name == name)
    else:
        return []
    return [i for i in session.exec(statement.limit(_MOST)) if i is not None]


def ask(session: Session, kind: str, name: str) -> PowerMayGo:
    """Whether power may go off for a drive, a shelf, a host, a site, everything. BadInput for what has none, NotFound
    where nothing stands there."""
    if kind not in POWERED:
        raise BadInput(f"Power goes off for {', '.join(POWERED)}.", field="kind")
    drives = drives_in(session, kind, name)
    if not drives:
        raise NotFound(kind, name, field="name")
    pools = set(session.exec(select(PoolPlace.pool_id).where(among(PoolPlace.drive_id, drives))))
    return answer(session, load_pools(session, pools), drives)


def answer(session: Session, pools: Collection[EstatePool], drives: Collection[int]) -> PowerMayGo:
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

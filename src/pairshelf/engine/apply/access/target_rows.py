"""The rows of a target: its disks, and who is let in."""

from __future__ import annotations

from sqlmodel import Session, col, select

from pairshelf.core.changes.access.serving_disks import TargetPlan
from pairshelf.engine.apply.outcome import Outcome
from pairshelf.engine.mount_table import find_volume
from pairshelf.store.tables import Initiator, Target, TargetLun, TargetRight, ids


def write_target(session: Session, row: Target, planned: TargetPlan) -> Outcome:
    target = planned.target
    pool_id = None
    there = {
        (lun.lun, lun.volume_id): lun for lun in session.exec(select(TargetLun).where(TargetLun.target_id == row.id))
    }
    disks = {(number, find_volume(session, ref).number): find_volume(session, ref) for number, ref in target.luns}
    for gone in set(there) - set(disks):
        session.delete(there[gone])
    session.flush()
    for (number, volume_id), volume in disks.items():
        pool_id = volume.pool_id
        if (number, volume_id) not in there:
            session.add(TargetLun(target_id=row.number, lun=number, volume_id=volume_id))
    names = [n for n, _ in target.initiators]
    wanted = set(session.exec(select(ids(Initiator)).where(col(Initiator.iqn).in_(names))))
    let_in = session.exec(select(TargetRight).where(TargetRight.target_id == row.id)).all()
    for right in let_in:
        if right.initiator_id not in wanted:
            session.delete(right)
    for initiator in wanted - {r.initiator_id for r in let_in}:
        session.add(TargetRight(target_id=row.number, initiator_id=initiator))
    session.flush()
    return Outcome(pool_id)

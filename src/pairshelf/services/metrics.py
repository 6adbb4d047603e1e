"""What the house says of itself to machines that ask, and the token they ask with."""

from __future__ import annotations

import hashlib
import hmac
import secrets
from collections import Counter

from sqlmodel import Session, col, select

from pairshelf.core.policies.attention import Gravity
from pairshelf.core.watching.glance import Glance
from pairshelf.engine.log import log
from pairshelf.formats.open_metrics import Family, open_metrics
from pairshelf.services.attending import attend, worker_away
from pairshelf.services.matching import drives_listed
from pairshelf.services.watching import volumes_at_a_glance
from pairshelf.store.tables import Condition, JobRow, Setting

_KEY = "metrics-token"
_STATES = ("healthy", "degraded", "unprotected", "lost", "unreachable")


def make_token(session: Session, who: str) -> str:
    """A new token, shown this once; the one before no longer opens."""
    token = secrets.token_urlsafe(32)
    session.merge(Setting(key=_KEY, value={"sha256": _digest(token)}))
    log(session, who, "metrics-token", "", "A new token for reading metrics was made.")
    return token


def drop_token(session: Session, who: str) -> None:
    """Nobody reads metrics from now on."""
    row = session.get(Setting, _KEY)
    if row is not None:
        session.delete(row)
        log(session, who, "metrics-token", "", "The token for reading metrics was taken away.")


def has_token(session: Session) -> bool:
    """Whether there is a token."""
    return session.get(Setting, _KEY) is not None


def opens(session: Session, token: str) -> bool:
    """Whether that is the token."""
    row = session.get(Setting, _KEY)
    return row is not None and hmac.compare_digest(row.value["sha256"], _digest(token))


def _digest(token: str) -> str:
    return hashlib.sha256(token.encode()).hexdigest()


def metrics(session: Session) -> str:
    """Every pool, volume and drive, and what needs a person, in the OpenMetrics text format."""
    found = attend(session)
    return open_metrics([
        *_pools(found.glances), *_volumes(session), *_drives(session),
        *_house(session, Counter(m.gravity for m in found.matters)),
    ])  # fmt: skip


def _pools(glances: list[Glance]) -> list[Family]:
    capacity = Family("pairshelf_pool_capacity_bytes", "What a pool holds.", "bytes")
    given = Family("pairshelf_pool_given_bytes", "Given to its volumes, of thin ones what was written.", "bytes")
    files = Family("pairshelf_pool_files_bytes", "Taken by files on its volumes.", "bytes")
    promised = Family("pairshelf_pool_promised_bytes", "The whole sizes of its volumes.", "bytes")
    back = Family("pairshelf_pool_reclaimable_bytes", "What would come back on reclaim.", "bytes")
    state = Family("pairshelf_pool_state", "The state of a pool.", type="stateset")
    left = Family("pairshelf_pool_failures_left", "Failures it survives yet, whichever they are.")
    checked = Family("pairshelf_pool_checked_timestamp_seconds", "When it was last checked.", "seconds")
    full = Family("pairshelf_pool_full_timestamp_seconds", "When it, or its first volume, will be full.", "seconds")
    for g in glances:
        held = g.account
        capacity.add(held.capacity, pool=g.name)
        given.add(held.given, pool=g.name)
        files.add(held.files, pool=g.name)
        promised.add(held.committed, pool=g.name)
        back.add(held.reclaimable, pool=g.name)
        state.add_state(g.state, _STATES, pool=g.name)
        left.add(g.may_fail, pool=g.name)
        checked.add(g.checked_at.timestamp() if g.checked_at else None, pool=g.name)
        full.add(g.outlook.at.timestamp() if g.outlook and g.outlook.at else None, pool=g.name)
    return [capacity, given, files, promised, back, state, left, checked, full]


def _volumes(session: Session) -> list[Family]:
    room = Family("pairshelf_volume_room_bytes", "What files on a volume can take.", "bytes")
    files = Family("pairshelf_volume_files_bytes", "What files on a volume take.", "bytes")
    given = Family("pairshelf_volume_given_bytes", "What its pool has given it.", "bytes")
    for pool, seen in volumes_at_a_glance(session):
        held = seen.holds
        room.add(held.for_files, pool=pool, volume=held.name)
        files.add(held.files, pool=pool, volume=held.name)
        given.add(held.given, pool=pool, volume=held.name)
    return [room, files, given]


def _drives(session: Session) -> list[Family]:
    size = Family("pairshelf_drive_size_bytes", "The size of a drive.", "bytes")
    used = Family("pairshelf_drive_used_bytes", "What stands on a member of a pool.", "bytes")
    condition = Family("pairshelf_drive_condition", "The condition of a drive.", type="stateset")
    for drive, taken in drives_listed(session, ""):
        labels = {
            "serial": drive.serial,
            "shelf": drive.shelf or "",
            "bay": str(drive.bay or ""),
            "pool": drive.pool or "",
        }
        size.add(drive.size, **labels)
        used.add(taken, **labels)
        condition.add_state(drive.condition, [c.value for c in Condition], **labels)
    return [size, used, condition]


def _house(session: Session, needs: Counter[Gravity]) -> list[Family]:
    matters = Family("pairshelf_matters", "What needs a person, by how much it presses.")
    for gravity in Gravity:
        matters.add(needs[gravity], gravity=gravity.name.lower())
    jobs = Family("pairshelf_jobs", "Jobs that have not ended.")
    kinds = Counter(session.exec(select(JobRow.kind).where(col(JobRow.state).not_in(("done", "failed")))))
    for kind, count in sorted(kinds.items()):
        jobs.add(count, kind=kind)
    worker = Family("pairshelf_worker_present", "Whether a worker gives signs of life.")
    worker.add(float(not worker_away(session)))
    return [matters, jobs, worker]

"""What the house says of itself to machines that ask, and the token they ask with."""

from __future__ import annotations

import hmac
import secrets
from collections import Counter
from collections.abc import Callable, Sequence

from prometheus_client.core import GaugeMetricFamily, Metric, StateSetMetricFamily
from prometheus_client.openmetrics.exposition import CONTENT_TYPE_LATEST, generate_latest
from sqlmodel import Session, col, select

from pairshelf.core.policies.attention import Gravity
from pairshelf.core.watching.glance import Glance
from pairshelf.engine.log import log
from pairshelf.engine.signs import WATCHER, WORKER, away
from pairshelf.services.accounts import digest
from pairshelf.services.attending import attend
from pairshelf.services.matching import drives_listed
from pairshelf.services.watching import volumes_at_a_glance
from pairshelf.store.tables import Condition, JobRow, Setting

MEDIA_TYPE: str = CONTENT_TYPE_LATEST
_KEY = "metrics-token"
_STATES = ("healthy", "degraded", "unprotected", "lost", "unreachable")


def make_token(session: Session, who: str) -> str:
    """A new token, shown this once; the one before no longer opens."""
    token = secrets.token_urlsafe(32)
    session.merge(Setting(key=_KEY, value={"sha256": digest(token)}))
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
    return row is not None and hmac.compare_digest(row.value["sha256"], digest(token))


class _Found:
    """Families as the library's writer takes them."""

    def __init__(self, families: Sequence[Metric]) -> None:
        self._families = families

    def collect(self) -> Sequence[Metric]:
        """All of them."""
        return self._families


def metrics(session: Session) -> str:
    """Every pool, volume and drive, and what needs a person, in the OpenMetrics text format."""
    found = attend(session)
    text: bytes = generate_latest(_Found([
        *_pools(found.glances), *_volumes(session), *_drives(session),
        *_house(session, Counter(m.gravity for m in found.matters)),
    ]))  # type: ignore[arg-type, no-untyped-call]  # fmt: skip
    return text.decode()


def _gauge(name: str, about: str, *labels: str, unit: str = "") -> GaugeMetricFamily:
    return GaugeMetricFamily(name, about, labels=labels, unit=unit)


def _pools(glances: list[Glance]) -> list[Metric]:
    figures: list[tuple[GaugeMetricFamily, Callable[[Glance], float | None]]] = [
        (_gauge("pairshelf_pool_capacity", "What a pool holds.", "pool", unit="bytes"), lambda g: g.account.capacity),
        (_gauge("pairshelf_pool_given", "Given to its volumes, of thin ones what was written.", "pool", unit="bytes"),
         lambda g: g.account.given),
        (_gauge("pairshelf_pool_files", "Bytes of files on its volumes, each once.", "pool", unit="bytes"), lambda g: g.account.files),
        (_gauge("pairshelf_pool_promised", "The whole sizes of its volumes.", "pool", unit="bytes"),
         lambda g: g.account.committed),
        (_gauge("pairshelf_pool_reclaimable", "What would come back on reclaim.", "pool", unit="bytes"),
         lambda g: g.account.reclaimable),
        (_gauge("pairshelf_pool_failures_left", "Failures it survives yet, whichever they are.", "pool"), lambda g: g.may_fail),
        (_gauge("pairshelf_pool_checked_timestamp", "When it was last checked.", "pool", unit="seconds"),
         lambda g: g.checked_at.timestamp() if g.checked_at else None),
        (_gauge("pairshelf_pool_full_timestamp", "When it, or its first volume, will be full.", "pool", unit="seconds"),
         lambda g: g.outlook.at.timestamp() if g.outlook and g.outlook.at else None),
    ]  # fmt: skip
    state = StateSetMetricFamily("pairshelf_pool_state", "The state of a pool.", labels=["pool"])
    for g in glances:
        for family, figure in figures:
            # What is not known is left out, never nought.
            if (value := figure(g)) is not None:
                family.add_metric([g.name], value)
        state.add_metric([g.name], {one: one == g.state for one in _STATES})
    return [*(family for family, _ in figures), state]


def _volumes(session: Session) -> list[Metric]:
    room = _gauge("pairshelf_volume_room", "What files on a volume can take.", "pool", "volume", unit="bytes")
    files = _gauge("pairshelf_volume_files", "What files on a volume take.", "pool", "volume", unit="bytes")
    given = _gauge("pairshelf_volume_given", "What its pool has given it.", "pool", "volume", unit="bytes")
    for pool, seen in volumes_at_a_glance(session):
        held, labels = seen.holds, [pool, seen.holds.name]
        room.add_metric(labels, held.for_files)
        files.add_metric(labels, held.files)
        given.add_metric(labels, held.given)
    return [room, files, given]


def _drives(session: Session) -> list[Metric]:
    names = ("serial", "shelf", "bay", "pool")
    size = _gauge("pairshelf_drive_size", "The size of a drive.", *names, unit="bytes")
    used = _gauge("pairshelf_drive_used", "What stands on a member of a pool.", *names, unit="bytes")
    condition = StateSetMetricFamily("pairshelf_drive_condition", "The condition of a drive.", labels=names)
    for drive, taken in drives_listed(session, ""):
        labels = [drive.serial, drive.shelf or "", str(drive.bay or ""), drive.pool or ""]
        size.add_metric(labels, drive.size)
        if taken is not None:
            used.add_metric(labels, taken)
        condition.add_metric(labels, {c.value: c.value == drive.condition for c in Condition})
    return [size, used, condition]


def _house(session: Session, needs: Counter[Gravity]) -> list[Metric]:
    matters = _gauge("pairshelf_matters", "What needs a person, by how much it presses.", "gravity")
    for gravity in Gravity:
        matters.add_metric([gravity.name.lower()], needs[gravity])
    jobs = _gauge("pairshelf_jobs", "Jobs that have not ended.", "kind")
    kinds = Counter(session.exec(select(JobRow.kind).where(col(JobRow.state).not_in(("done", "failed")))))
    for kind, count in sorted(kinds.items()):
        jobs.add_metric([kind], count)
    missing = away(session)
    worker = _gauge("pairshelf_worker_present", "Whether a worker gives signs of life.")
    worker.add_metric([], float(WORKER not in missing))
    watcher = _gauge("pairshelf_watcher_present", "Whether who keeps watch gives signs of life.")
    watcher.add_metric([], float(WATCHER not in missing))
    return [matters, jobs, worker, watcher]

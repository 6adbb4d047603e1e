"""When drives count as failing, and what is known of how they are."""

from __future__ import annotations

from collections.abc import Collection

from sqlmodel import Session, select

from pairshelf.core.domain.drives import Kind
from pairshelf.core.watching.failing import Limits
from pairshelf.store.database import among, tell
from pairshelf.store.tables import DriveHealth, Setting

_KEY = "failing-rules"


def load_limits(session: Session) -> Limits:
    """The limits of all rules."""
    row = session.get(Setting, _KEY)
    if row is None:
        return Limits()
    return Limits({(Kind(kind), rule): limit for kind, rules in row.value.items() for rule, limit in rules.items()})


def store_limits(session: Session, limits: Limits) -> None:
    """Keep the limits that are not the usual ones."""
    value: dict[str, dict[str, float | None]] = {}
    for (kind, rule), limit in limits.changed.items():
        value.setdefault(kind.value, {})[rule] = limit
    session.merge(Setting(key=_KEY, value=value))
    tell(session, "setting")


def load_health(session: Session, drive_ids: Collection[int]) -> dict[int, DriveHealth]:
    """What is known of these drives; those of which nothing is are not in it."""
    return {h.drive_id: h for h in session.exec(select(DriveHealth).where(among(DriveHealth.drive_id, drive_ids)))}

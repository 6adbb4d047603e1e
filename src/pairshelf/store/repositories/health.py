"""When drives count as failing."""

from __future__ import annotations

from sqlmodel import Session

from pairshelf.core.domain.drives import Kind
from pairshelf.core.watching.failing import Limits
from pairshelf.store.database import tell
from pairshelf.store.tables import Setting

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

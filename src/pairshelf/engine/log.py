"""Writing the logbook: who did what when, in the transaction that did it."""

from __future__ import annotations

from typing import Any

from sqlmodel import Session

from pairshelf.store.tables import LogRow

#: Who, when nobody in particular did it.
SYSTEM = "Pair Shelf"


def log(session: Session, who: str, act: str, about: str, sentence: str, **facts: Any) -> None:
    """One entry; it is there if and only if what it tells of is."""
    session.add(LogRow(who=who, act=act, about=about, sentence=sentence, facts=facts))

"""Drives brought in from lists."""

from __future__ import annotations

from sqlmodel import Session

from pairshelf.engine.log import log
from pairshelf.formats.inventory_csv import Reading
from pairshelf.store.repositories.drives_and_pools import add_records


def store_list(session: Session, reading: Reading, who: str, name: str) -> None:
    """Store what was read, and say so in the logbook."""
    add_records(session, [record for _, record in reading.rows])
    count = len(reading.rows)
    log(
        session,
        who,
        "drives-imported",
        name,
        f"{count} drive{'s' if count > 1 else ''} brought in from {name[:80]}.",
        drives=count,
    )

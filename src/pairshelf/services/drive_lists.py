"""Drives brought in from lists."""

from __future__ import annotations

from sqlmodel import Session

from pairshelf.core.domain.inventory import Differences
from pairshelf.engine.log import log
from pairshelf.formats.inventory_csv import UnderstoodFile
from pairshelf.store.repositories.drives_and_pools import change_records, copy_records


def store_list(session: Session, reading: UnderstoodFile, found: Differences, who: str, name: str) -> None:
    """Store what is new in a list and put right what has changed, and say so in the logbook."""
    if found.new:
        copy_records(session, found.new)
    by_serial = {record.serial: record for _, record in reading.rows}
    if found.changed:
        change_records(session, [by_serial[c.serial] for c in found.changed])
    count = len(found.new)
    changed = f", {len(found.changed)} put right" if found.changed else ""
    log(
        session, who, "drives-imported", name, f"{count} drive{'' if count == 1 else 's'} brought in from {name[:80]}{changed}.",
        drives=count, changed={c.serial: [list(f) for f in c.facts] for c in found.changed[:200]},
    )  # fmt: skip

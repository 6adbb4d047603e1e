"""What drives report of themselves, taken every ten seconds and held against the rules by which they count as failing."""

from __future__ import annotations

import datetime as dt
from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass, field
from typing import Any

import numpy as np
from sqlalchemy import case
from sqlalchemy.dialects.postgresql import insert
from sqlmodel import Session, col

from pairshelf.core.domain.device import Devices, Questioned
from pairshelf.core.domain.drives import Kind
from pairshelf.core.watching.failing import (
    LOOKED_BACK_AT,
    Array,
    Health,
    Judged,
    Limits,
    RuleFacts,
    judge,
    scanned_since,
    unread,
)
from pairshelf.core.watching.readings import READING, Told, readings_of
from pairshelf.core.watching.series import HOUR, Series, start_of
from pairshelf.engine.log import SYSTEM, log
from pairshelf.store.database import pick
from pairshelf.store.repositories import history
from pairshelf.store.repositories.health import load_limits
from pairshelf.store.tables import DriveHealth, DriveRow, Service, Shelf

_KINDS = {kind.value: kind for kind in Kind}


@dataclass(slots=True)
class KindReadings:
    """The readings of all drives of a kind that answer, side by side."""

    drives: list[int] = field(default_factory=list)
    told: list[Told] = field(default_factory=list)
    most_celsius: list[float | None] = field(default_factory=list)

    def column(self, reading: str) -> Array:
        """One reading of all of them; NaN where it was not told."""
        return np.array([t.get(reading, np.nan) for t in self.told], np.float64)


@dataclass(slots=True)
class ReadingRound:
    """What was reported in a round."""

    lots: dict[Kind, KindReadings]

    def of_series(self, series: Series) -> dict[int, int]:
        """The values of a series, by drive; in its whole numbers."""
        reading = series.id.removeprefix("drive-")
        return {
            drive: told[reading]
            for lot in self.lots.values()
            for drive, told in zip(lot.drives, lot.told, strict=True)
            if reading in told
        }


@dataclass(slots=True)
class Before:
    """What readings were some days ago, kept for an hour of the house's clock."""

    hour: dt.datetime | None = None
    lows: dict[tuple[str, int], dict[int, int]] = field(default_factory=dict)
    limits: Limits = field(default_factory=Limits)
    #: What each drive reported, and what was known of it, when it was judged last.
    judged: dict[int, tuple[Told, Any]] = field(default_factory=dict)

    def look_back(self, session: Session, at: dt.datetime, drives: Sequence[int]) -> None:
        """Work it out anew where the hour is another one; judge anew where that or the limits are."""
        hour, limits = start_of(at, HOUR), load_limits(session)
        if hour != self.hour or limits != self.limits:
            self.judged = {}
        self.limits = limits
        if hour == self.hour:
            return
        self.hour, self.lows = hour, {}
        for days in {days for _, days in LOOKED_BACK_AT}:
            own = {reading: READING[reading].series for reading, back in LOOKED_BACK_AT if back == days}
            several = [s for s in own.values() if s is not None]
            lows = history.load_lows(session, several, at - dt.timedelta(days=days), at, drives)
            self.lows |= {(reading, days): lows[s.id] for reading, s in own.items() if s is not None}


def take_readings(session: Session, world: Devices, at: dt.datetime) -> ReadingRound:
    """What every drive in the house reports at a moment; of one that does not answer, nothing."""
    query = pick(
        DriveRow.id, DriveRow.serial, DriveRow.size, DriveRow.kind, DriveRow.in_service, DriveRow.rated_writes,
        DriveRow.max_temperature,
    ).where(DriveRow.service != Service.RETIRED)  # fmt: skip
    rows = session.connection().execute(query).all()
    found = world.readings([Questioned(r[1], r[2], _KINDS[r[3]], r[4], r[5]) for r in rows], at)
    lots: dict[Kind, KindReadings] = defaultdict(KindReadings)
    for number, serial, _, kind, *_, most_celsius in rows:
        if (told := found.get(serial)) is not None:
            lot = lots[_KINDS[kind]]
            lot.drives.append(number)
            lot.told.append(told)
            lot.most_celsius.append(most_celsius)
    return ReadingRound(dict(lots))


def facts_of(kind: Kind, lot: KindReadings, before: Before, scanned: Sequence[bool]) -> RuleFacts:
    """What the rules look at, of drives of a kind."""
    return RuleFacts(
        {r.id: lot.column(r.id) for r in readings_of(kind)},
        {
            key: np.array([before.lows.get(key, {}).get(d, np.nan) for d in lot.drives], np.float64)
            for key in LOOKED_BACK_AT
        },
        np.array([np.nan if c is None else c for c in lot.most_celsius], np.float64),
        np.array(scanned, bool),
    )


def judge_drives(session: Session, taken: ReadingRound, at: dt.datetime, before: Before) -> list[str]:
    """Note what the rules find of every drive whose readings were taken, where it is not what they found before; what
    was said of it. The drive's condition follows when the devices are looked at next (``engine.observe``)."""
    ask = session.connection().execute
    known = {
        row[0]: row[1:]
        for row in ask(
            pick(
                DriveHealth.drive_id,
                DriveHealth.level,
                DriveHealth.unreadable_since,
                DriveHealth.scan_began,
                DriveHealth.scan_ended,
                DriveHealth.scan_found,
            )
        )
    }
    # Of most drives there is nothing to be said.
    said: dict[int, list[str]] = {
        drive: [r["rule"] for r in reasons]
        for drive, reasons in ask(
            pick(DriveHealth.drive_id, DriveHealth.reasons).where(col(DriveHealth.level) > Health.WELL)
        )
    }
    before.look_back(session, at, [d for lot in taken.lots.values() for d in lot.drives])
    changed: list[dict[str, Any]] = []
    turned: dict[int, tuple[int, Judged]] = {}
    for kind, whole in taken.lots.items():
        lot = _to_judge(whole, known, before)
        facts = facts_of(kind, lot, before, [_scanned(known.get(drive)) for drive in lot.drives])
        for drive, bad, judged in zip(
            lot.drives, (unread(facts) > 0).tolist(), judge(kind, facts, before.limits), strict=True
        ):
            level, since, *_ = known.get(drive, (None, None))
            rules = [r.rule for r in judged.reasons]
            if level == judged.level and said.get(drive, []) == rules and (since is not None) == bad:
                continue
            if level != judged.level:
                turned[drive] = level or 0, judged
            changed.append({
                "drive_id": drive, "level": int(judged.level), "reasons": [asdict(r) for r in judged.reasons],
                "since": at, "unreadable_since": (since or at) if bad else None,
            })  # fmt: skip
    if not changed:
        return []
    row = insert(DriveHealth)
    kept = {name: row.excluded[name] for name in ("level", "reasons", "unreadable_since")}
    since = case((col(DriveHealth.level) == row.excluded.level, DriveHealth.since), else_=row.excluded.since)
    session.connection().execute(
        row.on_conflict_do_update(index_elements=["drive_id"], set_={**kept, "since": since}), changed
    )
    return _say(session, turned)


def _to_judge(lot: KindReadings, known: Mapping[int, Any], before: Before) -> KindReadings:
    """Those of a lot of which anything is not as it was when they were judged last."""
    found = KindReadings()
    for drive, told, most in zip(lot.drives, lot.told, lot.most_celsius, strict=True):
        row = known.get(drive)
        if row is None or before.judged.get(drive) != (told, row):
            before.judged[drive] = told, row
            found.drives.append(drive)
            found.told.append(told)
            found.most_celsius.append(most)
    return found


def _scanned(row: Any) -> bool:
    """Whether a surface scan that came to its end began after sectors could first not be read."""
    return row is not None and scanned_since(row[1], row[2], row[3], left_by(row[4]))


def left_by(scan: Mapping[str, int] | None) -> int:
    """Extents that a scan could neither read nor have from others."""
    return scan["unreadable"] - scan["mended"] if scan else 0


def _say(session: Session, turned: dict[int, tuple[int, Judged]]) -> list[str]:
    """Write into the logbook which drives began to give warning, or gave up doing so. That one is failing is written
    when it becomes its condition."""
    wanted = {
        drive: (was, judged)
        for drive, (was, judged) in turned.items()
        if Health.FAILING not in (was, judged.level) and Health.WARNS in (was, judged.level)
    }
    if not wanted:
        return []
    rows = session.connection().execute(
        pick(DriveRow.id, DriveRow.serial, DriveRow.bay, Shelf.name).outerjoin(Shelf, col(Shelf.id) == DriveRow.shelf_id)
        .where(col(DriveRow.id).in_(wanted))
    ).all()  # fmt: skip
    said = []
    for row in sorted(rows, key=lambda r: str(r.serial)):
        _, judged = wanted[row.id]
        where = f"Drive {row.serial} ({row.name} bay {row.bay})" if row.name else f"Drive {row.serial}"
        if judged.level is Health.WARNS:
            sentence = f"{where} gives warning: {judged.sentence}."
        else:
            sentence = f"{where} gives no warning any more."
        log(session, SYSTEM, "drive-warns" if judged.level is Health.WARNS else "drive-well", row.serial, sentence)
        said.append(sentence)
    return said


def note_scan(session: Session, drive_id: int, began: dt.datetime, ended: dt.datetime, found: dict[str, int]) -> None:
    """A surface scan has come to its end."""
    row = session.get(DriveHealth, drive_id) or DriveHealth(drive_id=drive_id, since=ended)
    row.scan_began, row.scan_ended, row.scan_found = began, ended, found
    session.add(row)

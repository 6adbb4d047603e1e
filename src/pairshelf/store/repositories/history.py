# ruff: noqa: S608 - nothing of the statements comes from outside: names of grains and days
"""Histories as they are kept: values of many subjects side by side in a row, tables in parts by time, one a grain."""

from __future__ import annotations

import datetime as dt
from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
from sqlmodel import Session

from pairshelf.core.watching.condensing import NO_LOW, Bucket, condense
from pairshelf.core.watching.series import GRAINS, ROUND, TOGETHER, Grain, Series, coarser, finer

_EPOCH = dt.datetime(1970, 1, 1, tzinfo=dt.UTC)


def _raw(session: Session) -> Any:
    """The driver's own connection, in the session's transaction: arrays go through it as they are."""
    return session.connection().connection.driver_connection


def _part(grain: Grain, at: dt.datetime) -> tuple[str, dt.datetime, dt.datetime]:
    """The name of the part of a table that holds a moment, and where it begins and ends."""
    first = (at - _EPOCH).days // grain.part * grain.part
    begin = _EPOCH + dt.timedelta(days=first)
    return f"history_{grain.id}_{begin:%Y%m%d}", begin, begin + dt.timedelta(days=grain.part)


def make_parts(session: Session, at: dt.datetime) -> None:
    """The parts of all tables that hold a moment, where they are not there yet."""
    raw = _raw(session)
    for grain in GRAINS:
        name, begin, end = _part(grain, at)
        if raw.execute("select to_regclass(%s)", (name,)).fetchone()[0] is None:
            raw.execute(
                f"create table if not exists {name} partition of history_{grain.id} "
                f"for values from ('{begin.isoformat()}') to ('{end.isoformat()}')"
            )


def drop_parts(session: Session, now: dt.datetime) -> list[str]:
    """Drop the parts of which nothing is kept any longer; their names. Never one that is still to be condensed."""
    raw, gone = _raw(session), []
    for grain in GRAINS:
        next_one = coarser(grain)
        due = None
        if next_one is not None:
            due = raw.execute("select min(at) from history_due where grain = %s", (next_one.id,)).fetchone()[0]
        there = raw.execute(
            "select c.relname from pg_inherits i join pg_class c on c.oid = i.inhrelid where i.inhparent = %s::regclass",
            (f"history_{grain.id}",),
        ).fetchall()
        for (name,) in there:
            begin = dt.datetime.strptime(name.rsplit("_", 1)[1], "%Y%m%d").replace(tzinfo=dt.UTC)
            end = begin + dt.timedelta(days=grain.part)
            if end <= now - grain.kept and (due is None or due >= end):
                raw.execute(f"drop table {name}")
                gone.append(name)
    return gone


def store_round(session: Session, at: dt.datetime, found: Mapping[Series, Mapping[int, int]]) -> None:
    """What was found in a round, by series and subject. Twice at one moment, the first stands."""
    rows = []
    for series, values in found.items():
        if not values:
            continue
        subjects = np.fromiter(values.keys(), np.int64, len(values))
        order = np.argsort(subjects)
        subjects, numbers = subjects[order], np.fromiter(values.values(), np.int64, len(values))[order]
        blocks, begins = np.unique(subjects // TOGETHER, return_index=True)
        for block, begin, end in zip(
            blocks.tolist(), begins.tolist(), [*begins[1:].tolist(), len(subjects)], strict=True
        ):
            own = ["NULL"] * (int(subjects[end - 1]) % TOGETHER + 1)
            for place, value in zip(
                (subjects[begin:end] % TOGETHER).tolist(), numbers[begin:end].tolist(), strict=True
            ):
                own[place] = str(value)
            # Written out here: the driver would look at each number for what it may be.
            rows.append((series.number, block, at, "{" + ",".join(own) + "}"))
    if not rows:
        return
    raw = _raw(session)
    with raw.cursor() as cursor:
        cursor.executemany(
            "insert into history_round (series, block, at, found) values (%s, %s, %s, %s::bigint[]) on conflict do nothing",
            rows,
        )
    _note_due(raw, ROUND, at)


def _note_due(raw: Any, grain: Grain, at: dt.datetime) -> None:
    next_one = coarser(grain)
    if next_one is not None:
        raw.execute(
            "insert into history_due (grain, at) values (%s, %s) on conflict do nothing",
            (next_one.id, next_one.start(at)),
        )


def due(session: Session, now: dt.datetime) -> list[tuple[Grain, dt.datetime]]:
    """Stretches of time that are over and have to be condensed, the finer grains first."""
    raw = _raw(session)
    found = []
    for grain in GRAINS[1:]:
        over = now - dt.timedelta(seconds=grain.seconds)
        rows = raw.execute("select at from history_due where grain = %s and at <= %s order by at", (grain.id, over))
        found += [(grain, at) for (at,) in rows]
    return found


def condense_one(session: Session, grain: Grain, at: dt.datetime) -> None:
    """Condense a stretch of time from the grain before, whatever had been condensed of it already.

    Where more rounds are known of a subject from before, that stands: what it was made of may be gone by now.
    """
    make_parts(session, at)
    raw = _raw(session)
    end = at + dt.timedelta(seconds=grain.seconds)
    parts: dict[tuple[int, int], list[Bucket]] = {}
    for series, block, _, bucket in _read(raw, finer(grain), at, end):
        parts.setdefault((series, block), []).append(bucket)
    before = {(series, block): bucket for series, block, _, bucket in _read(raw, grain, at, end)}
    rows = []
    for key, some in parts.items():
        whole = condense(some)
        if key in before:
            whole = _better(before[key], whole)
        rows.append((*key, at, *(getattr(whole, n).tolist() for n in ("count", "low", "high", "total"))))
    with raw.cursor() as cursor:
        cursor.executemany(
            f"insert into history_{grain.id} (series, block, at, counts, lows, highs, totals) "
            "values (%s, %s, %s, %s, %s, %s, %s) on conflict (series, block, at) do update set "
            "counts = excluded.counts, lows = excluded.lows, highs = excluded.highs, totals = excluded.totals",
            rows,
        )
    raw.execute("delete from history_due where grain = %s and at = %s", (grain.id, at))
    _note_due(raw, grain, at)


def _better(before: Bucket, after: Bucket) -> Bucket:
    """Of each subject what more is known of."""
    wide = max(len(before), len(after))
    nothing = Bucket.of_round([None] * wide)
    old, new = condense([before, nothing]), condense([after, nothing])
    keep = old.count > new.count
    return Bucket(*(np.where(keep, getattr(old, n), getattr(new, n)) for n in ("count", "low", "high", "total")))


def _read(
    raw: Any, grain: Grain, begin: dt.datetime, end: dt.datetime
) -> Iterable[tuple[int, int, dt.datetime, Bucket]]:
    if grain is ROUND:
        rows = raw.execute(
            "select series, block, at, found from history_round where at >= %s and at < %s order by at", (begin, end)
        )
        for series, block, at, found in rows:
            yield series, block, at, Bucket.of_round(found)
        return
    rows = raw.execute(
        f"select series, block, at, counts, lows, highs, totals from history_{grain.id} where at >= %s and at < %s order by at",
        (begin, end),
    )
    for series, block, at, *values in rows:
        yield series, block, at, Bucket(*(np.array(v, np.int64) for v in values))


@dataclass(frozen=True, slots=True)
class Point:
    """What is known of one subject in a stretch of time, in whole numbers of its series."""

    at: dt.datetime
    count: int
    low: int
    high: int
    total: int

    @property
    def mean(self) -> float:
        """The mean of its rounds."""
        return self.total / self.count


def load_points(
    session: Session, series: Series, subjects: Iterable[int], grain: Grain, begin: dt.datetime, end: dt.datetime
) -> dict[int, list[Point]]:
    """What is known of these subjects between two moments, in stretches of a grain, in order. What has not been
    condensed yet is, for this answer, from the grain before."""
    wanted = list(subjects)
    found: dict[int, list[Point]] = {s: _points(session, series, s, grain, begin, end) for s in wanted}
    if grain is ROUND:
        return found
    for subject, points in found.items():
        # Only the last stretches can lack: the others have been condensed.
        since = points[-1].at + dt.timedelta(seconds=grain.seconds) if points else begin
        since = max(since, grain.start(end - dt.timedelta(seconds=2 * grain.seconds)), grain.start(begin))
        if since < end:
            fine = load_points(session, series, [subject], finer(grain), since, end)[subject]
            points.extend(_together(fine, grain))
    return found


def _together(points: list[Point], grain: Grain) -> list[Point]:
    stretches: dict[dt.datetime, list[Point]] = {}
    for point in points:
        stretches.setdefault(grain.start(point.at), []).append(point)
    return [
        Point(at, sum(p.count for p in own), min(p.low for p in own), max(p.high for p in own), sum(p.total for p in own))
        for at, own in stretches.items()
    ]  # fmt: skip


def _points(
    session: Session, series: Series, subject: int, grain: Grain, begin: dt.datetime, end: dt.datetime
) -> list[Point]:
    block, place = divmod(subject, TOGETHER)
    given = {"i": place + 1, "s": series.number, "b": block, "from": begin, "to": end}
    where = "where series = %(s)s and block = %(b)s and at >= %(from)s and at < %(to)s order by at"
    raw = _raw(session)
    if grain is ROUND:
        rows = raw.execute(f"select at, found[%(i)s] from history_round {where}", given)
        return [Point(at, 1, value, value, value) for at, value in rows if value is not None]
    rows = raw.execute(
        f"select at, counts[%(i)s], lows[%(i)s], highs[%(i)s], totals[%(i)s] from history_{grain.id} {where}", given
    )
    return [Point(*row) for row in rows if row[1]]


def load_days(session: Session, series: Series, since: dt.datetime) -> dict[int, list[tuple[dt.datetime, float]]]:
    """The mean of each whole day since a moment, of every subject that has any."""
    query = "select block, at, counts, totals from history_day where series = %s and at >= %s order by at"
    found: dict[int, list[tuple[dt.datetime, float]]] = {}
    for block, at, counts, totals in _raw(session).execute(query, (series.number, since)):
        for place, (count, total) in enumerate(zip(counts, totals, strict=True)):
            if count:
                found.setdefault(block * TOGETHER + place, []).append((at, total / count))
    return found


def load_lows(
    session: Session, several: Collection[Series], since: dt.datetime, until: dt.datetime, wanted: Collection[int]
) -> dict[str, dict[int, int]]:
    """The lowest that was recorded of subjects since a moment, by the ids of series: of what only grows, what it was then; of
    a subject that is known for less long, what it was at first. Stretches that lie wholly within count."""
    raw, ids = _raw(session), {s.number: s.id for s in several}
    found: dict[str, dict[int, int]] = {s.id: {} for s in several}
    lacking = {s.id: set(wanted) for s in several}
    grain: Grain | None = next(g for g in reversed(GRAINS) if dt.timedelta(seconds=7 * g.seconds) <= until - since)
    begin = since
    while grain is not None and any(lacking.values()):
        blocks = sorted({subject // TOGETHER for own in lacking.values() for subject in own})
        value = "found" if grain is ROUND else "lows"
        rows = raw.execute(
            f"select series, block, {value} from history_{grain.id} "
            "where series = any(%s) and at >= %s and at <= %s and block = any(%s)",
            (list(ids), begin, until, blocks),
        )
        lows: dict[str, dict[int, int]] = {name: {} for name in found}
        for series, block, values in rows:
            own, wants = lows[ids[series]], lacking[ids[series]]
            for place, low in enumerate(values):
                if low is not None and low != NO_LOW and (subject := block * TOGETHER + place) in wants:
                    own[subject] = min(low, own.get(subject, low))
        for name, own in lows.items():
            found[name] |= own
            lacking[name] -= own.keys()
        # What is not condensed yet is recent.
        begin = max(since, until - dt.timedelta(seconds=2 * grain.seconds))
        grain = finer(grain) if grain is not ROUND else None
    return found


def load_last(session: Session, several: Iterable[Series], subject: int) -> tuple[dict[str, int], dt.datetime | None]:
    """What was recorded last of a subject, by the ids of series, and when the latest of it was."""
    raw, (block, place) = _raw(session), divmod(subject, TOGETHER)
    found, latest = dict[str, int](), None
    for series in several:
        for grain in GRAINS:
            value, there = ("found", "found[%(i)s] is not null") if grain is ROUND else ("highs", "counts[%(i)s] > 0")
            row = raw.execute(
                f"select at, {value}[%(i)s] from history_{grain.id} where series = %(s)s and block = %(b)s and {there} "
                "order by at desc limit 1",
                {"i": place + 1, "s": series.number, "b": block},
            ).fetchone()
            if row is not None:
                found[series.id] = row[1]
                latest = row[0] if latest is None else max(latest, row[0])
                break
    return found, latest


def bytes_of_all(session: Session) -> int:
    """Bytes on disk that all histories take."""
    query = (
        "select coalesce(sum(pg_total_relation_size(i.inhrelid)), 0) from pg_inherits i "
        "join pg_class c on c.oid = i.inhparent where c.relname like 'history\\_%'"
    )
    return int(_raw(session).execute(query).fetchone()[0])

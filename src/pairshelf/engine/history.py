"""The watch that is kept: every ten seconds what matters is recorded, condensed, and held against its thresholds."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Collection, Iterable, Mapping
from dataclasses import asdict, dataclass, field
from typing import Any

from sqlalchemy import delete
from sqlmodel import Session, col, select

from pairshelf.core.domain.units import EXTENT
from pairshelf.core.layouts.registry import scheme_of
from pairshelf.core.layouts.taken import used_on_members
from pairshelf.core.loads.measured import DriveRates, Rates
from pairshelf.core.watching.series import BY_ID, ROUND, SERIES, Series, start_of
from pairshelf.core.watching.thresholds import Level, Thresholds, level
from pairshelf.core.watching.trend import LOOK_BACK, Outlook, outlook
from pairshelf.engine.loads import Measured, play_all
from pairshelf.engine.log import SYSTEM, log
from pairshelf.engine.pools import devices
from pairshelf.engine.readings import Before, ReadingRound, judge_drives, take_readings
from pairshelf.store.database import Lock, among, held_lock, in_these, pick, these, transaction
from pairshelf.store.repositories import history
from pairshelf.store.repositories.drives_and_pools import load_pieces, load_stripes
from pairshelf.store.repositories.holdings import PoolHolds, load_holdings, load_watched
from pairshelf.store.repositories.kept import PerPool, Sweeper
from pairshelf.store.repositories.layouts import designed_layout
from pairshelf.store.tables import Crossing, DriveRow, OutlookRow, PoolPlace, PoolRow, Service, Shelf, VolumeRow, now

#: So long an outlook stands before it is worked out anew, where nothing else has changed.
_OUTLOOK_FOR = dt.timedelta(hours=1)


@dataclass
class Seen:
    """What was worked out before, for as long as nothing it stands on has changed."""

    #: Of series that are not recorded in every round: the stretch of time in which they were last.
    recorded: dict[int, dt.datetime] = field(default_factory=dict)
    #: What readings were some days ago.
    before: Before = field(default_factory=Before)


def used_on_drives(session: Session, only: Collection[int] | None = None) -> dict[int, int]:
    """Extents of each member drive on which something of a volume stands; ``only`` of these pools."""
    return {drive: extents for used in _used.get(session, only).values() for drive, extents in used.items()}


# As they are now, whatever a session has read before: others are told the same.
_POOLS = select(PoolRow).where(in_these(PoolRow.id)).execution_options(populate_existing=True)
_PLACES = select(PoolPlace).where(in_these(PoolPlace.pool_id)).execution_options(populate_existing=True)


def _used_in(session: Session, pool_ids: list[int]) -> dict[int, dict[int, int]]:
    """Of each of these pools, extents in use on its member drives."""
    asked = these(pool_ids)
    rows = session.exec(_POOLS, params=asked).all()
    places: dict[int, list[PoolPlace]] = {}
    for place in session.exec(_PLACES, params=asked):
        places.setdefault(place.pool_id, []).append(place)
    stripes = load_stripes(session, [row.number for row in rows if scheme_of(row.scheme).own_protection])
    pieces = load_pieces(session, pool_ids)
    found = {}
    for row in rows:
        own = places.get(row.number, [])
        layout = designed_layout(row, own, stripes.get(row.number, []))
        used = dict(enumerate(used_on_members(layout, [] if layout.own_protection else pieces.get(row.number, []))))
        found[row.number] = {
            place.drive_id: used.get(place.slot, 0)
            for place in own
            if place.drive_id is not None and place.slot is not None
        }
    return found


_used = PerPool(_used_in)


@dataclass(frozen=True, slots=True)
class Round:
    """What was seen in a round: the accounts of all pools, what is used on each drive, what drives report."""

    pools: list[PoolHolds]
    used: dict[int, int]
    taken: ReadingRound
    #: What was measured of the pools on which loads are played.
    played: dict[int, Measured] = field(default_factory=dict)
    #: By drive: the shelf it stands on, and that one's host.
    stands: dict[int, tuple[int, int | None]] = field(default_factory=dict)
    #: By pool that is played on: the drive at each of its places.
    at_slot: dict[int, dict[int, int]] = field(default_factory=dict)

    def of_drives(self, value: Callable[[DriveRates], float]) -> dict[int, int]:
        """A figure of each drive that is played on."""
        return {
            self.at_slot[pool][d.slot]: round(value(d))
            for pool, found in self.played.items() for d in found.drives if d.slot in self.at_slot[pool]
        }  # fmt: skip

    def of_places(self, values: Mapping[int, int], which: int, empty: bool = False) -> dict[int, int]:
        """What drives have, summed by shelf (0) or host (1); of ``empty`` ones, too."""
        found: dict[int, int] = (
            dict.fromkeys((p for s in self.stands.values() if (p := s[which]) is not None), 0) if empty else {}
        )
        for drive, value in values.items():
            place = self.stands[drive][which] if drive in self.stands else None
            if place is not None:
                found[place] = found.get(place, 0) + value
        return found

    def of_volumes(self, value: Callable[[Rates], float | None]) -> dict[int, int]:
        """A figure of each volume that is played on, by what its history is kept by."""
        recorded = {p.id: p.recorded_as for p in self.pools}
        found = {
            recorded[pool][v.volume_id]: value(v.rates)
            for pool, measured in self.played.items() for v in measured.volumes
            if v.volume_id in recorded.get(pool, {})
        }  # fmt: skip
        return {number: round(n) for number, n in found.items() if n is not None}

    def of_pools(self, value: Callable[[Rates], float | None]) -> dict[int, int]:
        """A figure of each pool that is played on."""
        found = {pool: value(measured.whole) for pool, measured in self.played.items()}
        return {pool: round(n) for pool, n in found.items() if n is not None}


def _answering(seen: Round) -> dict[int, int]:
    return {drive: 1 for lot in seen.taken.lots.values() for drive in lot.drives}


def _microseconds(rates: Rates) -> float | None:
    return None if rates.median is None else rates.median * 1e6


#: How each series is read; those of readings are read alike.
_READ: dict[str, Callable[[Round], dict[int, int]]] = {
    "pool-capacity": lambda r: {p.id: p.account.capacity for p in r.pools},
    "pool-given": lambda r: {p.id: p.account.given for p in r.pools},
    "pool-files": lambda r: {p.id: p.account.footprint for p in r.pools},
    "volume-files": lambda r: {p.recorded_as[v.id]: v.files for p in r.pools for v in p.volumes},
    "volume-given": lambda r: {p.recorded_as[v.id]: v.given for p in r.pools for v in p.volumes},
    "drive-used": lambda r: {drive: extents * EXTENT for drive, extents in r.used.items()},
    "host-drives": lambda r: r.of_places(_answering(r), 1, empty=True),
    "link-drives": lambda r: r.of_places(_answering(r), 0, empty=True),
    "volume-operations": lambda r: r.of_volumes(lambda v: v.operations),
    "volume-throughput": lambda r: r.of_volumes(lambda v: v.throughput),
    "volume-response": lambda r: r.of_volumes(_microseconds),
    "pool-operations": lambda r: r.of_pools(lambda p: p.operations),
    "pool-throughput": lambda r: r.of_pools(lambda p: p.throughput),
    "pool-response": lambda r: r.of_pools(_microseconds),
    "drive-operations": lambda r: r.of_drives(lambda d: d.operations),
    "drive-busy": lambda r: r.of_drives(lambda d: 100 * d.busy),
    "link-throughput": lambda r: r.of_places(r.of_drives(lambda d: d.throughput), 0),
    "host-throughput": lambda r: r.of_places(r.of_drives(lambda d: d.throughput), 1),
}


def _values(series: Series, seen: Round) -> dict[int, int]:
    if series.id not in _READ:
        return seen.taken.of_series(series)
    return {subject: value // series.worth for subject, value in _READ[series.id](seen).items()}


def take_round(
    session: Session, at: dt.datetime, seen: Seen | None = None, played: Mapping[int, Measured] | None = None
) -> Round:
    """Record what matters, at a moment, with what was measured of the pools that are played on; what was read for it."""
    at, seen = ROUND.start(at), seen or Seen()
    stretches = {every: start_of(at, every) for every in {s.every for s in SERIES}}
    series = [s for s in SERIES if seen.recorded.get(s.every) != stretches[s.every]]
    stands = pick(DriveRow.id, DriveRow.shelf_id, Shelf.host_id).join(Shelf, col(Shelf.id) == DriveRow.shelf_id)
    found = Round(
        load_holdings(session), used_on_drives(session), take_readings(session, devices(), at), dict(played or {}),
        {drive: (shelf, host) for drive, shelf, host in session.exec(stands.where(DriveRow.service != Service.RETIRED))},
        _at_slot(session, played or ()),
    )  # fmt: skip
    history.make_parts(session, at)
    history.store_round(session, at, {s: _values(s, found) for s in series})
    seen.recorded = stretches
    return found


def _at_slot(session: Session, pools: Collection[int]) -> dict[int, dict[int, int]]:
    found: dict[int, dict[int, int]] = {pool: {} for pool in pools}
    query = pick(PoolPlace.pool_id, PoolPlace.slot, PoolPlace.drive_id).where(
        among(PoolPlace.pool_id, list(pools)), col(PoolPlace.slot).is_not(None), col(PoolPlace.drive_id).is_not(None)
    )
    for pool, slot, drive in session.exec(query) if found else ():
        found[pool][slot] = drive
    return found


def still_there(session: Session, of: type[PoolRow | VolumeRow], numbers: Iterable[int]) -> set[int]:
    """Those of them that are there yet, and stay until this transaction ends. Since they were looked at, a pool may
    have been taken apart, or a volume deleted."""
    query = select(of.id).where(among(of.id, numbers)).order_by(col(of.id))
    return {n for n in session.exec(query.with_for_update(read=True, key_share=True)) if n is not None}


# -- thresholds ----------------------------------------------------------------------------------------


def look_at_thresholds(session: Session, pools: list[PoolHolds], at: dt.datetime) -> list[str]:
    """Note what has come above a threshold, or fallen below it again, each crossing once; what was said of it."""
    watched, said = load_watched(session), []
    for pool in pools:
        if pool.account.thin:
            before = watched.pool_levels.get(pool.id, Level.ROOM)
            limits = watched.of_pool(pool.id)
            said += _crossed(session, at, f"Pool {pool.name}", pool.account.share, before, limits, pool_id=pool.id)
        for volume in pool.volumes:
            if volume.told_of:
                before = watched.volume_levels.get(volume.id, Level.ROOM)
                name = f"Volume {volume.name} of {pool.name}"
                limits = watched.of_volume(volume.id)
                said += _crossed(session, at, name, volume.share, before, limits, volume_id=volume.id)
    # What is meant to be full, or has no thin volumes any longer, is above nothing.
    thin = {p.id for p in pools if p.account.thin}
    full = {v.id for p in pools for v in p.volumes if not v.told_of}
    for row in session.exec(select(Crossing)):
        if (row.pool_id is not None and row.pool_id not in thin) or row.volume_id in full:
            session.delete(row)
    return said


def _crossed(
    session: Session, at: dt.datetime, name: str, share: float, before: Level, limits: Thresholds, **of: int
) -> list[str]:
    after = level(share, before, limits)
    if after is before:
        return []
    ((column, number),) = of.items()
    if not still_there(session, PoolRow if column == "pool_id" else VolumeRow, [number]):
        return []
    session.connection().execute(delete(Crossing).where(getattr(Crossing, column) == number))
    if after:
        session.add(Crossing(**of, level=int(after), since=at))
    mark = limits.urgent if Level.URGENT in (before, after) else limits.tell
    if after > before:
        sentence = f"{name} is {int(share * 100)} % full: above {round(mark * 100)} %."
    else:
        sentence = f"{name} is {int(share * 100)} % full again, below {round(mark * 100)} %."
    log(session, SYSTEM, "threshold-crossed", name, sentence, share=round(share, 4), level=int(after))
    return [sentence]


# -- outlooks ------------------------------------------------------------------------------------------


def work_out_outlooks(session: Session, pools: list[PoolHolds], at: dt.datetime) -> int:
    """When what is there will be full, for whatever has no fresh outlook; how many were worked out."""
    rows = session.exec(select(OutlookRow)).all()
    fresh = {
        ("pool", r.pool_id) if r.pool_id is not None else ("volume", r.volume_id): r
        for r in rows if dt.timedelta() <= at - r.worked_out_at < _OUTLOOK_FOR
    }  # fmt: skip
    wanted: list[tuple[str, int, int, int]] = []
    for pool in pools:
        wanted.append(("pool", pool.id, pool.id, pool.account.capacity))
        wanted += [("volume", v.id, pool.recorded_as[v.id], v.for_files) for v in pool.volumes if not v.unseen]
    stale = [w for w in wanted if w[:2] not in fresh or fresh[w[:2]].capacity != w[3]]
    if not stale:
        return 0
    there = {
        kind: still_there(session, of, [w[1] for w in stale if w[0] == kind])
        for kind, of in (("pool", PoolRow), ("volume", VolumeRow))
    }
    stale = [w for w in stale if w[1] in there[w[0]]]
    since = at - dt.timedelta(days=LOOK_BACK + 1)
    days = {kind: history.load_days(session, BY_ID[of], since)
            for kind, of in (("pool", "pool-given"), ("volume", "volume-files"))}  # fmt: skip
    session.connection().execute(
        delete(OutlookRow).where(among(OutlookRow.pool_id, [w[1] for w in stale if w[0] == "pool"]))
    )
    session.connection().execute(
        delete(OutlookRow).where(among(OutlookRow.volume_id, [w[1] for w in stale if w[0] == "volume"]))
    )
    for kind, number, recorded_as, capacity in stale:
        points = [(day + dt.timedelta(hours=12), use * EXTENT) for day, use in days[kind].get(recorded_as, [])]
        told: Outlook = outlook(points, capacity, at)
        of: dict[str, Any] = {f"{kind}_id": number, **asdict(told)}
        session.add(OutlookRow(**of, capacity=capacity, worked_out_at=at))
    return len(stale)


# -- the watch -----------------------------------------------------------------------------------------


class Watch:
    """Kept by one worker at a time."""

    def __init__(self, clock: Callable[[], dt.datetime] = now) -> None:
        self._clock, self._seen = clock, Seen()
        self._last: dt.datetime | None = None
        self._sweeper = Sweeper()

    def look(self) -> bool:
        """Record a round if its time has come, and condense what is over; whether a round was recorded. Two that
        follow on one another too soon are one round."""
        at = ROUND.start(self._clock())
        if at == self._last:
            return False
        with held_lock(Lock.HISTORY) as mine:
            if mine is None:
                return False
            played = play_all(devices(), at)
            with transaction() as session:
                found = take_round(session, at, self._seen, played)
            self._last = at
            with transaction() as session:
                look_at_thresholds(session, found.pools, at)
            with transaction() as session:
                judge_drives(session, found.taken, at, self._seen.before)
            self.condense(at)
            with transaction() as session:
                work_out_outlooks(session, found.pools, at)
                self._sweeper.sweep(session)
        return True

    def condense(self, at: dt.datetime) -> None:
        """Everything that is over by a moment, each stretch by itself; then what is too old goes."""
        while True:
            with transaction() as session:
                due = history.due(session, at)
            if not due:
                break
            for grain, begin in due:
                with transaction() as session:
                    history.condense_one(session, grain, begin)
        with transaction() as session:
            history.drop_parts(session, at)

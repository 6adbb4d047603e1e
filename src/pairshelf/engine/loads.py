"""Loads played on the volumes of a pool, on trial: the code that reads and writes pools tells what drives have to do for
them, beside a job or by themselves, and not a byte of what is stored changes."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Iterator, Sequence
from dataclasses import asdict, dataclass
from typing import Any

from sqlmodel import Session, col, select

from pairshelf.core.domain.device import DeviceError, Devices
from pairshelf.core.errors import NotFound, NotPossible, NotServing, PairShelfError
from pairshelf.core.figures import durations
from pairshelf.core.layouts.protections import Protection, parse_protection
from pairshelf.core.layouts.restriping import Restriping
from pairshelf.core.layouts.spread import base_of
from pairshelf.core.loads import mixes
from pairshelf.core.loads.measured import (
    Beside,
    DriveRates,
    LinkRates,
    Rates,
    abilities_of,
    drive_rates,
    estimate_together,
    moved_by_job,
    rates_of,
    row_width,
    speed_for,
)
from pairshelf.core.loads.mixes import Estimate, Mix
from pairshelf.core.loads.queues import Ability, Asked, Measurement, Phases, Player, Walking, play
from pairshelf.engine.io.pool_io import PoolIO
from pairshelf.engine.io.restripe_io import RestripeIO
from pairshelf.engine.io.spread_io import SpreadIO
from pairshelf.engine.io.trial import ANSWERS, PIECE, Trial
from pairshelf.engine.io.volume_io import pieces_of
from pairshelf.engine.jobs.kinds import JOBS
from pairshelf.engine.jobs.pacing import users_work
from pairshelf.engine.pools import OpenPool, load_members, open_pool
from pairshelf.store.database import transaction
from pairshelf.store.tables import JobRow, JobState, PlayedRow, PlayRow, PoolRow, VolumeRow

#: Answers that a load which goes on waits for in a round.
ANSWERS_OF_ROUND = 120
#: Steps of a job that are tried.
_STEPS = 32


@dataclass(frozen=True, slots=True)
class Playing:
    """A mix on a volume, as it is played now."""

    volume: VolumeRow
    mix: Mix
    at_once: int
    wanted: float | None = None


@dataclass(frozen=True, slots=True)
class OfVolume:
    """What was measured of one volume. ``estimate``: what its mix would come to if it had the pool for itself."""

    volume_id: int
    name: str
    mix: str
    at_once: int
    wanted: float | None
    rates: Rates
    estimate: Estimate


@dataclass(frozen=True, slots=True)
class Measured:
    """What was measured of a pool."""

    volumes: list[OfVolume]
    whole: Rates
    #: By the figures that layouts are compared by, with nothing beside.
    estimate: Estimate
    drives: list[DriveRates]
    links: list[LinkRates]
    beside: Beside | None

    def kept(self) -> dict[str, Any]:
        """As plain data, with what job and users cost one another."""
        costs = {"costs_users": self.beside.costs_users, "costs_job": self.beside.costs_job} if self.beside else {}
        return {**asdict(self), "beside": {**asdict(self.beside), **costs} if self.beside else None}


def trial_of(session: Session, pool: OpenPool, world: Devices) -> Trial:
    """A pool as it stands now, on trial. NotServing where it cannot be read."""
    if not pool.serves():
        raise NotServing(pool.row.name, pool.row.state, "nothing of it is touched")
    members = load_members(session, pool, world)
    if isinstance(pool.layout, Restriping):
        return Trial.of(RestripeIO, pool.layout, members, world.block)
    trial = Trial.of(SpreadIO if pool.layout.own_protection else PoolIO, pool.layout, members, world.block)
    trial.io.synced_to = pool.row.synced_to
    return trial


def playing_on(session: Session, pool_id: int) -> list[Playing]:
    """What is played on the volumes of a pool."""
    rows = session.exec(
        select(PlayRow, VolumeRow).join(VolumeRow, col(VolumeRow.id) == PlayRow.volume_id)
        .where(VolumeRow.pool_id == pool_id).order_by(col(VolumeRow.id))
    )  # fmt: skip
    return [Playing(v, mixes.mix_of(p.mix), p.at_once, p.wanted) for p, v in rows]


def one_play(session: Session, pool: OpenPool, volume_id: int, mix: str, at_once: int | None) -> Playing:
    """A mix on a volume of a pool, as much of it as drives can do."""
    volume = session.get(VolumeRow, volume_id)
    if volume is None or volume.pool_id != pool.row.id:
        raise NotFound("volume", field="volume_id")
    found = mixes.mix_of(mix)
    mixes.check_play(at_once, None)
    return Playing(volume, found, at_once or found.at_once)


def measure(
    session: Session, pool: OpenPool, world: Devices, playing: Sequence[Playing], *,
    beside: str | None = None, pace: str = "gentle", answers: int = ANSWERS, seed: int = 0,
) -> Measured:  # fmt: skip
    """Play these loads on a pool as it is now; beside the job that is under way on it, or one of that kind. The caller
    holds the pool. For one ``seed`` the same is asked for. NotPossible where nothing is written yet that could be asked for."""
    trial = trial_of(session, pool, world)
    abilities, shelves, carries = abilities_of(pool.layout.members)
    # A drive that is being made the copy of a member is like it.
    abilities = [*abilities, *abilities]
    rooms = {p.volume.number: _room(session, pool, p.volume) for p in playing}
    job = _under_way(session, pool)
    kind, pace = (job.kind, job.pace) if job is not None else (beside, pace)

    def width_for(p: Playing) -> int:
        return row_width(pool.layout, _protection(pool, p.volume))

    def players() -> list[Player]:
        return [
            Player(
                _asked(trial, p, rooms[p.volume.number], width_for(p), _base(pool, p.volume), seed),
                p.at_once,
                p.wanted,
            )
            for p in playing
        ]

    alone = play(abilities, players(), links=carries, most=answers)
    found, together = alone, None
    if kind is not None:
        steps = steps_of(trial, pool, kind, job)
        if steps:
            found, together = _together(abilities, carries, players, steps, kind, pace, alone, answers)
    shares = [p.requests for p in alone.players]
    parts = [(p.mix, speed_for(pool.layout, _protection(pool, p.volume)), width_for(p)) for p in playing]
    return Measured(
        [
            OfVolume(
                p.volume.number,
                p.volume.name,
                p.mix.id,
                p.at_once,
                p.wanted,
                rates_of([played], found.seconds),
                estimate_together([(*part, 1.0)]),
            )
            for p, played, part in zip(playing, found.players, parts, strict=True)
        ],
        rates_of(found.players, found.seconds),
        estimate_together([(*part, float(share)) for part, share in zip(parts, shares, strict=True)]),
        drive_rates(found)[: len(pool.layout.members)],
        [
            LinkRates(shelf, moved / found.seconds if found.seconds else 0.0, most)
            for shelf, moved, most in zip(shelves, found.links, carries, strict=True)
        ],
        together,
    )


def _together(
    abilities: Sequence[Ability], carries: Sequence[float], players: Callable[[], list[Player]], steps: Sequence[Phases], kind: str, pace: str,
    alone: Measurement, answers: int,
) -> tuple[Measurement, Beside]:  # fmt: skip
    users = durations.GENTLE if pace == "gentle" else durations.FAST
    walking = Walking(steps, 1 - users, 1 - users)
    sizes = [float(sum(act.size for phase in step for act in phase)) for step in steps]
    undisturbed = play(abilities, (), links=carries, job=Walking(steps, 1.0, 1.0), most=answers)
    found = play(abilities, players(), links=carries, job=walking, most=answers)
    return found, Beside(
        kind,
        pace,
        rates_of(alone.players, alone.seconds),
        rates_of(found.players, found.seconds),
        moved_by_job(undisturbed, sizes),
        moved_by_job(found, sizes),
    )


def _asked(
    trial: Trial, playing: Playing, room: Sequence[tuple[int, int]], step: int, base: int, seed: int
) -> Iterator[Asked]:
    """What drives have to do for each request, found out as it is asked. The same volume is asked for the same, for one seed."""
    for request in mixes.requests(playing.mix, room, step, playing.volume.number + seed, playing.at_once, base):
        yield trial.carried_out(request)


def _room(session: Session, pool: OpenPool, volume: VolumeRow) -> list[tuple[int, int]]:
    """The addresses that a volume has: all of a thick one, of a thin one what was written."""
    room = [(p.first, p.count) for p in pieces_of(session, volume.number)]
    if not room:
        raise NotPossible(
            f"Nothing is written on {volume.name} of {pool.row.name} yet; write files to it first.",
            code="nothing-written", field="volume_id",
        )  # fmt: skip
    return room


def _protection(pool: OpenPool, volume: VolumeRow) -> Protection | None:
    return parse_protection(volume.protection) if pool.layout.own_protection and volume.protection else None


def _base(pool: OpenPool, volume: VolumeRow) -> int:
    return base_of(volume.number) if pool.layout.own_protection else 0


# -- loads that are played all the time -------------------------------------------------------------------


def play_all(world: Devices, at: dt.datetime) -> dict[int, Measured]:
    """Play for a moment what is played on volumes, pool after pool; what was measured, by pool, and kept as what was
    measured last. Of a pool that cannot be read, nothing."""
    with transaction() as session:
        query = select(VolumeRow.pool_id).join(PlayRow, col(PlayRow.volume_id) == VolumeRow.id).distinct()
        pools = sorted(session.exec(query))
        gone = [p for p in session.exec(select(PlayedRow)) if p.pool_id not in pools]
        for row in gone:
            session.delete(row)
    found = {}
    for pool_id in pools:
        try:
            with transaction() as session:
                pool = open_pool(session, pool_id)
                playing = playing_on(session, pool_id)
                if not playing:
                    continue
                found[pool_id] = measure(
                    session, pool, world, playing, answers=ANSWERS_OF_ROUND, seed=int(at.timestamp())
                )
                session.merge(PlayedRow(pool_id=pool_id, at=at, found=found[pool_id].kept()))
        except (PairShelfError, DeviceError) as error:
            with transaction() as session:
                if session.get(PoolRow, pool_id, with_for_update={"read": True, "key_share": True}) is not None:
                    why = (
                        error.message if isinstance(error, PairShelfError) else f"Drive {error.serial} does not answer."
                    )
                    session.merge(PlayedRow(pool_id=pool_id, at=at, found={"why_none": why}))
    return found


# -- jobs beside ----------------------------------------------------------------------------------------


def _under_way(session: Session, pool: OpenPool) -> JobRow | None:
    """The job under way on a pool that is not its users' own work."""
    running = (JobRow.pool_id == pool.row.id, JobRow.state == JobState.RUNNING, col(JobRow.kind).not_in(users_work()))
    return session.exec(select(JobRow).where(*running).order_by(col(JobRow.id)).limit(1)).first()


def steps_of(trial: Trial, pool: OpenPool, kind: str, job: JobRow | None) -> list[Phases]:
    """What drives have to do in some steps of a job: what its own code does, on trial."""
    tries = JOBS[kind].tries
    found = []
    whole = max(1, pool.layout.stripes)
    for number in range(_STEPS):
        try:
            tries(trial.io, job, number % whole)
        except NotPossible:
            # It would wait: while a drive is away, nothing is compared.
            trial.noted(PIECE)
            continue
        phases = trial.noted(PIECE)
        if any(phases):
            found.append(phases)
    return found

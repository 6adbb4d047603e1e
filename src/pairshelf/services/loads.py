"""Loads that are played on volumes and on layouts: begun, ended, and what was measured. What API and console share."""

from __future__ import annotations

import datetime as dt
from collections.abc import Collection
from dataclasses import dataclass
from typing import Any

from sqlmodel import Session, col, func, select

from pairshelf.core.domain.device import DeviceError, Devices
from pairshelf.core.errors import BadInput, NotFound, NotPossible
from pairshelf.core.figures.workloads import workload_of
from pairshelf.core.loads.mixes import MIXES, Mix, check_play, mix_of
from pairshelf.core.policies.schedule import PACES
from pairshelf.core.search.candidates import Answer, Candidate, Question
from pairshelf.core.watching.series import MOST_PLAYED
from pairshelf.engine.jobs.kinds import JOBS
from pairshelf.engine.jobs.trying import ANY_TIME
from pairshelf.engine.layout_trial import LayoutMeasured, measure_layout
from pairshelf.engine.loads import Measured, measure, one_play
from pairshelf.engine.log import log
from pairshelf.engine.pools import open_pool
from pairshelf.store.database import Lock, lock_until_commit
from pairshelf.store.tables import PlayedRow, PlayRow, PoolRow, VolumeRow

#: Layouts that are measured side by side at most.
MOST_LAYOUTS = 8
#: So many where none are named.
FIRST_FEW = 4
#: What a pool can be measured beside while nothing of the kind is under way.
BESIDE = tuple(k.id for k in JOBS.values() if k.tries in ANY_TIME)
#: What is held while it is said what is played.
_PLAYING = "loads"


@dataclass(frozen=True, slots=True)
class PlayedVolume:
    """What is played on a volume."""

    volume_id: int
    volume: str
    mix: str
    at_once: int
    wanted: float | None
    since: dt.datetime


@dataclass(frozen=True, slots=True)
class Speeds:
    """What is played on a pool, and what was measured of it last: the fields of ``engine.loads.Measured``, or why none."""

    plays: list[PlayedVolume]
    at: dt.datetime | None
    found: dict[str, Any] | None
    why_none: str | None


def speeds_of(session: Session, pool_id: int) -> Speeds:
    """What is played on a pool. NotFound where there is none."""
    if session.get(PoolRow, pool_id) is None:
        raise NotFound("pool")
    rows = session.exec(
        select(PlayRow, VolumeRow.name).join(VolumeRow, col(VolumeRow.id) == PlayRow.volume_id)
        .where(VolumeRow.pool_id == pool_id).order_by(col(VolumeRow.name))
    )  # fmt: skip
    plays = [PlayedVolume(r.volume_id, name, r.mix, r.at_once, r.wanted, r.since) for r, name in rows]
    row = session.get(PlayedRow, pool_id) if plays else None
    why = row.found.get("why_none") if row is not None else None
    return Speeds(plays, row.at if row else None, row.found if row is not None and why is None else None, why)


def set_play(
    session: Session, volume_id: int, mix: str, who: str, *, at_once: int | None = None, wanted: float | None = None
) -> PlayRow | None:
    """Play a mix on a volume from now on, or nothing any longer. BadInput, NotFound, NotPossible for more than are
    played at a time."""
    lock_until_commit(session, Lock.ALONE, _PLAYING)
    volume = session.get(VolumeRow, volume_id)
    if volume is None:
        raise NotFound("volume", field="volume_id")
    row = session.get(PlayRow, volume_id, with_for_update=True)
    if not mix.strip():
        if row is not None:
            session.delete(row)
            log(session, who, "load-ended", volume.name, f"Nothing is played on {volume.name} any longer.")
        return None
    chosen = mix_of(mix)
    check_play(at_once, wanted)
    if row is None and session.exec(select(func.count()).select_from(PlayRow)).one() >= MOST_PLAYED:
        raise NotPossible(
            f"On {MOST_PLAYED} volumes loads are played already; end one of them first.",
            code="enough-played",
            field="volume_id",
        )
    row = row or PlayRow(volume_id=volume_id, mix=mix, at_once=1)
    row.mix, row.at_once, row.wanted = chosen.id, at_once or chosen.at_once, wanted
    session.add(row)
    much = f"{wanted:g} requests a second" if wanted else "as fast as it goes"
    log(
        session,
        who,
        "load-begun",
        volume.name,
        f"{chosen.name[0].upper()}{chosen.name[1:]} is played on {volume.name}: {row.at_once} at once, {much}.",
    )
    return row


def pool_of(session: Session, volume_id: int) -> int:
    """The pool that a volume is of. NotFound where there is none."""
    found = session.exec(select(VolumeRow.pool_id).where(VolumeRow.id == volume_id)).first()
    if found is None:
        raise NotFound("volume", field="volume_id")
    return found


def measure_now(
    session: Session, world: Devices, pool_id: int, volume_id: int, mix: str, *,
    at_once: int | None = None, beside: str | None = None, pace: str = "gentle",
) -> Measured:  # fmt: skip
    """Play a mix on a volume for a moment, as fast as it goes; beside the job under way, or one of a kind that is named."""
    if beside and beside not in BESIDE:
        raise BadInput(f"“{beside}” is no job to measure beside; choose one of {', '.join(BESIDE)}.", field="beside")
    if pace not in PACES:
        raise BadInput("A job is gentle or fast.", field="pace")
    pool = open_pool(session, pool_id)
    playing = [one_play(session, pool, volume_id, mix, at_once)]
    try:
        return measure(session, pool, world, playing, beside=beside or None, pace=pace)
    except DeviceError as error:
        raise NotPossible(
            f"Drive {error.serial} does not answer ({error.presence.value}); look again in a moment.",
            code="drive-silent",
            field=None,
        ) from None


def measure_named(session: Session, world: Devices, of: str, mix: str, **more: Any) -> Measured:
    """The same, of ``pool/volume``."""
    pool, _, volume = of.strip().partition("/")
    query = select(VolumeRow.pool_id, VolumeRow.id).join(PoolRow, col(PoolRow.id) == VolumeRow.pool_id)
    found = session.exec(query.where(PoolRow.name == pool, VolumeRow.name == volume)).first()
    if found is None or found[1] is None:
        raise NotFound("volume", of.strip() or "without a name", field="of")
    return measure_now(session, world, found[0], found[1], mix, **more)


@dataclass(frozen=True, slots=True)
class CandidateMeasured:
    """A layout of a comparison with what was measured of it."""

    candidate: Candidate
    measured: LayoutMeasured


def measure_layouts(
    answer: Answer, question: Question, keys: Collection[str], mix: str
) -> tuple[Mix, list[CandidateMeasured]]:
    """Layouts of a comparison run against one another on the very same drives, in the comparison's order.

    Without a mix, that of the workload asked about; without keys, the first few.
    """
    chosen = mix_of(mix) if mix.strip() else MIXES[workload_of(question.workload).plays]
    known = {c.key for c in answer.layouts}
    if unknown := [k for k in keys if k not in known]:
        raise NotFound("layout", unknown[0], field="keys")
    if len(keys) > MOST_LAYOUTS:
        raise BadInput(f"At most {MOST_LAYOUTS} layouts are measured side by side.", field="keys")
    which = [c for c in answer.layouts if c.key in keys] if keys else list(answer.layouts[:FIRST_FEW])
    return chosen, [CandidateMeasured(c, measure_layout(c.assessment, chosen)) for c in which]

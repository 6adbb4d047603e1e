"""Layouts that nobody has built, run against one another on the very same simulated drives: in memory, by the code that
would run them."""

from __future__ import annotations

from dataclasses import dataclass

from pairshelf.core.domain.units import EXTENT
from pairshelf.core.figures.assess import Assessment
from pairshelf.core.figures.speed import LEFT_FOR_REBUILD
from pairshelf.core.layouts import Layout
from pairshelf.core.loads import mixes
from pairshelf.core.loads.measured import (
    Rates,
    abilities_of,
    drive_rates,
    estimate_together,
    rates_of,
    row_width,
    speed_for,
)
from pairshelf.core.loads.mixes import Estimate, Mix
from pairshelf.core.loads.queues import Measurement, Phases, Player, Walking, play
from pairshelf.engine.io.pool_io import PoolIO, Run
from pairshelf.engine.io.trial import ANSWERS, PIECE, Trial

#: Stripes of a rebuild that are tried.
_STRIPES = 32


@dataclass(frozen=True, slots=True)
class LayoutMeasured:
    """A layout on blank drives, measured whole, with a drive gone, and while that one is filled anew; each beside what the
    figures say. Hours; None where nothing may be gone."""

    whole: Rates
    estimate: Estimate
    #: The share of its time that the busiest drive worked.
    busiest: float
    #: The member gone on which most stands.
    degraded: Rates | None
    rebuild_hours: float | None
    rebuild_estimate: float | None
    #: What users get while it is filled anew.
    rebuilding: Rates | None


def measure_layout(assessed: Assessment, mix: Mix, *, answers: int = ANSWERS) -> LayoutMeasured:
    """A mix on a layout that nobody has built: on blank drives in memory, by the code that would run it. A drive is filled
    anew while users ask for as much as the comparison takes them to: their share of what the whole layout does."""
    layout = assessed.layout
    abilities, _, carries = abilities_of(layout.members)
    room, width = [(0, layout.data_extents)], row_width(layout)

    def users(trial: Trial) -> list[Player]:
        return [Player((trial.carried_out(r) for r in mixes.requests(mix, room, width, 1)), mix.at_once)]

    def rates(found: Measurement) -> Rates:
        return rates_of(found.players, found.seconds)

    whole = play(abilities, users(Trial.made_up(layout)), links=carries, most=answers)
    estimated = estimate_together([(mix, speed_for(layout), width, 1.0)])
    busiest = max(d.busy for d in drive_rates(whole))
    if layout.scheme.survives == 0:
        return LayoutMeasured(rates(whole), estimated, busiest, None, None, None, None)
    slot = max(range(len(layout.members)), key=lambda i: layout.used_extents[i])
    gone = play(abilities, users(Trial.made_up(layout, away=[slot])), links=carries, most=answers // 2)
    filling = Trial.made_up(layout, filling=slot)
    steps = _filling(filling, layout, slot)
    # Users at the pace that the question has them at: as many requests as they would make with the drives whole.
    pace = rates(whole).operations * assessed.user_share
    players = [Player(p.requests, p.at_once, pace) for p in users(filling)] if pace > 0 else []
    found = play(abilities, players, links=carries, job=Walking(steps, LEFT_FOR_REBUILD, 1.0), most=2 * answers)
    filled = sum(a.size for s in steps for a in s[-1] if a.drive == slot) / len(steps) if steps else 0.0
    rate = found.steps * filled / found.seconds if found.seconds else 0.0
    hours = layout.used_extents[slot] * EXTENT / rate / 3600 if rate else None
    return LayoutMeasured(
        rates(whole), estimated, busiest, rates(gone), hours, assessed.rebuild_hours, rates(found) if players else None
    )


def _filling(trial: Trial, layout: Layout, slot: int) -> list[Phases]:
    """What drives have to do for some stripes of a drive that is filled from the others."""
    found = []
    assert isinstance(trial.io, PoolIO)
    runs = [r for r in trial.io.runs(0, 10**9) if slot in trial.io.placement.bands[r.band].groups[r.group].members]
    whole = sum(r.rows for r in runs)
    for number in range(_STRIPES):
        at = number % max(1, whole)
        for run in runs:
            if at < run.rows:
                trial.io.rebuild(Run(run.band, run.group, run.row + at, 1, run.number + at), slot)
                break
            at -= run.rows
        found.append(trial.noted(PIECE))
    return [s for s in found if any(s)]

"""Extents of a spread pool's stripes put elsewhere: what jobs that move them have in common."""

from __future__ import annotations

from collections.abc import Sequence

from pairshelf.core.layouts.stripe_moves import Move, moved
from pairshelf.engine.jobs.work import Work
from pairshelf.engine.records import say_first
from pairshelf.store.repositories.drives_and_pools import store_stripes

#: Most extents moved in one step: what they hold has to fit into memory, and to stay put meanwhile.
MOST = 512


def make(work: Work, moves: Sequence[Move]) -> None:
    """Write what stands there to its new places, flush, and note them: until then the old ones hold, and none of them
    is written to."""
    io, pool = work.spread_io, work.pool
    io.put_all([m.to for m in moves], io.extents([(m.volume, m.stripe, m.column) for m in moves]))
    io.flush()
    pool.layout = io.layout = moved(io.layout, moves)
    for volume in {m.volume for m in moves}:
        store_stripes(work.session, pool.row.number, io.layout.volume(volume))
    say_first(work.session, pool.row.number)

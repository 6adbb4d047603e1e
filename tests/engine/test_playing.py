"""Loads on pools: what requests make drives do, that nothing stored changes for it, and what jobs and users cost one another."""

from __future__ import annotations

import hashlib
from pathlib import Path

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from sqlmodel import select

from pairshelf.core.domain.drives import Drive, parse_shorthand
from pairshelf.core.domain.units import GIB
from pairshelf.core.errors import BadInput, NotFound, NotPossible, NotServing
from pairshelf.core.figures.assess import assess
from pairshelf.core.figures.assumptions import Assumptions
from pairshelf.core.figures.workloads import WORKLOADS
from pairshelf.core.layouts import build_layout
from pairshelf.core.loads.mixes import MIXES, Request
from pairshelf.core.watching.series import MOST_PLAYED
from pairshelf.engine import loads
from pairshelf.engine.history import Watch
from pairshelf.engine.io.trial import Trial
from pairshelf.engine.layout_trial import measure_layout
from pairshelf.engine.pools import devices
from pairshelf.services.loads import measure_now, set_play, speeds_of
from pairshelf.services.watching import history_named
from pairshelf.store.database import transaction
from pairshelf.store.settings import settings as house
from pairshelf.store.tables import JobRow, PlayRow, VolumeRow
from tests.engine.helpers import at_once, build, carry_all, check, do, files_intact, fill, happens, pool_state, shelf

SMALL_READ, SMALL_WRITE = Request(False, 7, 1, 4096), Request(True, 7, 1, 4096)


def _acts(trial: Trial, request: Request) -> tuple[int, int]:
    """Operations that read and that write, of what drives have to do for a request."""
    acts = [a for phase in trial.carried_out(request).phases for a in phase]
    return sum(not a.writes for a in acts), sum(a.writes for a in acts)


@pytest.mark.parametrize(
    ("scheme", "drives", "sets", "reads", "writes"),
    [
        ("stripe", 6, 1, 0, 1),
        ("copies-2", 6, 3, 0, 2),
        ("copies-3", 6, 2, 0, 3),
        # Read, changed and written back: the extent and its parity.
        ("parity-1", 8, 1, 2, 2),
        ("parity-2", 12, 1, 3, 3),
        ("parity-3", 12, 1, 4, 4),
        # With so few others it is less to read these.
        ("parity-2", 4, 1, 1, 3),
        ("parity-1", 3, 1, 1, 2),
    ],
)
def test_a_small_request_costs_what_the_rules_say(scheme: str, drives: int, sets: int, reads: int, writes: int) -> None:
    layout = build_layout([Drive(str(i), 40 * GIB) for i in range(drives)], scheme, sets=sets)
    trial = Trial.made_up(layout)
    assert _acts(trial, SMALL_READ) == (1, 0)
    assert _acts(trial, SMALL_WRITE) == (reads, writes)
    # Whole stripes are written without anything being read.
    data = max(b.data for b in layout.bands)
    assert _acts(trial, Request(True, 0, data, 4096)) == (0, drives)


@pytest.mark.parametrize("scheme", ["parity-1", "parity-2", "copies-2"])
def test_what_stood_on_a_drive_that_is_gone_costs_the_others(scheme: str) -> None:
    layout = build_layout([Drive(str(i), 40 * GIB) for i in range(6)], scheme, sets=3 if scheme == "copies-2" else 1)
    rows = sum(b.data for b in layout.bands) * 6
    costs = [_acts(Trial.made_up(layout, away=[0]), Request(False, a, 1, 4096))[0] for a in range(rows)]
    # In six rows its data stand in all but those in which it holds parity.
    assert sum(c > 1 for c in costs) == {"copies-2": 0, "parity-1": 5, "parity-2": 4}[scheme]
    assert max(costs) == (1 if scheme == "copies-2" else 5)


@settings(max_examples=40, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(
    scheme=st.sampled_from(["parity-1", "parity-2", "parity-3", "stepped-1", "stepped-2"]),
    writes=st.lists(st.tuples(st.integers(0, 40), st.integers(1, 9)), min_size=1, max_size=12),
    gone=st.integers(0, 6),
    seed=st.integers(0, 99),
)
def test_however_little_is_written_whatever_is_survived_is_read(
    scheme: str, writes: list[tuple[int, int]], gone: int, seed: int
) -> None:
    sizes = [12, 12, 16, 20, 20, 24, 24] if scheme.startswith("stepped") else [12] * 7
    layout = build_layout([Drive(str(i), s * GIB) for i, s in enumerate(sizes)], scheme)
    trial = Trial.made_up(layout)
    io, dice = trial.io, np.random.default_rng(seed)
    truth = np.zeros((layout.data_extents, io.block), np.uint8)
    for at, some in writes:
        count = max(0, min(some, len(truth) - at))
        if not count:
            continue
        fresh = dice.integers(0, 256, (count, io.block), np.uint8)
        io.write(at, fresh.tobytes())
        truth[at : at + count] = fresh
    survives = layout.scheme.survives
    lost = [(gone + i) % 7 for i in range(survives)]
    for slot in lost:
        io.members[slot].device = None
    assert io.read(0, len(truth)) == truth.tobytes()
    # And so it is when it is written to while they are gone.
    io.write(3, truth[5:8].tobytes())
    truth[3:6] = truth[5:8].copy()
    assert io.read(0, len(truth)) == truth.tobytes()


def test_one_layout_after_another_on_the_very_same_drives() -> None:
    drives = parse_shorthand("12x8TB")
    given_ = WORKLOADS["database"].with_load(Assumptions(), drives)
    mixes = MIXES["database"]
    wide, narrow, copies, bare = (
        measure_layout(assess(build_layout(drives, scheme, sets=sets), given_), mixes)
        for scheme, sets in (("parity-2", 1), ("parity-2", 3), ("copies-2", 6), ("stripe", 1))
    )
    for found in (wide, narrow, copies, bare):
        # Never more than drives can do, and by no means half of it: with 32 at once they are busy.
        # In sets as narrow as these, small writes are even less than the figures have them.
        most = 1.3 if found is narrow else 1.02
        assert 0.6 * found.estimate.operations < found.whole.operations <= most * found.estimate.operations
        assert 0.9 < found.busiest <= 1
    assert bare.degraded is None and bare.rebuild_hours is None
    assert copies.whole.operations > 1.5 * wide.whole.operations
    for found in (wide, narrow, copies):
        assert found.degraded is not None and found.rebuild_hours is not None and found.rebuild_estimate is not None
        assert found.degraded.operations < found.whole.operations
        # Users get in the way of a rebuild more than their share of the time: drives go to and fro.
        assert found.rebuild_estimate < found.rebuild_hours < 5 * found.rebuild_estimate
    # Wide against narrow, as measured: with a drive gone, and until it is filled again.
    assert wide.rebuild_hours > 1.3 * narrow.rebuild_hours > copies.rebuild_hours  # type: ignore[operator]
    assert measure_layout(assess(build_layout(drives, "stripe"), given_), mixes) == bare, "the same every time"


# -- pools ---------------------------------------------------------------------------------------------


@pytest.fixture
def quick(db: str) -> None:
    at_once()


def _bytes_of_all() -> str:
    found = hashlib.sha256()
    for path in sorted(p for p in Path(house().devices).rglob("*") if p.is_file() and "history" not in str(p)):
        found.update(path.name.encode())
        found.update(path.read_bytes())
    return found.hexdigest()


def _volume(pool: int) -> int:
    with transaction() as session:
        return session.exec(select(VolumeRow.id).where(VolumeRow.pool_id == pool)).first() or 0


@pytest.mark.usefixtures("quick")
@pytest.mark.parametrize("kind", ["parity-2", "spread", "degraded", "encrypted"])
def test_whatever_is_played_not_a_byte_changes(kind: str) -> None:
    drives = shelf(6, size=80 * GIB)
    more = {"protection": "parity-1:4", "volume_size": "90 GiB", "domain": "drive"} if kind == "spread" else {}
    more |= {"encrypted": True} if kind == "encrypted" else {}
    pool = do("build-pool", name="p", scheme="spread" if more.get("domain") else "parity-2", drives=tuple(drives),
              volume="v", **more).pool_id or 0  # fmt: skip
    fill(pool)
    carry_all()
    if kind == "degraded":
        happens("pull", "A1")
        assert pool_state(pool)[0] == "degraded"
    before = _bytes_of_all()
    for mix in MIXES:
        with transaction() as session:
            found = measure_now(session, devices(), pool, _volume(pool), mix, beside="check", pace="fast")
        assert found.whole.operations > 0 and found.estimate.operations > 0
        # A check waits while a drive is away: there is nothing to measure beside.
        assert (found.beside is None) == (kind == "degraded")
        if found.beside is not None:
            assert 0 < found.beside.users.operations < found.beside.users_alone.operations
            assert 0 < found.beside.job < found.beside.job_alone
    assert _bytes_of_all() == before
    if kind != "degraded":
        assert check(pool).report["mismatches"] == 0
    assert files_intact(pool)


@pytest.mark.usefixtures("quick")
def test_a_gentle_job_leaves_users_more_than_a_fast_one() -> None:
    pool = build(shelf(6), "parity-2")
    fill(pool)
    carry_all()
    of = {}
    for pace in ("gentle", "fast"):
        with transaction() as session:
            of[pace] = measure_now(
                session, devices(), pool, _volume(pool), "database", beside="check", pace=pace
            ).beside
    gentle, fast = of["gentle"], of["fast"]
    assert gentle is not None and fast is not None
    assert gentle.costs_users == pytest.approx(0.2, abs=0.1)
    assert fast.costs_users == pytest.approx(0.8, abs=0.1)
    assert fast.job > 2 * gentle.job


@pytest.mark.usefixtures("quick")
def test_a_load_is_played_round_after_round_and_recorded_until_it_is_ended() -> None:
    pool = build(shelf(6), "parity-2")
    volume = _volume(pool)
    fill(pool)
    carry_all()
    with transaction() as session:
        set_play(session, volume, "database", "ida", wanted=50)
        assert speeds_of(session, pool).found is None
    assert Watch().look()
    with transaction() as session:
        told = speeds_of(session, pool)
        assert [(p.mix, p.wanted) for p in told.plays] == [("database", 50)]
        assert told.found is not None and told.found["whole"]["operations"] == pytest.approx(50, rel=0.1)
        for series, of in (
            ("volume-operations", "p/v"), ("pool-operations", "p"), ("drive-busy", "A1"), ("link-throughput", "A"),
            ("link-drives", "A"), ("volume-response", "p/v"), ("drive-operations", "A1"), ("pool-throughput", "p"),
        ):  # fmt: skip
            found = history_named(session, series, of, 1)
            assert found.points and found.points[-1].mean > 0, series
        assert history_named(session, "volume-operations", "p/v", 1).points[-1].mean == pytest.approx(50, rel=0.1)
        assert history_named(session, "link-drives", "A", 1).points[-1].mean == 6
        with pytest.raises(NotFound):
            history_named(session, "host-drives", "nobody", 1)
    for slot in range(3):
        happens("fail", f"A{slot + 1}")
    assert pool_state(pool)[0] == "lost"
    loads.play_all(devices(), Watch()._clock())
    with transaction() as session:
        told = speeds_of(session, pool)
        assert told.found is None and told.why_none is not None and "lost" in told.why_none
        set_play(session, volume, "", "ida")
    loads.play_all(devices(), Watch()._clock())
    with transaction() as session:
        assert speeds_of(session, pool).plays == []
        assert session.exec(select(PlayRow)).all() == []


@pytest.mark.usefixtures("quick")
def test_what_runs_on_a_pool_is_seen_in_what_its_users_get() -> None:
    pool = build(shelf(6), "parity-1")
    fill(pool)
    carry_all()
    with transaction() as session:
        set_play(session, _volume(pool), "small-reads", "ida")
        session.add(
            JobRow(kind="check", pool_id=pool, asked_by="ida", total=10, state="running", pace="fast", report={})
        )
    found = loads.play_all(devices(), Watch()._clock())[pool]
    assert found.beside is not None and (found.beside.kind, found.beside.pace) == ("check", "fast")
    assert found.whole == found.beside.users
    assert found.whole.operations < 0.4 * found.beside.users_alone.operations
    assert max(d.for_job for d in found.drives) == pytest.approx(0.8, abs=0.08)


@pytest.mark.usefixtures("quick")
def test_what_cannot_be_played_says_why() -> None:
    pool = do("build-pool", name="p", scheme="parity-1", drives=tuple(shelf(4)), volume="v", thin=True).pool_id or 0
    carry_all()
    volume = _volume(pool)
    with transaction() as session, pytest.raises(NotPossible) as refused:
        measure_now(session, devices(), pool, volume, "files")
    assert refused.value.code == "nothing-written"
    for more, field in (
        ({"mix": "all"}, "mix"),
        ({"beside": "wipe"}, "beside"),
        ({"pace": "wild"}, "pace"),
        ({"at_once": 0}, "at_once"),
    ):
        with transaction() as session, pytest.raises(BadInput) as bad:
            measure_now(session, devices(), pool, volume, **{"mix": "files", **more})  # type: ignore[arg-type]
        assert bad.value.field == field
    with transaction() as session, pytest.raises(NotFound):
        measure_now(session, devices(), pool, volume + 99, "files")
    with transaction() as session, pytest.raises(NotFound):
        set_play(session, volume + 99, "files", "ida")
    with transaction() as session:
        for number in range(MOST_PLAYED):
            other = VolumeRow(
                pool_id=pool, name=f"o{number}", size=GIB, extents=1, file_system="none", overhead=0, uuid=str(number)
            )
            session.add(other)
            session.flush()
            set_play(session, other.number, "files", "ida")
        with pytest.raises(NotPossible) as enough:
            set_play(session, volume, "files", "ida")
        assert enough.value.code == "enough-played"
    for serial in ("A1", "A2"):
        happens("fail", serial)
    with transaction() as session, pytest.raises(NotServing):
        measure_now(session, devices(), pool, volume, "files")

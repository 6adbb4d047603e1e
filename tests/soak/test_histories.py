"""Some random histories (``make soak`` goes on for as long as wanted), and that they would notice."""

from __future__ import annotations

import multiprocessing
import random
from concurrent.futures import ProcessPoolExecutor

import pytest
from sqlmodel import select

from pairshelf.engine.io import pool_io
from pairshelf.engine.pools import devices
from pairshelf.store.database import transaction
from pairshelf.store.tables import DriveRow
from tests.engine.helpers import at_once, build, carry_all, fill, shelf
from tests.soak.__main__ import one
from tests.soak.histories import DRAINED, POOLS
from tests.soak.raw import Raw

pytestmark = pytest.mark.crash


@pytest.mark.parametrize("kind", sorted(POOLS))
def test_random_histories_lose_nothing(server: str, template: str, kind: str) -> None:
    """A seed for every kind of pool, another where nobody was killed; ``make soak`` takes as many as there is time for."""
    first, kills = 2 * sorted(POOLS).index(kind), 0
    with ProcessPoolExecutor(1) as worker:
        for number in (first, first + 1):
            seed, kind, killed, why = worker.submit(one, server, template, number, kind).result()
            kills += killed
            assert not why, f"make soak SEED={seed} KIND={kind} ROUNDS=1\n{why}"
            if kills:
                break
    assert kills, "nobody was killed"


@pytest.mark.parametrize(
    "kind", ["copies-3", "parity-1", "spread-1", "spread-hosts", "spread-shelves", "stepped-1", "two-sets"]
)
def test_random_histories_of_drains_lose_nothing(server: str, template: str, kind: str) -> None:
    """Drives leave, and fail at any instant, with the worker killed at any write: of every kind of pool."""
    with ProcessPoolExecutor(1) as worker:
        seed, _, _, why = worker.submit(one, server, template, sorted(DRAINED).index(kind), f"drained:{kind}").result()
    assert not why, f"make soak SEED={seed} KIND=drained:{kind} ROUNDS=1\n{why}"


@pytest.mark.usefixtures("db")
@pytest.mark.parametrize("scheme", ["parity-2", "copies-3", "stepped-1"])
def test_the_reader_apart_notices_one_wrong_byte(scheme: str) -> None:
    at_once()
    pool = build(shelf(5 if scheme == "parity-2" else 3, size=12 * 2**30), scheme)
    fill(pool, 0.9)
    carry_all()
    with transaction() as session:
        raw = Raw(session, pool)
        assert raw.in_step() == []
        assert raw.files_differing(random.Random(1), 1) == []
        drive = session.exec(select(DriveRow)).first()
        assert drive
        devices().flip_bits(drive.serial, drive.size, extents=list(range(1, 10)))
        spoilt = Raw(session, pool)
        assert len(spoilt.in_step()) == 9
        assert any(spoilt.files_differing(random.Random(n), 0) for n in range(2))


@pytest.mark.usefixtures("db")
def test_a_history_notices_when_absent_members_are_not_marked(
    server: str, template: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The rule broken on purpose: within some seeds a drive comes back as it was, and bytes had changed."""
    monkeypatch.setattr(pool_io.MembersIO, "_mark", lambda _self, *_rows: None)
    # In a child of this process, which has the broken rule; what histories change of the engine stays there.
    with ProcessPoolExecutor(1, mp_context=multiprocessing.get_context("fork")) as worker:
        found = (worker.submit(one, server, template, seed).result()[3] for seed in (5, 21, 32, 35, 38))
        assert any("came back as it was, and" in why for why in found)


def test_pools_of_the_histories_can_be_built() -> None:
    assert {scheme for scheme, *_ in POOLS.values()} >= {
        "parity-1",
        "parity-2",
        "parity-3",
        "copies-2",
        "stepped-1",
        "spread",
    }

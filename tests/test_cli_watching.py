"""What the screens show, asked from a script: the same figures, and a status that says whether all is well."""

from __future__ import annotations

import json
from typing import Any

import pytest

from pairshelf.core.watching.thresholds import Thresholds
from pairshelf.engine.history import take_round
from pairshelf.services.watching import set_thresholds
from pairshelf.store import clock
from pairshelf.store.database import transaction
from tests.console import run
from tests.engine.helpers import all_here, at_once, build, carry_all, do, fill, happens, shelf


@pytest.fixture
def house(db: str) -> int:
    at_once()
    pool = build(shelf(4), "parity-1")
    fill(pool, 0.5)
    carry_all()
    all_here()
    return pool


def _told(*words: str, status: int = 0) -> Any:
    done = run([*words, "--json"])
    assert done[0] == status, done
    return json.loads(done[1])


def test_the_status_says_whether_all_is_well(house: int) -> None:
    told = _told("status")
    assert told["well"] and told["verdict"].startswith("All is well")
    (pool,) = told["pools"]
    assert (pool["state"], pool["still"], pool["level"]) == ("healthy", "survives any one drive failure", "room")
    assert run(["status"])[0] == 0
    with transaction() as session:
        set_thresholds(session, "ida", Thresholds(0.2, 0.3), volume_id=1)
    told = _told("status", status=1)
    assert not told["well"] and told["pools"][0]["level"] == "urgent"
    assert "soon" in [m["gravity"] for m in told["matters"]]
    happens("fail", "A2")
    status, said, _ = run(["status"])
    assert status == 1 and "survives no further failure" in said and "degraded" not in said.splitlines()[0]


def test_pools_volumes_and_drives_are_listed_with_what_is_used(house: int) -> None:
    (pool,) = _told("pools")["pools"]
    (volume,) = _told("volumes", "--pool", "p")["volumes"]
    drives = _told("drives")["drives"]
    assert pool["files"] == volume["files"] > 0 and pool["given"] == volume["given"]
    assert volume["share"] == pytest.approx(volume["files"] / volume["for_files"])
    assert [d["serial"] for d in drives] == ["A1", "A2", "A3", "A4"]
    assert 0 <= sum(d["used"] for d in drives) - pool["given"] * 4 // 3 < 4 * 2**30
    do("delete-volume", volume="p/v")
    assert [d["used"] for d in _told("drives", "--filter", "in-use")["drives"]] == [0] * 4
    assert _told("drives", "--filter", "free")["drives"] == []
    for words in (["pools"], ["volumes"], ["drives"]):
        assert run(words)[0] == 0
    assert run(["volumes", "--pool", "none"])[0] == 2
    assert run(["drives", "--filter", "bogus:1"])[0] == 2


def test_a_history_is_asked_for_by_name(house: int) -> None:
    with transaction() as session:
        take_round(session, clock.now())
    told = _told("history", "volume-files", "p/v", "--hours", "1")
    assert told["points"][-1]["mean"] == _told("volumes")["volumes"][0]["files"]
    assert _told("history", "pool-given", "p")["of"] == "p"
    assert _told("history", "drive-used", "A1")["points"][-1]["mean"] == _told("drives")["drives"][0]["used"]
    assert "GB" in run(["history", "pool-files", "p"])[1]
    for words in (
        ["nonsense", "p"],
        ["pool-given", "q"],
        ["volume-files", "v"],
        ["drive-used", "Z9"],
        ["pool-given", "p", "--hours", "0"],
    ):
        status, _, said = run(["history", *words])
        assert status == 2 and said.startswith("pairshelf: "), said


def test_speed_is_measured_from_a_script(house: int) -> None:
    told = _told("speed", "p/v", "--mix", "database", "--beside", "check", "--pace", "fast")
    assert told["beside"]["users"]["operations"] < told["beside"]["users_alone"]["operations"]
    assert told["beside"]["costs_users"] == pytest.approx(0.8, abs=0.1)
    code, said, _ = run(["speed", "p/v"])
    assert code == 0 and "the figures say" in said
    assert run(["speed", "p/nothing"])[0] != 0


def test_layouts_are_measured_from_a_script() -> None:
    code, said, _ = run(["layouts", "6x4TB", "--survive", "1", "--measure", "--mix", "small-reads"])
    assert code == 0 and "Measured with small reads, 32 requests at once" in said
    told = _told("layouts", "6x4TB", "--survive", "1", "--measure")
    assert told["measured"]["mix"] == "files"
    assert all(m["whole"]["operations"] > 0 for m in told["measured"]["layouts"])

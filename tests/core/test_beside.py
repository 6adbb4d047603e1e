"""What may run beside what: the table holds for every pair, and nothing else is in anybody's way."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from pairshelf.core.policies.beside import MEETINGS, Then, Under, Where, meetings
from pairshelf.core.policies.checking import why_no_check
from pairshelf.engine.jobs.kinds import JOBS

KINDS = [*JOBS, "add-sets", "resize-volume", "delete-volume", "reformat-volume"]
ids = st.integers(1, 3) | st.none()
work = st.builds(Under, st.sampled_from(KINDS), ids, ids)


def test_what_each_meets() -> None:
    sync, on_one, check = Under("first-sync"), Under("fill", 1), Under("check")
    repair, rebuild = Under("self-repair", slot=2), Under("rebuild", slot=2)

    def then(new: Under, *under_way: Under) -> list[Then]:
        return [meeting.then for meeting, _ in meetings(new, under_way)]

    assert then(check, sync) == then(check, repair) == then(check, check) == [Then.REFUSED]
    assert then(check, on_one, rebuild) == []
    assert then(Under("fill", 1), on_one) == [Then.REFUSED] and then(Under("fill", 2), on_one) == []
    assert then(Under("read-files", 1), on_one) == then(Under("check-files", 1), Under("read-files", 1)) == []
    assert then(rebuild, repair, rebuild) == [Then.ENDED, Then.ANEW]
    assert then(rebuild, Under("self-repair", slot=1), Under("rebuild", slot=1)) == []
    assert then(repair, repair) == [Then.JOINED] and then(Under("self-repair", slot=0), repair) == []
    assert then(Under("delete-volume", 1), on_one, sync) == [Then.REFUSED]
    assert then(Under("delete-volume", 2), on_one) == []


@given(work, st.lists(work, max_size=6))
def test_only_the_table_stands_in_the_way(new: Under, under_way: list[Under]) -> None:
    found = meetings(new, under_way)
    for meeting, one in found:
        assert meeting in MEETINGS and meeting.new == new.kind and one in under_way
        assert not meeting.under_way or one.kind in meeting.under_way
        assert meeting.where is Where.POOL or new.volume_id == one.volume_id or new.slot == one.slot
    order = [meeting.then is Then.REFUSED for meeting, _ in found]
    assert order == sorted(order, reverse=True), "a refusal comes before anything is done"


def test_every_kind_in_it_is_one() -> None:
    named = {m.new for m in MEETINGS} | {k for m in MEETINGS for k in m.under_way}
    assert named <= set(KINDS)
    assert all(m.said for m in MEETINGS if m.then in (Then.REFUSED, Then.ENDED))


@pytest.mark.parametrize(
    ("states", "synced", "stripes", "code"),
    [
        (["active"] * 4, True, 10, None), (["active", "emptied"], True, 10, None), (["active", "missing"], True, 10, "degraded"),
        (["active", "rebuilding"], False, 10, "degraded"), (["active"], False, 10, "not-synced"), (["active"], True, 0, "nothing-there"),
        (["failed"], False, 0, "degraded"),
    ],
)  # fmt: skip
def test_what_keeps_a_pool_from_being_checked(states: list[str], synced: bool, stripes: int, code: str | None) -> None:
    why = why_no_check(states, synced=synced, stripes=stripes)
    assert (why and why[0]) == code

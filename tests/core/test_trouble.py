"""The page for trouble: what it says of any pool in any state, and what must be left in is exactly what is needed."""

from __future__ import annotations

from dataclasses import replace

from hypothesis import given, settings
from hypothesis import strategies as st

from pairshelf.core.domain.drives import Drive, Kind
from pairshelf.core.domain.estate import EstateDrive, EstatePlace, EstatePool
from pairshelf.core.domain.units import TB
from pairshelf.core.figures.survival import state_of
from pairshelf.core.layouts import build_layout
from pairshelf.core.watching.trouble import Trouble, trouble_of

STATES = ("active", "failed", "missing", "rebuilding")


def pool(scheme: str, states: list[str], *, sets: int = 1, failing: tuple[int, ...] = ()) -> EstatePool:
    layout = build_layout([Drive(str(i), 6 * TB) for i in range(len(states))], scheme, sets=sets)
    drives = [
        EstateDrive(i + 1, f"S{i}", None if s == "missing" else "Oak", None if s == "missing" else i + 1, 6 * TB, Kind.HDD, None, "in-use",
                    s if s in ("failed", "missing") else "failing" if i in failing else "good", pool="p",
                    left=("Oak", i + 1) if s == "missing" else None)
        for i, s in enumerate(states)
    ]  # fmt: skip
    places = tuple(EstatePlace(i, s, layout.members[i], drives[i]) for i, s in enumerate(states))
    failed = [p.designed.id for p in places if p.state in ("failed", "rebuilding")]
    missing = [p.designed.id for p in places if p.state == "missing"]
    return EstatePool(1, "p", str(state_of(layout, failed, missing)), layout, places, (), True, scheme)


def told(scheme: str, *states: str, **more: object) -> Trouble:
    found = trouble_of(pool(scheme, list(states), **more))  # type: ignore[arg-type]
    assert found is not None
    return found


def test_all_well_is_no_trouble() -> None:
    assert trouble_of(pool("parity-1", ["active"] * 4)) is None


def test_a_failed_drive_is_replaced_and_nothing_else_is_pulled() -> None:
    found = told("parity-1", "active", "failed", "active", "active")
    assert found.title == "The drive in Oak bay 2 has failed"
    assert found.must.words == "Replace the drive in Oak bay 2" and found.must.link == "/pools/1?replace=2"
    assert [d.place for d in found.keep_in] == ["Oak bay 1", "Oak bay 3", "Oak bay 4"]
    assert [b.act for b in found.blocked] == ["Pulling another drive", "Taking the pool apart, or building anew"]
    # Of double parity, one more may go: nothing has to be left in, and nobody is frightened without need.
    assert told("parity-2", "active", "failed", "active", "active", "active").keep_in == ()


def test_what_is_away_is_put_back_and_nothing_is_said_to_be_lost() -> None:
    found = told("parity-1", "missing", "missing", "active", "active")
    assert (found.state, found.title) == ("unreachable", "Pool p is away, not lost")
    assert found.must.words == "Put them back: S0 into Oak bay 1; S1 into Oak bay 2" and found.must.link is None
    assert {b.act for b in found.blocked} == {
        "Pulling another drive",
        "Building anew on its drives",
        "Wiping what was pulled",
    }
    said = " ".join([found.title, found.still, found.must.words, found.must.why, *(b.why for b in found.blocked)])
    assert "is lost" not in said.replace("Nothing is lost", "") and "Nothing is lost" in said
    # One is away: it goes back; if another has failed, that is replaced first.
    assert told("parity-2", "missing", "active", "active", "active").must.words == "Put it back: S0 into Oak bay 1"
    assert told("parity-2", "missing", "failed", "active", "active").must.words == "Replace the drive in Oak bay 2"


def test_lost_is_said_plainly_and_leads_to_the_backup() -> None:
    found = told("parity-1", "failed", "failed", "active", "active")
    assert (found.title, found.must.words) == ("Pool p is lost", "Bring back the backup")
    assert not any("apart" in b.act for b in found.blocked)


def test_one_that_warns_is_copied_while_it_reads_and_a_rebuild_is_left_alone() -> None:
    found = told("parity-1", "active", "active", "active", failing=(2,))
    assert found.title == "The drive in Oak bay 3 still works, but is failing"
    assert found.must.words == "Replace the drive in Oak bay 3 while it still reads"
    assert found.blocked == ()
    found = told("parity-1", "rebuilding", "active", "active")
    assert (found.must.words, found.title) == ("Let the rebuild end", "The drive in Oak bay 1 is being rebuilt")
    # The gravest first, whatever order the places have.
    found = told("parity-2", "rebuilding", "active", "failed", "active", "active", failing=(1,))
    assert [d.word for d in found.drives] == ["failed", "failing", "rebuilding"]
    assert found.title.endswith("has failed, and 2 more")


def test_a_place_without_a_drive_is_named_too() -> None:
    one = pool("parity-1", ["failed", "active", "active"])
    bare = replace(one, places=(replace(one.places[0], drive=None), *one.places[1:]))
    found = trouble_of(bare)
    assert found is not None and found.drives[0].place == "an empty place" and found.must.link == "/pools/1"


@settings(max_examples=150)
@given(st.sampled_from(["parity-1", "parity-2", "parity-3", "copies-2", "stripe"]), st.data())
def test_what_must_be_left_in_is_exactly_what_is_needed(scheme: str, data: st.DataObject) -> None:
    """Pulling one that is named makes data unusable; pulling any other does not."""
    sets = data.draw(st.integers(1, 2))
    count = 2 * sets if scheme == "copies-2" else data.draw(st.integers(5, 6)) * sets
    states = data.draw(st.lists(st.sampled_from(STATES), min_size=count, max_size=count))
    one = pool(scheme, states, sets=sets)
    found = trouble_of(one)
    if found is None:
        assert set(states) == {"active"}
        return
    assert {d.slot for d in found.drives} == {i for i, s in enumerate(states) if s != "active"}
    named = {d.slot for d in found.keep_in}
    for slot, state in enumerate(states):
        if state != "active":
            assert slot not in named
            continue
        pulled = pool(scheme, [*states[:slot], "missing", *states[slot + 1 :]], sets=sets)
        assert (slot in named) == (pulled.state in ("lost", "unreachable"))

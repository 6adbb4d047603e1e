"""What users do meanwhile: the load a use usually brings, and what it makes of wide and narrow sets."""

from __future__ import annotations

from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from pairshelf.core.domain.drives import Drive, Kind
from pairshelf.core.domain.units import TB
from pairshelf.core.errors import BadInput
from pairshelf.core.figures.assess import Assessment, assess
from pairshelf.core.figures.assumptions import Assumptions
from pairshelf.core.figures.speed import LEFT_FOR_REBUILD, mixed_writes, speed, user_share
from pairshelf.core.figures.workloads import WORKLOADS, load_said, workload_of
from pairshelf.core.layouts import build_layout
from pairshelf.core.layouts.model import Family
from pairshelf.core.search.candidates import Question, all_layouts, load_of

DRIVES = [Drive(f"d{i}", 6 * TB, Kind.HDD, 200_000_000, ops=120) for i in range(24)]


def _by_width(question: Question, scheme: str = "parity-2") -> dict[int, Assessment]:
    answer = all_layouts(DRIVES, replace(question, spares=0))
    found = [c.candidate.assessment for c in answer.considered if c.candidate.layout.scheme.id == scheme]
    return {a.layout.width: a for a in found}


@pytest.mark.parametrize("workload", WORKLOADS)
def test_wide_and_narrow_differ_without_anything_being_said(workload: str) -> None:
    """Of the same drives under the same scheme wider sets rebuild slower and bear fewer small writes, for every use."""
    found = _by_width(Question(workload=workload))
    widths = sorted(found)
    assert widths == [4, 6, 8, 12, 24]
    hours = [found[w].rebuild_hours or 0 for w in widths]
    writes = [found[w].small_writes for w in widths]
    assert hours == sorted(hours) and hours[-1] > 1.01 * hours[0]
    assert writes == sorted(writes, reverse=True) and writes[0] > 1.05 * writes[-1]
    # All are asked to bear the same.
    assert len({found[w].given.user_writes for w in widths}) == 1


def test_what_is_said_goes_before_what_is_assumed() -> None:
    idle = _by_width(Question(given=Assumptions(user_share=0.0)))
    assert len({a.rebuild_hours for a in idle.values()}) == 1
    third = _by_width(Question(given=Assumptions(user_share=1 / 3)))
    assert third[6].rebuild_hours == pytest.approx((idle[6].rebuild_hours or 0) * 1.5)
    typed = _by_width(Question(given=Assumptions(user_writes=100, whole_stripes=1)))
    # 24 drives in sets of 12: two sets of 120 whole stripes a second.
    assert typed[12].rebuild_hours == pytest.approx((idle[12].rebuild_hours or 0) / (1 - 100 / 240))
    said = load_of(all_layouts(DRIVES, Question()), Question())
    assert said == "users make 58 small writes/s, 50% of them whole stripes (assumed for general files)"
    assert load_said(Assumptions(), None) == "nobody uses the drives meanwhile"
    assert load_said(Assumptions(user_share=0.3), None) == "users take 30% of the drives"
    with pytest.raises(BadInput) as caught:
        all_layouts(DRIVES, Question(given=Assumptions(whole_stripes=1.5)))
    assert caught.value.field == "whole_stripes"


@given(st.floats(0, 1), st.floats(0, 1e5), st.sampled_from(["copies-2", "parity-1", "parity-3", "stepped-2", "stripe"]))
def test_a_mix_lies_between_its_parts(whole: float, writes: float, scheme: str) -> None:
    layout = build_layout(DRIVES[:12], scheme)
    model = speed(layout)
    mixed = mixed_writes(layout, whole)
    low, high = sorted((model.random_write_rmw, model.random_write_whole_stripe))
    assert low * (1 - 1e-9) <= mixed <= high * (1 + 1e-9)
    assert mixed_writes(layout, 0) == model.random_write_rmw
    assert mixed_writes(layout, 1) == pytest.approx(model.random_write_whole_stripe)
    given_ = Assumptions(user_writes=writes, whole_stripes=whole)
    assert user_share(layout, given_) == pytest.approx(min(writes / mixed, 1 - LEFT_FOR_REBUILD))


def test_rotating_and_flash_apart_have_each_the_load_of_their_own() -> None:
    flash = [Drive(f"f{i}", 2 * TB, Kind.NVME, ops=80_000) for i in range(4)]
    answer = all_layouts([*DRIVES, *flash], Question(workload="database"))
    loads = {c.part: c.assessment.given.user_writes for c in answer.layouts}
    load = workload_of("database")
    assert loads == {"rotating": load.load_on(DRIVES), "flash": load.load_on(flash)}


def test_larger_drives_later_put_steps_before_equal_sets() -> None:
    equal = [Drive(f"m{i}", 4 * TB) for i in range(6)]
    plain, later = (all_layouts(equal, Question(larger_later=said)) for said in (False, True))
    families = [c.layout.scheme.family for c in later.layouts]
    assert families[0] is Family.STEPPED and plain.layouts[0].key != later.layouts[0].key
    fit = [
        c.layout.scheme.family for c in later.layouts if c.survives.guaranteed >= later.layouts[0].survives.guaranteed
    ]
    assert fit.index(Family.SETS) >= sum(f is Family.STEPPED for f in fit)
    told = {c.layout.scheme.id: [*c.reasons.pros, *c.reasons.cons] for c in later.layouts}
    assert "It grows with larger drives, from number 3 on." in told["stepped-2"]
    assert any("before all" in s for s in told["parity-1"]) and "Larger drives never make it grow." in told["stripe"]
    assert not any("arger drives" in s for c in plain.layouts for s in (*c.reasons.pros, *c.reasons.cons))


def test_efficiency_is_what_is_left_of_all_that_is_there() -> None:
    from pairshelf.core.figures.registry import FIGURES, figures_of, format_figure

    found = assess(build_layout([*DRIVES[:9], DRIVES[9]], "parity-1", spares=1), Assumptions())
    share = figures_of(found)["efficiency"]
    assert share == found.space.usable / sum(d.size for d in DRIVES[:10])
    assert format_figure(FIGURES["efficiency"], 0.7256, "decimal") == "72.6%"

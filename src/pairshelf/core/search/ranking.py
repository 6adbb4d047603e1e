"""How layouts stand among one another: unbeaten or not, their order for a workload, fit to be suggested or not."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import numpy.typing as npt

from pairshelf.core.domain.drives import Drive
from pairshelf.core.figures.assess import Assessment
from pairshelf.core.figures.assumptions import Assumptions
from pairshelf.core.figures.registry import FIGURES
from pairshelf.core.figures.workloads import Workload
from pairshelf.core.layouts.model import Code
from pairshelf.core.search.reasons import QUICK_RESTORE

#: Widest parity set that is recommended; wider ones are listed all the same.
WIDE = 10
#: Drives from this size on take so long to rebuild that two failures should be survived.
LARGE = 2 * 10**12


def pareto_marks(found: Sequence[Assessment]) -> list[bool]:
    """For each layout, whether no other is at least as good on every figure that is weighed and better on one.

    A figure that is missing (no rebuild without redundancy) counts as the worst there is.
    """
    weighed = [one for one in FIGURES.values() if one.weighed]
    table = np.array([
        [(-np.inf if (v := one.value(a)) is None else v if one.more_is_better else -v) for one in weighed] for a in found
    ], float)  # fmt: skip
    marks = []
    for row in table:
        as_good = (table >= row).all(axis=1)
        better = (table > row).any(axis=1)
        marks.append(not bool((as_good & better).any()))
    return marks


def safe_enough(drives: Sequence[Drive], given: Assumptions) -> int:
    """From which yearly chance of damage on, as a power of ten, more safety is not worth capacity: one in ten thousand;
    with a recorded backup one in a thousand, and one in a hundred where a restore takes a few hours only."""
    if given.backup is None:
        return 4
    return 2 if restores_quickly(drives, given) else 3


def scores_of(found: Sequence[Assessment], workload: Workload, enough: int) -> list[float]:
    """Each figure brought to 0..1 among the candidates, then weighed for the workload.

    A chance of damage a year of 10 to the minus ``enough`` is safe enough (``safe_enough``).
    """
    tiny = 1e-12
    merits = {
        "capacity": np.array([a.space.usable for a in found], float) / max(a.space.usable for a in found),
        "safety": np.minimum(1.0, -np.log10([max(tiny, a.odds.yearly_damage) for a in found]) / enough),
        "small_writes": _of_best([a.small_writes for a in found]),
        "small_reads": _of_best([a.speed.random_read for a in found]),
        "sequential": _of_best([a.speed.sequential_write for a in found]),
        "rebuild": _of_best([1 / a.rebuild_hours if a.rebuild_hours else 0.0 for a in found]),
    }
    weights = workload.weights()
    return [float(s) for s in np.sum([weights[name] * merits[name] for name in weights], axis=0)]


def _of_best(values: Sequence[float]) -> npt.NDArray[np.float64]:
    most = max(values)
    return np.array(values, float) / most if most > 0 else np.zeros(len(values))


def restores_quickly(drives: Sequence[Drive], given: Assumptions) -> bool:
    """Whether a backup could bring all that the drives hold back within a few hours."""
    return given.backup is not None and sum(d.size for d in drives) / given.backup.link <= QUICK_RESTORE * 3600


def aim_of(drives: Sequence[Drive], quick: bool) -> int:
    """Failures a sensible layout of these drives survives: two where rebuilds take many hours, unless all of
    it could be restored within few."""
    if quick:
        return 1
    large = any(d.rotates and d.size >= LARGE for d in drives) and len(drives) >= 4
    return 2 if large else 1


def meets_aim(found: Assessment, aim: int) -> bool:
    """Whether it may be recommended: enough failures survived, no set too wide, spares that fit."""
    layout = found.layout
    narrow = layout.width <= WIDE or layout.scheme.code is not Code.PARITY
    # Copies rebuild from one drive, whole: one failure survived is enough there.
    enough = found.survives.guaranteed >= (min(aim, 1) if layout.scheme.code is Code.COPIES else aim)
    return enough and narrow and not any(c.code == "spare-too-small" for c in found.cautions)

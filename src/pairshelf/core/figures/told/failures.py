"""Which failures are survived."""

from __future__ import annotations

from pairshelf.core.figures.assess import Assessment
from pairshelf.core.figures.figure import OWN, Explanation, LayoutFigure, Worked


def _next(a: Assessment) -> tuple[int, float]:
    """One failure more than is survived for sure, and the share of its choices that leave all data."""
    k = a.survives.guaranteed + 1
    return k, a.curve[k] if k <= len(a.layout.members) else 0.0


def _guaranteed(a: Assessment, _file_system: str) -> Worked:
    (k, share), t = _next(a), a.layout.scheme.survives
    told = (
        f"of all choices of {k} failed drives, {share:.4%} leave all data"
        if share > 0
        else f"no choice of {k} failed drives leaves all data"
    )
    return Worked("the tolerance of one set, because all failures may strike the same set",
                  f"each set of {a.layout.width} does without {t}, so any {t}; {told}", OWN)  # fmt: skip


def _best_case(a: Assessment, _file_system: str) -> Worked:
    return Worked("tolerance of a set × number of sets",
                  f"{a.layout.scheme.survives} × {len(a.layout.sets)} = {a.survives.best_case}", OWN)  # fmt: skip


GUARANTEED = LayoutFigure(
    "guaranteed", "Failures survived, whichever they are", "Survives, whichever", "sure",
    "Drive failures at the same time that lose no data, whichever drives fail.",
    "drives", True, lambda a: a.survives.guaranteed, _guaranteed, weighed=True, listed=True,
)  # fmt: skip
BEST_CASE = LayoutFigure(
    "best_case", "Failures survived at best", "Survives, at best", "at best",
    "Drive failures at the same time that lose no data if the right drives fail, at most so many in each set.",
    "drives", True, lambda a: a.survives.best_case, _best_case, weighed=True, listed=True,
)  # fmt: skip


def curve_explained(a: Assessment) -> Explanation:
    """The survival curve, which is no single figure."""
    t, n, m = a.layout.scheme.survives, a.layout.width, len(a.layout.sets)
    k, share = _next(a)
    poly = f"(1 + {n}x{' + …' if t > 1 else ''})^{m}" if t else "1"
    return Explanation(
        "curve", "Survival curve", "S(k) = coefficient of x^k in ∏ over sets Σ_{f≤t} C(n,f) x^f, divided by C(N,k)",
        f"N = {len(a.layout.members)}, n = {n}, t = {t}: {poly}; S({k}) = {share:.6g}",
        "Counting all choices, in integers; exact.",
    )  # fmt: skip

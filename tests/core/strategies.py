"""Drives, sets and layouts as Hypothesis draws them."""

from __future__ import annotations

from hypothesis import strategies as st

from pairshelf.core.domain.drives import Drive
from pairshelf.core.domain.units import GIB
from pairshelf.core.layouts import DIVIDED, Layout, build_layout
from pairshelf.core.layouts.registry import why_not

#: From just above the least to a little over 20 TB, whole extents and any odd byte.
sizes = st.one_of(
    st.integers(2 * GIB, 60 * GIB), st.integers(2 * GIB, 21 * 10**12), st.sampled_from([4 * 10**12, 8 * 10**12])
)


def drives(least: int = 1, most: int = 24, size: st.SearchStrategy[int] = sizes) -> st.SearchStrategy[list[Drive]]:
    return st.lists(size, min_size=least, max_size=most).map(
        lambda all_sizes: [Drive(f"d{i + 1}", s) for i, s in enumerate(all_sizes)]
    )


@st.composite
def layouts(draw: st.DrawFn, size: st.SearchStrategy[int] = sizes, most: int = 24) -> Layout:
    """Any scheme, any number of sets it allows, with up to two spares."""
    scheme = draw(st.sampled_from(list(DIVIDED.values())))
    fitting = [
        (width, sets)
        for sets in range(1, most + 1)
        for width in range(1, most // sets + 1)
        if not why_not(scheme, width, sets)
    ]
    width, sets = draw(st.sampled_from(fitting))
    spares = draw(st.integers(0, 2))
    count = width * sets + spares
    return build_layout(draw(drives(count, count, size)), scheme.id, sets=sets, spares=spares)

"""What a shelf's or the network's link leaves to each stream."""

from __future__ import annotations

from collections.abc import Sequence

from pairshelf.core.domain.drives import Drive


def link_share(streams: Sequence[Drive], network: int | None = None) -> float:
    """What one stream gets of the narrowest link, bytes per second: all of a shelf's drives share the
    shelf's link; over several hosts, all share the network's."""
    links = {d.shelf: d.link for d in streams if d.link}
    shares = [link / sum(d.shelf == shelf for d in streams) for shelf, link in links.items()]
    if network and len({d.host for d in streams}) > 1:
        shares.append(network / len(streams))
    return min(shares, default=float("inf"))

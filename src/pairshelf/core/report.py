"""A layout and a comparison as plain data, one shape for the API, the console and saved sheets."""

from __future__ import annotations

from typing import Any

from pairshelf.core.figures.durations import Duration, first_sync, slowest_rebuild
from pairshelf.core.figures.space import SpaceAccount
from pairshelf.core.figures.survival import Survival
from pairshelf.core.layouts import Layout
from pairshelf.core.layouts.registry import trade_name
from pairshelf.core.search import Answer, Candidate, describe

JsonObject = dict[str, Any]


def candidate_json(candidate: Candidate) -> JsonObject:
    """One layout with its figures; sizes in bytes, times in hours."""
    return layout_json(candidate.layout, candidate.space, candidate.survives) | {"key": candidate.key}


def layout_json(layout: Layout, space: SpaceAccount, survives: Survival) -> JsonObject:
    """One layout with its figures; sizes in bytes, times in hours."""
    return {
        "scheme": layout.scheme.id,
        "trade_name": trade_name(layout.scheme, len(layout.sets)),
        "description": describe(layout),
        "sets": [[d.id for d in one] for one in layout.sets],
        "spares": [d.id for d in layout.spares],
        "spare_too_small_for": spare_gaps(layout),
        "space": space.as_dict(),
        "survives": {"guaranteed": survives.guaranteed, "best_case": survives.best_case},
        "first_sync_hours": _hours(first_sync(layout)),
        "rebuild_hours": _hours(slowest_rebuild(layout)),
    }


def answer_json(answer: Answer) -> JsonObject:
    """A comparison; every layout carries the key that ``recommended`` refers to."""
    return {
        "layouts": [candidate_json(c) for c in answer.layouts],
        "ruled_out": [{"scheme": r.scheme, "why": r.why} for r in answer.ruled_out],
        "recommended": answer.recommended,
        "reason": answer.reason,
    }


def cut_json(layout: Layout) -> JsonObject:
    """What the cut is drawn from: each drive's extents, and the bands with their groups."""
    return {
        "members": [
            {
                "id": d.id,
                "size": d.size,
                "extents": d.extents,
                "used": used,
                "set": layout.set_of(i),
                "kind": d.kind.value,
            }
            for i, (d, used) in enumerate(zip(layout.members, layout.used_extents, strict=True))
        ],
        "spares": [{"id": d.id, "size": d.size, "extents": d.extents, "kind": d.kind.value} for d in layout.spares],
        "bands": [
            {
                "start": band.start,
                "rows": band.rows,
                "groups": [
                    {
                        "members": list(g.members),
                        "data": g.data,
                        "width": len(g.members),
                        "code": g.code.value,
                    }
                    for g in band.groups
                ],
            }
            for band in layout.bands
        ],
    }


def spare_gaps(layout: Layout) -> list[JsonObject]:
    """For each spare, the members larger than itself (in extents), which it cannot replace."""
    gaps = []
    for spare in layout.spares:
        if too_large := [d.id for d in layout.members if d.extents > spare.extents]:
            gaps.append({"spare": spare.id, "members": too_large})
    return gaps


def _hours(duration: Duration | None) -> float | None:
    return None if duration is None else duration.idle / 3600

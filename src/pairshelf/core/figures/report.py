"""A layout and a comparison as plain data, one shape for the API, the console and saved sheets."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict
from typing import Any

from pairshelf.core.changes.doors import doors, fixed
from pairshelf.core.changes.growing import Path
from pairshelf.core.figures.assess import Assessment
from pairshelf.core.figures.registry import FIGURES, figures_of
from pairshelf.core.figures.selections import Survey
from pairshelf.core.figures.spread_pools import PlacedVolume, SpreadFigures
from pairshelf.core.figures.survival import survival_of, units_of, withstands
from pairshelf.core.layouts import Layout
from pairshelf.core.layouts.registry import trade_name
from pairshelf.core.search.buy import Shopping
from pairshelf.core.search.candidates import Answer, Candidate, Considered
from pairshelf.core.search.split import Split

JsonObject = dict[str, Any]


def candidate_json(candidate: Candidate) -> JsonObject:
    """One layout of a comparison with its figures; sizes in bytes, times in hours, rates a second."""
    return layout_json(candidate.assessment) | {
        "key": candidate.key,
        "part": candidate.part,
        "arranged": candidate.arranged,
        "arranging_costs": candidate.arranging_costs,
        "pareto": candidate.pareto,
        "score": candidate.score,
        "pros": list(candidate.reasons.pros),
        "cons": list(candidate.reasons.cons),
    }


def layout_json(found: Assessment) -> JsonObject:
    """One layout with its figures; sizes in bytes, times in hours, rates a second."""
    layout = found.layout
    return {
        "scheme": layout.scheme.id,
        "trade_name": trade_name(layout.scheme, len(layout.sets)),
        "description": layout.describe(),
        "sets": [[d.id for d in one] for one in layout.sets],
        "spares": [d.id for d in layout.spares],
        "spare_too_small_for": spare_gaps(layout),
        "space": found.space.as_dict(),
        "figures": figures_of(found),
        "survives": {
            "guaranteed": found.survives.guaranteed,
            "best_case": found.survives.best_case,
            "curve": list(found.curve),
        },
        "withstands": list(withstands(layout)),
        "first_sync_hours": found.first_sync_hours,
        "check_hours": found.check_hours,
        "rebuild_hours": found.rebuild_hours,
        "yearly_loss": found.odds.yearly_loss,
        "yearly_damage": found.odds.yearly_damage,
        "mttdl_hours": found.odds.mttdl_hours,
        "speed": found.speed.as_dict(),
        "load": {
            "writes": found.given.user_writes,
            "whole_stripes": found.given.whole_stripes,
            "share": found.user_share,
        },
        "cost": found.cost.as_dict(),
        "restore_hours": found.restore_hours,
        "cautions": [{"code": c.code, "sentence": c.sentence} for c in found.cautions],
    }


def as_kept(layout: Mapping[str, Any]) -> JsonObject:
    """A layout as it was saved, with what older versions did not keep: its figures by their ids, and a load of none."""
    cost, space = layout["cost"], layout["space"]
    plain = {
        **layout, **space, **layout["survives"], **layout["speed"], "cost": cost["total"],
        "cost_per_usable_tb": cost["per_usable_tb"], "watts": cost["watts"],
        "efficiency": space["usable"] / space["raw"], "small_writes": layout["speed"]["random_write_rmw"],
    }  # fmt: skip
    figures = {name: plain[name] for name in FIGURES if name in plain} | layout.get("figures", {})
    load = layout.get("load") or {"writes": None, "whole_stripes": 0.0, "share": 0.0}
    whole = layout.get("withstands", [layout["arranged"]] if layout.get("arranged") else [])
    return {**layout, "figures": figures, "load": load, "withstands": whole}


def detail_json(found: Assessment, file_system: str) -> JsonObject:
    """What is told of one layout only: its doors, what is fixed, and what whole shelves and hosts do to it."""
    return {
        "doors": [asdict(d) for d in doors(found.layout, file_system)],
        "fixed": list(fixed(found.layout)),
        "domains": domains_json(found.layout),
    }


def domains_json(layout: Layout) -> list[JsonObject]:
    """What survives of shelves, hosts and sites, where the drives stand in more than one."""
    found: list[JsonObject] = []
    told: set[tuple[int, ...]] = set()
    for domain in ("shelf", "host", "site"):
        units = units_of(layout, domain)
        if len(units) < 2 or any(getattr(d, domain) is None for d in layout.members):
            continue
        # Where every host is a shelf of its own, one of the two says it all.
        numbers = {unit: i for i, unit in enumerate(units)}
        alike = tuple(numbers[d.place(domain)] for d in layout.members)
        if alike not in told:
            told.add(alike)
            found.append({"domain": domain, "units": list(units)} | survey_json(survival_of(layout, domain)))
    return found


def survey_json(found: Survey) -> JsonObject:
    """What survives of some units, with the curve and, where it was sampled, its interval."""
    return {
        "guaranteed": found.guaranteed,
        "best_case": found.best_case,
        "best_case_exact": found.best_case_exact,
        "curve": list(found.curve),
        "curve_interval": None if found.curve_interval is None else [list(pair) for pair in found.curve_interval],
    }


def answer_json(answer: Answer) -> JsonObject:
    """A comparison; every layout carries the key that ``recommended`` refers to."""
    return {
        "layouts": [candidate_json(c) for c in answer.layouts],
        "ruled_out": [{"scheme": r.scheme, "why": r.why} for r in answer.ruled_out],
        "recommended": answer.recommended,
        "reason": answer.reason,
        "nearest": [asdict(n) | {"missing": list(n.missing)} for n in answer.nearest],
        "left_out": [d.id for d in answer.left_out],
        "considered": [_considered_json(c) for c in answer.considered],
    }


def _considered_json(considered: Considered) -> JsonObject:
    """Only what the picture of wide against narrow sets is drawn from."""
    c = considered.candidate
    a = c.assessment
    return {
        "key": c.key,
        "scheme": c.layout.scheme.id,
        "width": c.layout.width,
        "sets": len(c.layout.sets),
        "spares": len(c.layout.spares),
        "usable": a.space.usable,
        "guaranteed": a.survives.guaranteed,
        "small_writes": a.small_writes,
        "random_write_rmw": a.speed.random_write_rmw,
        "random_write_whole_stripe": a.speed.random_write_whole_stripe,
        "rebuild_hours": a.rebuild_hours,
        "yearly_damage": a.odds.yearly_damage,
        "meets": considered.meets,
    }


def spread_json(found: SpreadFigures) -> JsonObject:
    """A spread pool with its volumes."""
    return {
        "domain": found.pool.domain,
        "domains": [{"name": n, "extents": c} for n, c in zip(found.pool.domains, found.pool.capacities, strict=True)],
        "drives": [d.id for d in found.pool.drives],
        "volumes": [_volume_json(v, found) for v in found.volumes],
        "survives": survey_json(found.survives),
        "stripes_max": found.stripes_max,
        "used": found.used,
        "free": found.free,
        "rebuild_hours": found.rebuild_hours,
        "self_repair": not found.repair_fails_without,
        "self_repair_fails_without": list(found.repair_fails_without),
        "partners": [list(row) for row in found.partners],
    }


def _volume_json(volume: PlacedVolume, found: SpreadFigures) -> JsonObject:
    wanted = volume.wanted
    return {
        "name": wanted.name,
        "size": wanted.size,
        "protection": wanted.protection.scheme,
        "width": wanted.protection.width,
        "stripes": wanted.stripes,
        "pool_use": wanted.pool_use,
        "survives": survey_json(volume.survives) | {
            "domain": found.pool.domain,
            "domains_guaranteed": volume.by_domain.guaranteed,
            "domains_best_case": volume.by_domain.best_case,
            "domains_curve": list(volume.by_domain.curve),
        },
        "rebuild_hours": found.rebuild_hours,
        "yearly_loss": volume.odds.yearly_loss,
        "yearly_damage": volume.odds.yearly_damage,
        "mttdl_hours": volume.odds.mttdl_hours,
    }  # fmt: skip


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
                "shelf": d.shelf,
                "host": d.host,
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
                        "members": list(dict.fromkeys(g.members)),
                        "data": g.data,
                        "width": len(g.members),
                        "code": g.code.value,
                    }
                    for g in band.groups
                ],
            }
            for band in layout.drawn
        ],
    }


def spare_gaps(layout: Layout) -> list[JsonObject]:
    """For each spare, the members of which the layout uses more than the spare has (in extents): it cannot replace them."""
    gaps = []
    for spare in layout.spares:
        if too_large := [
            d.id for d, used in zip(layout.members, layout.used_extents, strict=True) if used > spare.extents
        ]:
            gaps.append({"spare": spare.id, "members": too_large})
    return gaps


def path_json(path: Path) -> JsonObject:
    """One way to grow."""
    return asdict(path) | {"steps": [asdict(s) for s in path.steps]}


def shopping_json(found: Shopping, most: int = 40) -> JsonObject:
    """Purchases in their order, at most so many."""
    return {
        "purchases": [
            {
                "model": p.model.name,
                "count": p.count,
                "description": p.description,
                "layout": layout_json(p.assessment),
                "cost": p.cost,
                "currency": p.model.currency,
                "later": [asdict(step) for step in p.later],
                "cost_in_all": p.cost_in_all,
                "bays_left": p.bays_left,
                "cheapest_now": p is found.cheapest_now,
                "cheapest_in_all": p is found.cheapest_in_all,
            }
            for p in found.purchases[:most]
        ],
        "more": max(0, len(found.purchases) - most),
        "ruled_out": [{"model": name, "why": why} for name, why in found.ruled_out],
    }


def split_json(found: Split) -> JsonObject:
    """A division by use, beside one pool for all."""
    return {
        "shares": [
            {
                "name": s.use.name,
                "workload": s.use.workload,
                "need": s.use.need,
                "survive": s.use.survive,
                "drives": [d.id for d in s.drives],
                "layout": None if s.best is None else candidate_json(s.best),
                "why": s.why,
            }
            for s in found.shares
        ],
        "meets": found.meets,
        "one_pool": None if found.one_pool is None else candidate_json(found.one_pool),
        "one_pool_short": found.one_pool_short,
        "one_pool_better": found.one_pool_better,
        "compared": list(found.compared),
    }

"""A comparison as comma-separated values (RFC 4180) and as JSON (RFC 8259): every figure of every layout."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Mapping, Sequence
from dataclasses import asdict
from typing import Any

from pairshelf.core.domain.drives import Drive
from pairshelf.core.figures.figure import LayoutFigure
from pairshelf.core.figures.registry import FIGURES
from pairshelf.formats.inventory_csv import guard

_PLAIN = ("scheme", "trade_name", "description", "part", "arranged")


def _column(figure: LayoutFigure) -> str:
    """What is counted can be read off the name."""
    return {"bytes": f"{figure.id}_bytes", "drives": f"survives_{figure.id}"}.get(figure.unit, figure.id)


def comparison_csv(report: Mapping[str, Any]) -> bytes:
    """One row a layout, in the order of the comparison; sizes in bytes, times in hours, rates a second."""
    rows = [_row(layout, report["recommended"]) for layout in report["layouts"]]
    out = io.StringIO(newline="")
    writer = csv.writer(out)
    writer.writerow(list(rows[0]) if rows else ["scheme"])
    for row in rows:
        writer.writerow(["" if v is None else guard(v) if isinstance(v, str) else v for v in row.values()])
    return out.getvalue().encode()


def _row(layout: Mapping[str, Any], recommended: str | None) -> dict[str, Any]:
    return {
        **{name: layout[name] for name in _PLAIN},
        "sets": len(layout["sets"]),
        "drives_in_a_set": len(layout["sets"][0]),
        "spares": len(layout["spares"]),
        **{f"{name}_bytes": size for name, size in layout["space"].items()},
        **{_column(one): layout["figures"][one.id] for one in FIGURES.values()},
        "currency": layout["cost"]["currency"],
        "no_other_beats_it_on_all": "yes" if layout["pareto"] else "no",
        "suggested": "yes" if layout["key"] == recommended else "no",
        "cautions": " ".join(c["sentence"] for c in layout["cautions"]),
    }


def comparison_json(title: str, drives: Sequence[Drive], labels: Mapping[str, str], report: Mapping[str, Any]) -> bytes:
    """The whole comparison with the drives it is of."""
    listed = [{k: v for k, v in asdict(d).items() if v is not None} | {"label": labels.get(d.id, d.id)} for d in drives]
    content = {"title": title, "drives_compared": listed, **report}
    return (json.dumps(content, indent=2, ensure_ascii=False, default=str) + "\n").encode()

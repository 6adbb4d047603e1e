"""Figures for whoever collects them, in the OpenMetrics text format 1.0."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

MEDIA_TYPE = "application/openmetrics-text; version=1.0.0; charset=utf-8"


@dataclass
class Family:
    """A figure of many things: ``name`` ends on its unit, where it has one."""

    name: str
    help: str
    unit: str = ""
    #: gauge, or stateset: of each thing, which of some states holds.
    type: str = "gauge"
    samples: list[tuple[Mapping[str, str], float]] = field(default_factory=list)

    def add(self, value: float | None, **labels: str) -> None:
        """A thing's figure; none is left out, never nought."""
        if value is not None:
            self.samples.append((labels, value))

    def add_state(self, state: str, states: Sequence[str], **labels: str) -> None:
        """Which of the states a thing is in."""
        for one in states:
            self.samples.append(({**labels, self.name: one}, float(one == state)))


def open_metrics(families: Sequence[Family]) -> str:
    """All families as text; those without samples are said to be there."""
    lines = []
    for one in families:
        lines.append(f"# TYPE {one.name} {one.type}")
        if one.unit:
            lines.append(f"# UNIT {one.name} {one.unit}")
        lines.append(f"# HELP {one.name} {_escaped(one.help)}")
        for labels, value in one.samples:
            said = ",".join(f'{name}="{_escaped(text)}"' for name, text in labels.items())
            lines.append(f"{one.name}{{{said}}} {_number(value)}" if said else f"{one.name} {_number(value)}")
    return "\n".join([*lines, "# EOF"]) + "\n"


def _escaped(text: str) -> str:
    return text.replace("\\", "\\\\").replace("\n", "\\n").replace('"', '\\"')


def _number(value: float) -> str:
    if math.isinf(value):
        return "+Inf" if value > 0 else "-Inf"
    return str(int(value)) if value == int(value) else repr(float(value))

"""How fast it is."""

from __future__ import annotations

from pairshelf.core.domain.units import format_size
from pairshelf.core.figures.assess import Assessment
from pairshelf.core.figures.figure import LayoutFigure, Worked
from pairshelf.core.layouts.model import Code, Family

_MODEL = "A model of the drives alone: no cache, no queue. It ranks layouts; it does not predict an application."


def _drives(a: Assessment) -> tuple[int, int]:
    """How many, and the small operations a second of the slowest."""
    return len(a.layout.members), min(d.operations for d in a.layout.members)


def _reads(a: Assessment, _file_system: str) -> Worked:
    n, o = _drives(a)
    return Worked("N o: each is served by one drive", f"{n} × {o:,} = {a.speed.random_read:,.0f}/s", _MODEL)


def _plain_writes(a: Assessment) -> Worked | None:
    """Where there is no parity to be read first."""
    (n, o), scheme, found = _drives(a), a.layout.scheme, a.speed.random_write_rmw
    if scheme.code is Code.COPIES:
        return Worked(f"N o / {a.layout.width}", f"{n} × {o:,} / {a.layout.width} = {found:,.0f}/s", _MODEL)
    if not scheme.survives:
        return Worked("o" if scheme.id == "span" else "N o", f"{found:,.0f}/s", _MODEL)
    return None


def _writes(a: Assessment, _file_system: str) -> Worked:
    if plain := _plain_writes(a):
        return plain
    (n, o), parity = _drives(a), a.layout.scheme.survives
    return Worked(f"N o / (2 (p + 1)): read and write the data and {parity} parity",
                  f"{n} × {o:,} / {2 * (parity + 1)} = {a.speed.random_write_rmw:,.0f}/s", _MODEL)  # fmt: skip


def _whole_stripes(a: Assessment, _file_system: str) -> Worked:
    if plain := _plain_writes(a):
        return plain
    _, o = _drives(a)
    sets = 1 if a.layout.scheme.family is Family.STEPPED else len(a.layout.sets)
    return Worked("sets × o: every write moves a whole stripe, a set behaves like one drive",
                  f"{sets} × {o:,} = {a.speed.random_write_whole_stripe:,.0f}/s", _MODEL)  # fmt: skip


def _one(a: Assessment) -> bool:
    """Whether only one drive works at a time."""
    return a.layout.scheme.id in ("span", "single")


def _rate(a: Assessment) -> str:
    return format_size(min(d.mean_rate for d in a.layout.members))


def _reading(a: Assessment, _file_system: str) -> Worked:
    many = f"{len(a.layout.members)}" if a.layout.scheme.code is Code.COPIES else f"{a.layout.data_drives:g}"
    return Worked(
        "r" if _one(a) else "copies N r, parity d r; never more than the links",
        f"{_rate(a) if _one(a) else f'{many} × {_rate(a)}/s'} → {format_size(round(a.speed.sequential_read))}/s", _MODEL,
    )  # fmt: skip


def _writing(a: Assessment, _file_system: str) -> Worked:
    return Worked(
        "r" if _one(a) else "d r; never more than the links",
        f"{_rate(a) if _one(a) else f'{a.layout.data_drives:g} × {_rate(a)}/s'} → {format_size(round(a.speed.sequential_write))}/s",
        _MODEL,
    )  # fmt: skip


SMALL_READS = LayoutFigure(
    "random_read", "Small reads", "Small reads", "small reads", "Small reads a second that all drives serve together.",
    "operations a second", True, lambda a: a.speed.random_read, _reads, weighed=True,
)  # fmt: skip


def _mixed(a: Assessment, _file_system: str) -> Worked:
    if plain := _plain_writes(a):
        return plain
    w, model = a.given.whole_stripes, a.speed
    return Worked(
        "1 / (w / whole stripes + (1 − w) / part of a stripe)",
        f"w = {w:.0%}: 1 / ({w:g} / {model.random_write_whole_stripe:,.0f} + {1 - w:g} / {model.random_write_rmw:,.0f}) "
        f"= {a.small_writes:,.0f}/s", _MODEL,
    )  # fmt: skip


MIXED_WRITES = LayoutFigure(
    "small_writes", "Small writes, as users mix them", "Small writes", "small writes",
    "Small writes a second that all drives bear together: some change part of a stripe, some move whole ones, as the "
    "use has it.",
    "operations a second", True, lambda a: a.small_writes, _mixed, weighed=True, listed=True,
)  # fmt: skip
SMALL_WRITES = LayoutFigure(
    "random_write_rmw", "Small writes, changing part of a stripe", "Small writes, part of a stripe", "part of a stripe",
    "Small writes a second that all drives bear together. With parity each takes several operations: the old data and "
    "parity are read, the new written.",
    "operations a second", True, lambda a: a.speed.random_write_rmw, _writes, weighed=True,
)  # fmt: skip
WHOLE_STRIPES = LayoutFigure(
    "random_write_whole_stripe", "Small writes, whole stripes", "Small writes, whole stripes", "whole stripes",
    "Small writes a second where each rewrites a whole stripe.",
    "operations a second", True, lambda a: a.speed.random_write_whole_stripe, _whole_stripes, weighed=True,
)  # fmt: skip
READING = LayoutFigure(
    "sequential_read", "Reading large files", "Reading large files", "reading", "One large file after the other: how many bytes a second can be read.",
    "bytes a second", True, lambda a: a.speed.sequential_read, _reading, weighed=True,
)  # fmt: skip
WRITING = LayoutFigure(
    "sequential_write", "Writing large files", "Writing large files", "large files",
    "One large file after the other: how many bytes a second can be written.",
    "bytes a second", True, lambda a: a.speed.sequential_write, _writing, weighed=True, listed=True,
)  # fmt: skip

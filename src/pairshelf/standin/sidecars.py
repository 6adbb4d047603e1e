"""What stands beside the media of a drive from elsewhere, read with every rule before it is believed."""

from __future__ import annotations

import datetime as dt
import json
import math
from collections.abc import Callable
from typing import Any

from pydantic import ConfigDict, TypeAdapter, ValidationError
from pydantic.dataclasses import dataclass

from pairshelf.core.disposal.facts import Command
from pairshelf.core.domain.drives import Kind, extents_of
from pairshelf.core.domain.inventory import DriveRecord
from pairshelf.standin.ageing import STEERED
from pairshelf.standin.hidden import MOST_REASSIGNED, Nature

#: Cells that may be hidden at the end of a drive, or held back by it.
_MOST_CELLS = 4096
_STRICT = ConfigDict(extra="forbid", strict=True, allow_inf_nan=False)


@dataclass(config=_STRICT)
class _Steer:
    more: float
    a_day: float
    since: str


@dataclass(config=_STRICT)
class _Ageing:
    steers: dict[str, _Steer]
    lost: int


_NATURE: TypeAdapter[Any] = TypeAdapter(dataclass(Nature, config=_STRICT))
_AGEING = TypeAdapter(_Ageing)
_EXTENTS, _SECTORS = TypeAdapter(list[int], config=ConfigDict(strict=True)), TypeAdapter(list[tuple[int, str]])


def _require(holds: bool, what: str) -> None:
    if not holds:
        raise ValueError(what)


def _nature(content: bytes, record: DriveRecord) -> None:
    told: Nature = _NATURE.validate_json(content)
    extents = extents_of(record.size)
    for command in told.commands:
        Command(command)
    _require(0 <= told.protected <= min(extents, _MOST_CELLS) and 0 <= told.spare <= _MOST_CELLS, "it hides too much")
    moved = told.reassigned
    _require(len(moved) <= MOST_REASSIGNED and all(0 <= e < extents for e in moved), "what it reassigned is not on it")
    _require(told.sector in (512, 4096), "its sectors have another size")
    _require(0 <= told.erase_seconds <= 10**7 and 0 < told.slowness <= 10**6, "it takes no time, or for ever")
    _require(told.dies_after is None or 0 <= told.dies_after < 2**53, "it dies after another number of writes")
    _require(told.recovery is None or -1 <= told.recovery <= 10**6, "it tries for another time")


def _ageing(content: bytes, record: DriveRecord) -> None:
    told = _AGEING.validate_json(content)
    _require(0 <= told.lost <= extents_of(record.size), "it has lost more than it has")
    for reading, steer in told.steers.items():
        _require(
            reading in STEERED and math.fabs(steer.more) < 10**9 and math.fabs(steer.a_day) < 10**9, "it ages otherwise"
        )
        moment = dt.datetime.fromisoformat(steer.since)
        _require(moment.tzinfo is not None and 2000 <= moment.year < 2200, "it ages from another time on")


def _kind(content: bytes, record: DriveRecord) -> None:
    _require(Kind(content.decode("ascii")) is record.kind, "its media are of another kind than it is")


def _tried(content: bytes, record: DriveRecord) -> None:
    extents = extents_of(record.size)
    _require(
        all(0 <= e < extents for e in _EXTENTS.validate_json(content)), "extents that are not on it were asked for"
    )


def _sectors(content: bytes, record: DriveRecord) -> None:
    for at, sectors in _SECTORS.validate_json(content):
        _require(at >= 0 and at + len(bytes.fromhex(sectors)) <= record.size, "its table is not on it")


def _bytes(content: bytes, record: DriveRecord) -> None:
    """Bytes that are read elsewhere, with the rules of what they are."""


_SOUND: dict[str, Callable[[bytes, DriveRecord], Any]] = {
    ".nature": _nature, ".ageing": _ageing, ".kind": _kind, ".tried": _tried, ".sectors": _sectors, ".hidden": _bytes,
    ".written": _bytes, ".aside": _bytes, ".record-0": _bytes, ".record-1": _bytes, ".record-2": _bytes,
}  # fmt: skip


def require_sound(suffix: str, content: bytes, record: DriveRecord) -> None:
    """ValueError for a file beside a drive's media that is none, or says what no drive can be."""
    if suffix not in _SOUND:
        raise ValueError(f"nothing that a drive has is called {suffix}")
    try:
        _SOUND[suffix](content, record)
    except (ValidationError, json.JSONDecodeError, UnicodeDecodeError, ValueError, RecursionError) as error:
        why = "it cannot be read" if isinstance(error, ValidationError) else f"{error}".split("\n", maxsplit=1)[0]
        raise ValueError(f"drive {record.serial}, {suffix[1:]}: {why}") from None

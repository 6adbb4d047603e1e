"""A price list: drive models with what they cost, and the makers' figures of each."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from pairshelf.core.domain.drives import Drive, Kind
from pairshelf.core.domain.inventory import COLUMNS, Column, whole
from pairshelf.core.errors import BadInput


@dataclass(frozen=True, slots=True)
class Model:
    """A model of drive. Size in bytes, rate in bytes per second; None: not known, its kind's default holds."""

    model: str
    size: int
    kind: Kind
    price: float | None = None
    currency: str | None = None
    maker: str | None = None
    bus: str | None = None
    rate: int | None = None
    afr: float | None = None
    uber: float | None = None
    ops: int | None = None
    watts: float | None = None
    error_recovery: float | None = None

    @property
    def name(self) -> str:
        """Maker and model."""
        return f"{self.maker} {self.model}" if self.maker else self.model

    def drive(self, identity: str) -> Drive:
        """One of these."""
        return Drive(
            identity, self.size, self.kind, self.rate, afr=self.afr, uber=self.uber, ops=self.ops, watts=self.watts,
            price=self.price, currency=self.currency, model=self.model, error_recovery=self.error_recovery,
        )  # fmt: skip


def _watts(value: str) -> float:
    try:
        number = float(value.lower().rstrip("w ").replace(",", "."))
    except ValueError:
        raise BadInput(f"“{value}” is not a power; write for example 7.2 W.") from None
    if not 0 <= number < 1000:
        raise BadInput(f"“{value}” is not the power of a drive.")
    return number


_SHARED = ("maker", "model", "size", "kind", "price", "bus", "rate", "afr", "uber", "error_recovery")
_NEEDED = ("model", "size", "kind")

#: Columns of a price list: those of an inventory that a model has, and two more.
MODEL_COLUMNS: tuple[Column, ...] = (
    *(replace(c, needed=c.field in _NEEDED) for c in COLUMNS if c.field in _SHARED),
    Column("ops", "operations", whole(1, 10_000_000, "operations a second"), ("iops", "opss", "operationss", "smalloperations")),
    Column("watts", "watts", _watts, ("power", "w", "consumption")),
)  # fmt: skip


def with_models(drives: Sequence[Drive], models: Sequence[Model]) -> tuple[Drive, ...]:
    """Drives with their model's figures where they have none of their own."""
    known = {(m.model.lower()): m for m in models}
    found = []
    for drive in drives:
        entry = known.get((drive.model or "").lower())
        if entry is not None:
            fields = ("rate", "afr", "uber", "ops", "watts", "price", "currency")
            new = {f: v for f in fields if getattr(drive, f) is None and (v := getattr(entry, f)) is not None}
            if drive.price is not None:
                new.pop("currency", None)
            drive = replace(drive, **new) if new else drive
        found.append(drive)
    return tuple(found)

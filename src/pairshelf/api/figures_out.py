"""Layouts and their figures as the API gives them: sizes in bytes, times in hours, rates a second."""

from __future__ import annotations

from pydantic import BaseModel


class Space(BaseModel):
    raw: int
    spares: int
    labels: int
    uneven: int
    redundancy: int
    repair: int
    reserve: int
    file_system: int
    usable: int


class Survives(BaseModel):
    guaranteed: int
    best_case: int
    #: For k = 0..members, the probability that data survive k failing at once.
    curve: list[float]


class SurveyOut(BaseModel):
    guaranteed: int
    best_case: int
    #: False: ``best_case`` is a lower bound found by sampling.
    best_case_exact: bool
    curve: list[float]
    curve_interval: list[list[float]] | None


class SpareGap(BaseModel):
    spare: str
    members: list[str]


class RatesOut(BaseModel):
    random_read: float
    random_write_rmw: float
    random_write_whole_stripe: float
    sequential_read: float
    sequential_write: float


class CostOut(BaseModel):
    total: float | None
    per_usable_tb: float | None
    currency: str | None
    watts: float
    yearly_power: float | None
    unpriced: int


class CautionOut(BaseModel):
    code: str
    sentence: str


class LoadOut(BaseModel):
    """What users are taken to do while the drives work on something."""

    #: Small writes a second; null: a share was said instead, or nothing.
    writes: float | None
    #: Share of them that moves whole stripes.
    whole_stripes: float
    #: Share of every drive that they take under this layout.
    share: float


class FiguresOut(BaseModel):
    """One layout by itself."""

    scheme: str
    trade_name: str
    description: str
    sets: list[list[str]]
    spares: list[str]
    spare_too_small_for: list[SpareGap]
    space: Space
    survives: Survives
    first_sync_hours: float | None
    check_hours: float
    rebuild_hours: float | None
    yearly_loss: float
    yearly_damage: float
    mttdl_hours: float | None
    speed: RatesOut
    load: LoadOut
    cost: CostOut
    restore_hours: float | None
    cautions: list[CautionOut]
    #: Of shelf, host and site those of which any one may fail as a whole.
    withstands: list[str]
    #: Every figure by its id (``GET /api/kinds``); null: this layout has none.
    figures: dict[str, float | None]


class LayoutOut(FiguresOut):
    """One layout among others."""

    key: str
    #: Which of the drives, where rotating and flash are kept apart.
    part: str
    #: Sets arranged so that a shelf or host may fail.
    arranged: str
    arranging_costs: int
    pareto: bool
    score: float
    pros: list[str]
    cons: list[str]


class CutMember(BaseModel):
    id: str
    size: int
    extents: int
    used: int
    set: int
    kind: str
    shelf: str | None = None
    host: str | None = None


class CutSpare(BaseModel):
    id: str
    size: int
    extents: int
    kind: str


class CutGroup(BaseModel):
    members: list[int]
    data: int
    width: int
    code: str


class CutBand(BaseModel):
    start: int
    rows: int
    groups: list[CutGroup]


class Cut(BaseModel):
    members: list[CutMember]
    spares: list[CutSpare]
    bands: list[CutBand]


class After(BaseModel):
    survives: bool
    more_guaranteed: int
    more_best_case: int
    sentence: str


class ExplanationOut(BaseModel):
    figure: str
    title: str
    formula: str
    numbers: str
    source: str

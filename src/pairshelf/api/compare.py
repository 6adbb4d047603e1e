"""Comparing layouts: all of them for some drives, one in detail, and what a failure would leave."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import Any

from flask import Response
from flask_openapi3 import APIBlueprint
from pydantic import BaseModel, Field

from pairshelf.api.asking import AskedDrives, CompareBody, DrivesAsked, drives_asked
from pairshelf.api.figures_out import After, Cut, ExplanationOut, FiguresOut, LayoutOut, SurveyOut
from pairshelf.api.guard import needs
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.drives import LARGEST
from pairshelf.core.domain.file_systems import FILE_SYSTEMS, overhead
from pairshelf.core.domain.units import EXTENT, parse_size
from pairshelf.core.domain.volume_spec import facts_of
from pairshelf.core.errors import BadInput, NotPossible
from pairshelf.core.figures.assess import Assessment, assess
from pairshelf.core.figures.assumptions import assume, basis
from pairshelf.core.figures.cautions import CAUTIONS
from pairshelf.core.figures.registry import explanations
from pairshelf.core.figures.report import answer_json, cut_json, detail_json, layout_json, path_json
from pairshelf.core.figures.survival import after_failures, in_words
from pairshelf.core.figures.workloads import WORKLOADS, workload_of
from pairshelf.core.layouts import DIVIDED, Layout, scheme_of
from pairshelf.core.search.candidates import (
    ARRANGED_OVER,
    Answer,
    all_layouts,
    assumed_load,
    lay_out,
    load_of,
    parts_of,
)
from pairshelf.core.search.growth import growth
from pairshelf.formats.cut_svg import cut_svg
from pairshelf.formats.exports import FORMATS, Exported, Format

api = APIBlueprint("compare", __name__, url_prefix="/api")


class ChosenBody(DrivesAsked):
    """One layout of a comparison: what its key says."""

    scheme: str
    sets: int
    spares: int = 0
    spares_for: str = "pool"
    #: Sets arranged over: shelf, host, or nothing.
    arranged: str = ""
    #: Which drives, where rotating and flash are kept apart: rotating, flash, or all.
    part: str = ""
    #: What it is for: the load that this usually brings is assumed, where none is said; empty: none.
    workload: str = ""
    #: Members said to fail; whole shelves and hosts said to fail.
    failed: list[str] = Field(default_factory=list)
    failed_shelves: list[str] = Field(default_factory=list)
    failed_hosts: list[str] = Field(default_factory=list)


class CutBody(ChosenBody):
    #: A typed size for the first volume; empty for the largest.
    volume_size: str = ""


class GrowthBody(ChosenBody):
    #: A typed size of the larger drives to come; empty for twice the smallest.
    larger: str = ""
    steps: int = Field(default=3, ge=1, le=12)


class RuledOutOut(BaseModel):
    scheme: str
    why: str


class NearestOut(BaseModel):
    key: str
    scheme: str
    description: str
    usable: int
    missing: list[str]


class ConsideredOut(BaseModel):
    """A layout for the picture of wide against narrow sets."""

    key: str
    scheme: str
    width: int
    sets: int
    spares: int
    usable: int
    guaranteed: int
    #: As users mix them, and each kind by itself.
    small_writes: float
    random_write_rmw: float
    random_write_whole_stripe: float
    rebuild_hours: float | None
    yearly_damage: float
    meets: bool


class BasisOut(BaseModel):
    """A figure everything stands on, with where it comes from."""

    name: str
    value: float
    source: str


class CompareOut(BaseModel):
    drives: int
    layouts: list[LayoutOut]
    ruled_out: list[RuledOutOut]
    recommended: str | None
    reason: str | None
    nearest: list[NearestOut]
    left_out: list[str]
    considered: list[ConsideredOut]
    basis: list[BasisOut]
    replace_hours: float
    #: What users are taken to do meanwhile, in words, and whether it is assumed.
    load: str
    load_assumed: bool


class DomainOut(SurveyOut):
    """What survives of whole shelves, hosts or sites."""

    domain: str
    units: list[str]


class DoorOut(BaseModel):
    change: str
    name: str
    opening: str
    why: str


class VolumeRoom(BaseModel):
    """The first volume: the largest that fits, and what a chosen size leaves."""

    largest: int
    size: int
    file_system: int
    for_files: int
    left_in_pool: int
    problem: str | None


class CutOut(BaseModel):
    layout: FiguresOut
    cut: Cut
    after: After
    volume: VolumeRoom
    doors: list[DoorOut]
    fixed: list[str]
    domains: list[DomainOut]
    explanations: list[ExplanationOut]
    labels: dict[str, str]


class GrowthStep(BaseModel):
    act: str
    usable: int
    gain: int
    hours: float
    when: str
    guaranteed: int


class GrowthPath(BaseModel):
    way: str
    name: str
    steps: list[GrowthStep]
    said_before: str | None
    closed: str | None


class GrowthOut(BaseModel):
    usable: int
    paths: list[GrowthPath]


class SchemeOut(BaseModel):
    id: str
    trade_name: str
    about: str
    survives: int


class FileSystemOut(BaseModel):
    id: str
    about: str
    reserved_share: float
    #: What it brings, in words.
    facts: dict[str, str]
    suits: str
    #: Kinds of application that ask for it.
    asked_for_by: list[str]


class WorkloadOut(BaseModel):
    id: str
    name: str
    about: str
    weights: dict[str, float]


class SchemesOut(BaseModel):
    schemes: list[SchemeOut]
    file_systems: list[FileSystemOut]
    workloads: list[WorkloadOut]
    cautions: dict[str, str]


@dataclass(frozen=True, slots=True)
class AskedAndAnswered:
    """A comparison with what it was asked with."""

    asked: AskedDrives
    answer: Answer
    report: dict[str, Any]


def compare_all(body: CompareBody) -> AskedAndAnswered:
    """Every layout of the drives asked about, as the screens, exports and saved comparisons have it."""
    asked = drives_asked(body)
    question = body.question(asked.bays)
    answer = all_layouts(asked.drives, question)
    report = answer_json(answer) | {
        "drives": len(asked.drives),
        "basis": [asdict(b) for b in basis(asked.drives, question.given)],
        "replace_hours": question.given.replace_hours,
        "load": load_of(answer, question),
        "load_assumed": assumed_load(question),
    }
    return AskedAndAnswered(asked, answer, report)


def chosen(body: ChosenBody) -> tuple[AskedDrives, Layout, Assessment]:
    """One layout again, with its figures."""
    asked = drives_asked(body)
    given = body.assumptions()
    scheme_of(body.scheme)
    if body.arranged not in ("", *ARRANGED_OVER):
        raise BadInput("Sets are arranged over shelves or hosts.", field="arranged")
    if body.spares < 0 or body.sets < 1:
        raise BadInput("There is at least one set, and spares are zero or more.", field="sets")
    drives = assume(asked.drives, given)
    if body.part:
        drives = tuple(next((some for part, some in parts_of(drives, mix=False) if part == body.part), drives))
    if body.workload:
        given = workload_of(body.workload).with_load(given, drives)
    layout = lay_out(
        drives, body.scheme, body.sets, body.spares, arranged=body.arranged, spares_for=body.spares_for
    )  # fmt: skip
    if layout is None:
        raise NotPossible(
            f"These drives cannot be arranged so that they survive a {body.arranged} failure.", code="cannot-arrange"
        )
    return asked, layout, assess(layout, given, file_system=body.file_system, reserved_share=body.reserved_share)


@api.post("/compare", responses={200: CompareOut})
@needs(Act.LOOK, heavy=True)
def compare(body: CompareBody) -> Any:
    """Every layout of these drives that meets the needs, and why the others do not."""
    return CompareOut.model_validate(compare_all(body).report)


@api.post("/compare/cut", responses={200: CutOut})
@needs(Act.LOOK, heavy=True)
def cut(body: CutBody) -> Any:
    """One layout as it is cut, explained, with its doors and what is left once things have failed."""
    asked, layout, found = chosen(body)
    after = after_failures(layout, _gone(layout, body))
    return CutOut.model_validate(
        detail_json(found, body.file_system)
        | {
            "layout": layout_json(found),
            "cut": cut_json(layout),
            "after": asdict(after) | {"sentence": in_words(layout, after)},
            "volume": _room(layout.data_extents * EXTENT, body),
            "explanations": [asdict(e) for e in explanations(found, body.file_system)],
            "labels": asked.labels,
        }
    )


def _gone(layout: Layout, body: ChosenBody) -> set[str]:
    shelves, hosts = set(body.failed_shelves), set(body.failed_hosts)
    return {*body.failed, *(d.id for d in layout.members if d.shelf in shelves or d.host in hosts)}


def _room(capacity: int, body: CutBody) -> VolumeRoom:
    size, problem = capacity, None
    if body.volume_size.strip():
        try:
            size = parse_size(body.volume_size, field="volume_size")
            if size > capacity:
                problem = "This is more than the pool holds."
            elif size < EXTENT:
                problem = "A volume has at least 1 GiB."
        except BadInput as error:
            size, problem = capacity, error.message
    held = overhead(body.file_system, size, body.reserved_share)
    used = -(-size // EXTENT) * EXTENT
    return VolumeRoom(
        largest=capacity,
        size=size,
        file_system=held,
        for_files=size - held,
        left_in_pool=max(0, capacity - used),
        problem=problem,
    )


@api.post("/compare/growth", responses={200: GrowthOut})
@needs(Act.LOOK, heavy=True)
def growing(body: GrowthBody) -> Any:
    """How one layout grows: by drives, by sets, by larger drives in the best order."""
    _, _, found = chosen(body)
    larger = parse_size(body.larger, field="larger") if body.larger.strip() else None
    if larger is not None and not 2**31 <= larger <= LARGEST:
        raise BadInput("A drive has between 2 GiB and 1 PB; check the number and its unit.", field="larger")
    paths = growth(
        found, larger=larger, steps=body.steps, file_system=body.file_system, reserved_share=body.reserved_share
    )
    return GrowthOut.model_validate({"usable": found.space.usable, "paths": [path_json(p) for p in paths]})


@api.get("/schemes", responses={200: SchemesOut})
@needs(Act.LOOK)
def schemes() -> Any:
    """The schemes, file systems, workloads and cautions with what there is to know of each."""
    return SchemesOut(
        schemes=[
            SchemeOut(id=s.id, trade_name=s.trade_name, about=s.about, survives=s.survives) for s in DIVIDED.values()
        ],
        file_systems=[
            FileSystemOut(
                id=f.id,
                about=f.about,
                reserved_share=f.reserved_share,
                facts=dict(facts_of(f.id)),
                suits=f.suits,
                asked_for_by=list(f.asked_for_by),
            )
            for f in FILE_SYSTEMS.values()
        ],
        workloads=[WorkloadOut(id=w.id, name=w.name, about=w.about, weights=w.weights()) for w in WORKLOADS.values()],
        cautions={code: kind.name for code, kind in CAUTIONS.items()},
    )


# -- exports ------------------------------------------------------------------------------------------


class ExportBody(CompareBody):
    #: Keys of the layouts to show side by side, at most four, the first of them drawn; empty: the recommended one.
    keys: list[str] = Field(default_factory=list, max_length=4)
    title: str = Field(default="Comparison of layouts", max_length=120)
    #: Sizes in TiB instead of TB, in the PDF.
    binary: bool = False


def _file(content: bytes, kind: str, name: str) -> Response:
    return Response(content, content_type=kind, headers={"Content-Disposition": f"attachment; filename={name}"})


@api.post("/compare/export/svg")
@needs(Act.LOOK)
def export_svg(body: ChosenBody) -> Any:
    """The cut of one layout as SVG."""
    asked, layout, _ = chosen(body)
    drawn = cut_svg(
        cut_json(layout), asked.labels, failed=frozenset(_gone(layout, body)), title=f"{body.scheme}, the cut"
    )
    return _file(drawn.encode(), "image/svg+xml", "cut.svg")


def exporting() -> APIBlueprint:
    """A route a format, as many as there are when the application is made."""
    made = APIBlueprint("exporting", __name__, url_prefix="/api")
    for one in FORMATS.values():
        _add_export(made, one)
    return made


def _add_export(made: APIBlueprint, one: Format) -> None:
    def export(body: ExportBody) -> Any:
        found = compare_all(body)
        content = one.write(Exported(
            body.title, body.question(found.asked.bays), found.asked.drives, found.asked.labels, found.report,
            found.answer.layouts, body.keys, "binary" if body.binary else "decimal",
        ))  # fmt: skip
        charset = "; charset=utf-8" if one.media_type.startswith("text/") else ""
        return _file(content, one.media_type + charset, f"comparison.{one.id}")

    export.__name__ = export.__qualname__ = f"export_{one.id}"
    export.__doc__ = one.about
    made.post(f"/compare/export/{one.id}")(needs(Act.LOOK, heavy=True)(export))

"""Comparing layouts: all of them for some drives, one drawn as a cut, and what a failure would leave."""

from __future__ import annotations

from typing import Any

from flask_openapi3 import APIBlueprint
from pydantic import BaseModel, Field

from pairshelf.api.guard import needs
from pairshelf.core.acts import Act
from pairshelf.core.drives import MOST_DRIVES, Drive, Kind, parse_shorthand
from pairshelf.core.errors import BadInput
from pairshelf.core.figures.space import space_account
from pairshelf.core.figures.survival import after_failures, in_words, survival
from pairshelf.core.file_systems import DEFAULT_FILE_SYSTEM, FILE_SYSTEMS, overhead
from pairshelf.core.layouts import SCHEMES, build_layout
from pairshelf.core.report import answer_json, cut_json, layout_json
from pairshelf.core.search import Question, all_layouts
from pairshelf.core.units import EXTENT, parse_size
from pairshelf.store.database import transaction
from pairshelf.store.estate import load_drives

api = APIBlueprint("compare", __name__, url_prefix="/api")


class DrivesAsked(BaseModel):
    #: Drives on shelves, by id; or
    drive_ids: list[int] | None = Field(default=None, max_length=MOST_DRIVES)
    #: a what-if, such as 5x4TB,3x8TB.
    shorthand: str | None = Field(default=None, max_length=2000)
    file_system: str = DEFAULT_FILE_SYSTEM
    reserved_share: float | None = None


class CompareBody(DrivesAsked):
    #: A typed size, such as 20TB; empty for no need.
    need: str = ""
    survive: int = 0
    spares: int | None = None


class CutBody(DrivesAsked):
    scheme: str
    sets: int
    spares: int = 0
    #: Members said to fail.
    failed: list[str] = Field(default_factory=list)
    #: A typed size for the first volume; empty for the largest.
    volume_size: str = ""


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


class SpareGap(BaseModel):
    spare: str
    members: list[str]


class LayoutOut(BaseModel):
    key: str
    scheme: str
    trade_name: str
    description: str
    sets: list[list[str]]
    spares: list[str]
    spare_too_small_for: list[SpareGap]
    space: Space
    survives: Survives
    first_sync_hours: float | None
    rebuild_hours: float | None


class RuledOutOut(BaseModel):
    scheme: str
    why: str


class CompareOut(BaseModel):
    drives: int
    layouts: list[LayoutOut]
    ruled_out: list[RuledOutOut]
    recommended: str | None
    reason: str | None


class CutMember(BaseModel):
    id: str
    size: int
    extents: int
    used: int
    set: int
    kind: str


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


class VolumeRoom(BaseModel):
    """The first volume: the largest that fits, and what a chosen size leaves."""

    largest: int
    size: int
    file_system: int
    for_files: int
    left_in_pool: int
    problem: str | None


class CutOut(BaseModel):
    layout: LayoutOut
    cut: Cut
    after: After
    volume: VolumeRoom


class SchemeOut(BaseModel):
    id: str
    trade_name: str
    about: str
    survives: int


class FileSystemOut(BaseModel):
    id: str
    about: str
    reserved_share: float


class SchemesOut(BaseModel):
    schemes: list[SchemeOut]
    file_systems: list[FileSystemOut]


def _drives(asked: DrivesAsked) -> tuple[Drive, ...]:
    """The drives asked about; those on shelves by kind and size, so that alike ones share a set."""
    if asked.shorthand is not None:
        return parse_shorthand(asked.shorthand)
    if not asked.drive_ids:
        raise BadInput("Choose drives on the shelves, or type a what-if such as 5x4TB,3x8TB.", field="drives")
    with transaction() as session:
        found = load_drives(session, asked.drive_ids)
    if len(found) != len(asked.drive_ids):
        raise BadInput("One of the chosen drives is not there any more.", code="drive-gone", field="drives")
    order = list(Kind)
    found.sort(key=lambda d: (order.index(d.kind), d.size, d.shelf or "", d.bay or 0))
    return tuple(d.as_drive for d in found)


@api.post("/compare", responses={200: CompareOut})
@needs(Act.LOOK)
def compare(body: CompareBody) -> Any:
    """Every layout of these drives that meets the needs, and why the others do not."""
    drives = _drives(body)
    question = Question(
        need=parse_size(body.need, field="need") if body.need.strip() else 0,
        survive=body.survive, spares=body.spares, file_system=body.file_system, reserved_share=body.reserved_share,
    )  # fmt: skip
    return CompareOut(drives=len(drives), **answer_json(all_layouts(drives, question)))


@api.post("/compare/cut", responses={200: CutOut})
@needs(Act.LOOK)
def cut(body: CutBody) -> Any:
    """One layout as it is cut, with what is left once the given drives have failed."""
    layout = build_layout(_drives(body), body.scheme, sets=body.sets, spares=body.spares)
    space = space_account(layout, file_system=body.file_system, reserved_share=body.reserved_share)
    after = after_failures(layout, body.failed)
    key = f"{body.scheme}:{body.sets}:{body.spares}"
    return CutOut(
        layout=LayoutOut(key=key, **layout_json(layout, space, survival(layout))),
        cut=Cut(**cut_json(layout)),
        after=After(
            survives=after.survives, more_guaranteed=after.more_guaranteed, more_best_case=after.more_best_case,
            sentence=in_words(layout, after),
        ),
        volume=_room(layout.data_extents * EXTENT, body),
    )  # fmt: skip


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


@api.get("/schemes", responses={200: SchemesOut})
@needs(Act.LOOK)
def schemes() -> Any:
    """The schemes and file systems with what there is to know of each."""
    return SchemesOut(
        schemes=[
            SchemeOut(id=s.id, trade_name=s.trade_name, about=s.about, survives=s.survives) for s in SCHEMES.values()
        ],
        file_systems=[
            FileSystemOut(id=f.id, about=f.about, reserved_share=f.reserved_share) for f in FILE_SYSTEMS.values()
        ],
    )

"""A kind of each sort that the house has never heard of: each a module of its own, and a line in a registry.

What they do is small and real. ``at_home`` writes the modules, imports them, and adds the lines.
"""

from __future__ import annotations

import importlib
import sys
from pathlib import Path

import pytest

from pairshelf.core.changes.kinds import KINDS
from pairshelf.core.domain.file_systems import FILE_SYSTEMS
from pairshelf.core.figures.cautions import CAUTIONS
from pairshelf.core.figures.registry import FIGURES
from pairshelf.core.layouts.registry import DIVIDED, SCHEMES
from pairshelf.engine.apply import APPLY
from pairshelf.engine.jobs.kinds import JOBS
from pairshelf.formats.exports import FORMATS
from pairshelf.formats.tables import TABLES
from pairshelf.standin.faults import FAULTS

MODULES = {
    "made_up_change": '''
from __future__ import annotations
from dataclasses import dataclass
from pairshelf.core.changes.kind import ChangeKind, Context
from pairshelf.core.changes.sheet import BeforeAfter, ChangeSheet, Figure, simple_sheet
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.estate import Estate, EstateVolume
from pairshelf.core.errors import BadInput

@dataclass(frozen=True, slots=True)
class DescribeVolume:
    """Say what a volume is for, and count what lies on it."""
    volume: str
    words: str
    twice: bool = False

@dataclass(frozen=True, slots=True)
class DescribePlan:
    sheet: ChangeSheet
    volume: EstateVolume
    words: str

def context(request: DescribeVolume) -> Context:
    return Context(volumes=(request.volume,))

def plan(estate: Estate, request: DescribeVolume) -> DescribePlan:
    volume = estate.volume(request.volume)
    if not request.words.strip():
        raise BadInput("Say what it is for.", field="words")
    words = " ".join([request.words.strip()] * (2 if request.twice else 1))
    figures = (BeforeAfter("For", Figure(text=volume.purpose), Figure(text=words)),)
    sheet = simple_sheet("describe-volume", f"Describe {volume.ref}", "So that others know.", figures=figures,
                         steps=("Write it into the books.", "Count its files."), role="operator")
    return DescribePlan(sheet, volume, words)

KIND = ChangeKind("describe-volume", Act.MANAGE_VOLUMES, DescribeVolume, context, plan)
''',
    "made_up_apply": '''
from pairshelf.engine.apply.outcome import Outcome
from pairshelf.engine.jobs.starting import start
from pairshelf.store.tables import JobRow, VolumeRow

def apply(session, sheet, planned, who, world):
    volume = session.get(VolumeRow, planned.volume.id)
    volume.purpose = planned.words
    start(session, JobRow(kind="count-files", pool_id=volume.pool_id, volume_id=volume.id, sheet_id=sheet.id,
                          total=1, seconds=1.0, asked_by=who, report={}))
    return Outcome(volume.pool_id)
''',
    "made_up_job": '''
from pairshelf.engine.io.volume_io import files_on
from pairshelf.engine.jobs.kind import JobKind

def step(work):
    work.job.report = {"files": len(files_on(work.session, work.volume().number))}
    work.job.cursor = work.job.total
    return 1.0

def outcome(report, pool):
    return f"{report['files']} files counted in {pool}."

KIND = JobKind("count-files", "Counting files", "Nobody notices.", step, outcome, users_work=True)
''',
    "made_up_scheme": '''
from pairshelf.core.layouts.model import Code, Family, Scheme
from pairshelf.core.layouts.sets import lay

SCHEME = Scheme("copies-4", "four copies", Family.SETS, Code.COPIES, 3, 4, 4,
                "Every byte on four drives; any three may fail.", lay)
''',
    "made_up_file_system": '''
from pairshelf.core.domain.file_systems import FileSystem

SYSTEM = FileSystem("plain", "Made up.", 0.0, lambda size: size // 100, False, "", "", "unmounted", "mounted",
                    1024**6, 1024**5, "nothing at all", "plain shrinks when nobody looks.")
''',
    "made_up_format": '''
from pairshelf.formats.exports import Format

def write(found):
    return "\\n".join(layout["scheme"] for layout in found.report["layouts"]).encode()

FORMAT = Format("txt", "The schemes, a line each.", "text/plain", write)
''',
    "made_up_figure": '''
from pairshelf.core.figures.figure import LayoutFigure, Worked

def per_watt(a):
    return a.space.usable / a.cost.watts if a.cost.watts else None

def explain(a, file_system):
    return Worked("usable / watts", f"{a.space.usable} / {a.cost.watts:g}", "Made up.")

FIGURE = LayoutFigure("bytes_per_watt", "Capacity for each watt", "Capacity a watt", "a watt", "How far a watt goes.",
                      "bytes", True, per_watt, explain, listed=True)
''',
    "made_up_caution": '''
from pairshelf.core.figures.cautions import CautionKind

CAUTION = CautionKind("few-drives", "few drives",
                      lambda asked: f"Only {n} drives." if (n := len(asked.layout.members)) < 4 else None)
''',
    "made_up_fault": '''
from pairshelf.core.domain.device import Presence
from pairshelf.standin.faults import Fault

def forget(world, serial, size, count):
    world.open(serial, size).write(1, bytes(world.block))

FAULT = Fault("blank-an-extent", "Blank an extent", "One extent reads as zeros", "made to forget {count} things",
              {Presence.ABSENT: "It is away."}, forget, after="Forgotten.")
''',
    "made_up_table": '''
import json
from pairshelf.formats.tables import TableFormat

def rows(raw):
    for number, row in enumerate(json.loads(raw), start=1):
        yield number, [str(cell) for cell in row]

TABLE = TableFormat("json", "Rows of cells as JSON.", (".json",), lambda raw: raw.startswith(b"[["), rows)
''',
}  # fmt: skip


def at_home(folder: Path, patch: pytest.MonkeyPatch) -> None:
    """The modules in a folder, and their lines in the registries, until the test ends."""
    patch.syspath_prepend(str(folder))
    made = {}
    for name, text in MODULES.items():
        (folder / f"{name}.py").write_text(text)
        patch.delitem(sys.modules, name, raising=False)
        made[name] = importlib.import_module(name)
    patch.setitem(KINDS, "describe-volume", made["made_up_change"].KIND)
    patch.setitem(APPLY, "describe-volume", made["made_up_apply"].apply)
    patch.setitem(JOBS, "count-files", made["made_up_job"].KIND)
    for registry in (SCHEMES, DIVIDED):
        patch.setitem(registry, "copies-4", made["made_up_scheme"].SCHEME)
    patch.setitem(FORMATS, "txt", made["made_up_format"].FORMAT)
    patch.setitem(FIGURES, "bytes_per_watt", made["made_up_figure"].FIGURE)
    patch.setitem(CAUTIONS, "few-drives", made["made_up_caution"].CAUTION)
    patch.setitem(FAULTS, "blank-an-extent", made["made_up_fault"].FAULT)
    patch.setitem(TABLES, "json", made["made_up_table"].TABLE)
    patch.setitem(FILE_SYSTEMS, "plain", made["made_up_file_system"].SYSTEM)

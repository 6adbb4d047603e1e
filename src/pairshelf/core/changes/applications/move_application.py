"""An application's data moved onto a volume."""

from __future__ import annotations

from dataclasses import dataclass

from pairshelf.core.changes.applications.application_plan import MovePlan, application_of
from pairshelf.core.changes.kind import ChangeKind, Context
from pairshelf.core.changes.sheet import BeforeAfter, ChangeSheet, Figure, Finding, Takes, Text, simple_sheet
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.estate import Estate, EstateApplication, EstateVolume
from pairshelf.core.domain.file_systems import APPLICATION_KINDS, FILE_SYSTEMS
from pairshelf.core.domain.mounting import MountLine, aside_name, plan_mount
from pairshelf.core.domain.units import format_size
from pairshelf.core.errors import BadInput, NotPossible, NotServing
from pairshelf.core.figures.durations import at_rate
from pairshelf.core.figures.speed import sequential_write

WAYS = ("mount", "point")


@dataclass(frozen=True, slots=True)
class MoveApplication:
    """Move an application's data onto a volume."""

    #: HOST/NAME
    application: str
    volume: str
    #: mount: the volume is mounted at the application's folder. point: its settings name a folder on the volume.
    way: str = "mount"


def plan(estate: Estate, request: MoveApplication) -> MovePlan:
    """The sheet for moving an application onto a volume."""
    app = application_of(estate, request.application)
    volume = estate.volume(request.volume)
    pool = estate.pool_named(volume.pool)
    if request.way not in WAYS:
        raise BadInput("Choose mount or point.", field="way")
    if app.volume:
        raise NotPossible(
            f"{app.name} stands on {app.volume} already; undo that first.", code="in-use", field="application"
        )
    if pool.locked or pool.state in ("lost", "unreachable"):
        raise NotServing(
            pool.name, "locked" if pool.locked else pool.state, "nothing can be moved to it now", field="volume"
        )
    if volume.bare:
        raise BadInput("The volume has no file system.", field="volume")
    if any(m.host != app.host for m in estate.mounts_of(volume)):
        raise NotPossible(f"Another host mounts {volume.ref}.", code="mounted-elsewhere", field="volume")
    entries = estate.entries(app.host, app.folder)
    if entries is None:
        raise NotPossible(f"{app.folder} is not there on {app.host}.", code="no-folder", field="application")
    amount = sum(e.size for e in entries)
    room = volume.size - volume.overhead - volume.files_bytes
    if amount > room:
        raise BadInput(
            f"{app.name} has {format_size(amount)} of data, and {volume.ref} has {format_size(room)} left.",
            field="volume",
        )
    if request.way == "mount":
        if estate.mounts_of(volume):
            raise NotPossible(
                f"{volume.ref} is mounted already; choose the way “point”, or another volume.",
                code="in-use",
                field="way",
            )
        line = plan_mount(
            estate, app.host, volume.ref, app.folder, volume.file_system, uuid=volume.uuid, move_aside=True
        )
        folder = app.folder
    else:
        line = None
        mounts = [m for m in estate.mounts_of(volume) if not m.read_only]
        if not mounts:
            raise NotPossible(
                f"{volume.ref} is not mounted on {app.host} for writing; mount it first.",
                code="not-mounted",
                field="volume",
            )
        folder = f"{mounts[0].at}/{app.name}"
    return MovePlan(_sheet(estate, app, volume, request.way, folder, line, amount, len(entries),
                                at_rate(amount / sequential_write(pool.layout))), app, volume, request.way, folder, line)  # fmt: skip


def _sheet(
    estate: Estate, app: EstateApplication, volume: EstateVolume, way: str, folder: str, line: MountLine | None,
    amount: int, files: int, takes: object,
) -> ChangeSheet:  # fmt: skip
    findings = [Finding(f"{app.folder} on {app.host}: {files} entries, {format_size(amount)}, owner {app.owner}.")]
    if app.kind in APPLICATION_KINDS:
        asked = [f for f, s in FILE_SYSTEMS.items() if app.kind in s.asked_for_by]
        findings.append(Finding(
            f"A {app.kind} {APPLICATION_KINDS[app.kind]}; {volume.file_system} "
            + ("is what it asks for." if volume.file_system in asked else f"works, {' or '.join(asked)} suits it better.")
        ))  # fmt: skip
    if app.kind == "recorder" and volume.keep_above is None:
        findings.append(Finding(f"{volume.ref} has no keep rule: when it is full, {app.name} stops writing."))
    return simple_sheet(
        "move-application", f"Move {app.name} on {app.host} to {volume.ref}",
        f"{format_size(amount)} are copied and compared; the old data are set aside, not deleted.",
        figures=(
            BeforeAfter("Its data are in", Figure(text=f"{app.folder} (own disk)"), Figure(text=f"{folder} ({volume.ref})")),
            BeforeAfter(f"Taken on {volume.ref}", Figure(bytes=volume.files_bytes), Figure(bytes=volume.files_bytes + amount)),
        ),
        takes=(Takes.of("Copy", takes),),  # type: ignore[arg-type]
        findings=findings,
        meanwhile=(f"{app.name} is stopped until its data are copied, compared and in place.",
                   "If anything goes wrong on the way, it is started again where it was."),
        steps=(
            f"Stop {app.name}.",
            f"Copy every file to {volume.ref}, with owner {app.owner}.",
            "Read both back and compare them, file by file.",
            *(line.steps() if line else (f"Set the old folder aside, as {aside_name(app.folder)}.", f"Name {folder} in {app.settings}.",)),
            "Check that its settings name the folder the data are in.",
            f"Start {app.name}, let it write, and see the room taken grow on {volume.ref}.",
        ),
        texts=(Text(f"Mount table of {app.host}", line.text()),) if line else (), role="operator",
    )  # fmt: skip


def context(request: MoveApplication) -> Context:
    """What the plan is made on, and what is held while it is carried out."""
    return Context(applications=(request.application,), volumes=(request.volume,))


KIND = ChangeKind("move-application", Act.MANAGE_VOLUMES, MoveApplication, context, plan)

"""Applications: moved onto a volume and back, their folders, and how long a volume keeps what they write."""

from __future__ import annotations

from dataclasses import dataclass

from pairshelf.core.changes.sheet import BeforeAfter, ChangeSheet, Figure, Finding, Takes, Text, simple_sheet
from pairshelf.core.errors import BadInput, NotPossible
from pairshelf.core.estate import Estate, EstateApplication, EstateVolume
from pairshelf.core.figures.durations import at_rate
from pairshelf.core.figures.speed import sequential_write
from pairshelf.core.file_systems import APPLICATION_KINDS, FILE_SYSTEMS
from pairshelf.core.folders import FOLDER_SCHEMES, check_scheme
from pairshelf.core.mounting import MountLine, aside_name, plan_mount
from pairshelf.core.names import check_name
from pairshelf.core.units import format_size

WAYS = ("mount", "point")


@dataclass(frozen=True, slots=True)
class MoveApplication:
    """Move an application's data onto a volume."""

    #: HOST/NAME
    application: str
    volume: str
    #: mount: the volume is mounted at the application's folder. point: its settings name a folder on the volume.
    way: str = "mount"


@dataclass(frozen=True, slots=True)
class UndoMove:
    """Bring a moved application back to where it was."""

    application: str


@dataclass(frozen=True, slots=True)
class SetFolders:
    """The owner of a writing service's folder, and how it lays files into folders."""

    application: str
    folder_scheme: str
    files_per_folder: int = 1000
    owner: str = ""


@dataclass(frozen=True, slots=True)
class SetKeepRule:
    """Delete the oldest recordings of one volume when it is fuller than a share."""

    volume: str
    #: Per cent of the room for files.
    above: float = 90.0
    #: Whose recordings; empty for all on the volume.
    application: str = ""


@dataclass(frozen=True, slots=True)
class EndKeepRule:
    """Keep everything on a volume."""

    volume: str


@dataclass(frozen=True, slots=True)
class MovePlan:
    """A move: the steps an engine takes, in order."""

    sheet: ChangeSheet
    application: EstateApplication
    volume: EstateVolume
    way: str
    #: The folder the data are in afterwards.
    folder: str
    line: MountLine | None


@dataclass(frozen=True, slots=True)
class ApplicationPlan:
    """An application as it will be."""

    sheet: ChangeSheet
    application: EstateApplication
    owner: str = ""


@dataclass(frozen=True, slots=True)
class KeepPlan:
    """A keep rule, or None for no longer one."""

    sheet: ChangeSheet
    volume: EstateVolume
    above: float | None
    application: EstateApplication | None = None


def application_of(estate: Estate, ref: str) -> EstateApplication:
    """The application named HOST/NAME, or by its name where that is the only one; BadInput otherwise."""
    found = [a for a in estate.applications if ref.strip() in (f"{a.host}/{a.name}", a.name)]
    if len(found) != 1:
        what = "Several hosts have" if found else "There is no"
        raise BadInput(
            f"{what} an application {ref}; write it as HOST/NAME.".replace("no an", "no"), field="application"
        )
    return found[0]


def move(estate: Estate, request: MoveApplication) -> MovePlan:
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
        raise NotPossible(f"Pool {pool.name} does not serve now.", code="not-serving", field="volume")
    if volume.file_system == "none":
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
    return MovePlan(_move_sheet(estate, app, volume, request.way, folder, line, amount, len(entries),
                                at_rate(amount / sequential_write(pool.layout))), app, volume, request.way, folder, line)  # fmt: skip


def _move_sheet(
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


def undo(estate: Estate, request: UndoMove) -> MovePlan:
    """The sheet for bringing a moved application back."""
    app = application_of(estate, request.application)
    if not app.volume or not app.moved_from:
        raise NotPossible(f"{app.name} was not moved.", code="not-moved", field="application")
    volume = estate.volume(app.volume)
    old = aside_name(app.moved_from)
    if estate.entries(app.host, old) is None:
        raise NotPossible(
            f"{old} is not there any more on {app.host}; there is nothing to go back to.",
            code="no-folder",
            field="application",
        )
    sheet = simple_sheet(
        "undo-move", f"Bring {app.name} on {app.host} back", f"To {app.moved_from} on the host's own disk.",
        figures=(BeforeAfter("Its data are in", Figure(text=f"{app.folder} ({volume.ref})"), Figure(text=f"{app.moved_from} (own disk)")),),
        meanwhile=(f"{app.name} is stopped until it is back.",),
        cautions=(f"What it wrote since the move is copied back too; everything stays on {volume.ref} as well.",),
        steps=(
            f"Stop {app.name}.", f"Copy what is new on {volume.ref} back, and compare.",
            "Unmount the volume from its folder." if app.folder == app.moved_from else f"Name {app.moved_from} in {app.settings}.",
            f"Move {old} back to {app.moved_from}.", f"Start {app.name}.",
        ),
        role="operator",
    )  # fmt: skip
    way = "mount" if app.folder == app.moved_from else "point"
    return MovePlan(sheet, app, volume, way, app.moved_from, None)


def set_folders(estate: Estate, request: SetFolders) -> ApplicationPlan:
    """The sheet for an owner and a folder scheme."""
    app = application_of(estate, request.application)
    check_scheme(request.folder_scheme, request.files_per_folder)
    owner = check_name(request.owner, "owner", field="owner") if request.owner.strip() else app.owner
    sheet = simple_sheet(
        "set-folders", f"Folders of {app.name} on {app.host}", FOLDER_SCHEMES[request.folder_scheme].about,
        figures=(
            BeforeAfter("Owner of its folder", Figure(text=app.owner), Figure(text=owner)),
            BeforeAfter("Folder scheme", Figure(text=app.folder_scheme or "all in one"), Figure(text=request.folder_scheme)),
            BeforeAfter("Files in a folder, at most", Figure(text=str(app.files_per_folder or "no limit")),
                        Figure(text=str(request.files_per_folder))),
        ),
        meanwhile=("Files that are there stay where they are.",), role="operator",
        steps=(f"Give {app.folder} to {owner}.", "Lay new files into folders like this."),
    )  # fmt: skip
    return ApplicationPlan(sheet, app, owner)


def set_keep_rule(estate: Estate, request: SetKeepRule) -> KeepPlan:
    """The sheet for a keep rule of one volume."""
    volume = estate.volume(request.volume)
    if not 10 <= request.above <= 99:
        raise BadInput("Between 10 and 99 per cent.", field="above")
    app = application_of(estate, request.application) if request.application.strip() else None
    if app and app.volume != volume.ref:
        raise BadInput(
            f"{app.name} writes to {app.volume or 'its own disk'}, not to {volume.ref}; the rule would delete nothing of it.",
            field="application",
        )
    room = volume.size - volume.overhead
    limit = int(room * request.above / 100)
    whose = f"of {app.name} " if app else ""
    over = max(0, volume.files_bytes - limit)
    sheet = simple_sheet(
        "set-keep-rule", f"Keep rule for {volume.ref}",
        f"Above {request.above:g} % taken, the oldest recordings {whose}on this volume, and on no other, are deleted.",
        figures=(
            BeforeAfter("Deletes above", Figure(text="never") if volume.keep_above is None else Figure(bytes=int(room * volume.keep_above)), Figure(bytes=limit)),
            BeforeAfter("Taken now", Figure(bytes=volume.files_bytes), Figure(bytes=volume.files_bytes)),
        ),
        gives_up=(f"The oldest {format_size(over)} at once: {volume.ref} is fuller than that now.",) if over else (),
        confirm=volume.name if over else None,
        steps=("Look at the volume whenever something has been written, and delete the oldest first.",),
    )  # fmt: skip
    return KeepPlan(sheet, volume, request.above / 100, app)


def end_keep_rule(estate: Estate, request: EndKeepRule) -> KeepPlan:
    """The sheet for keeping everything."""
    volume = estate.volume(request.volume)
    if volume.keep_above is None:
        raise BadInput("This volume has no keep rule.", field="volume")
    writers = [a.name for a in estate.applications if a.volume == volume.ref and a.kind == "recorder"]
    sheet = simple_sheet(
        "end-keep-rule", f"No keep rule for {volume.ref}", "Nothing is deleted by itself any more.",
        cautions=(f"{', '.join(writers)} goes on writing; when the volume is full, it stops.",) if writers else (),
        steps=("Take the rule out of the books.",),
    )  # fmt: skip
    return KeepPlan(sheet, volume, None)

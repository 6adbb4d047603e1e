"""The owner of an application's folder, and how it lays files into folders."""

from __future__ import annotations

from dataclasses import dataclass

from pairshelf.core.changes.applications.application_plan import ApplicationPlan, application_of
from pairshelf.core.changes.kind import ChangeKind, Context
from pairshelf.core.changes.sheet import BeforeAfter, Figure, simple_sheet
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.estate import Estate
from pairshelf.core.domain.folders import FOLDER_SCHEMES, check_scheme
from pairshelf.core.domain.names import check_name


@dataclass(frozen=True, slots=True)
class SetFolders:
    """The owner of a writing service's folder, and how it lays files into folders."""

    application: str
    folder_scheme: str
    files_per_folder: int = 1000
    owner: str = ""


def plan(estate: Estate, request: SetFolders) -> ApplicationPlan:
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


def context(request: SetFolders) -> Context:
    """What the plan is made on, and what is held while it is carried out."""
    return Context(applications=(request.application,))


KIND = ChangeKind("set-folders", Act.MANAGE_VOLUMES, SetFolders, context, plan)

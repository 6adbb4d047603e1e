"""Another name for a volume."""

from __future__ import annotations

from dataclasses import dataclass

from pairshelf.core.changes.kind import ChangeKind, Context
from pairshelf.core.changes.sheet import BeforeAfter, Figure, simple_sheet
from pairshelf.core.changes.volumes.volume_plan import VolumePlan, spec_of
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.estate import Estate
from pairshelf.core.domain.names import check_name
from pairshelf.core.errors import BadInput, NameTaken


@dataclass(frozen=True, slots=True)
class RenameVolume:
    """Another name for a volume; its UUID, and so its mounts, stay."""

    volume: str
    name: str


def plan(estate: Estate, request: RenameVolume) -> VolumePlan:
    """The sheet for another name."""
    volume = estate.volume(request.volume)
    name = check_name(request.name, "volume", field="name")
    if name == volume.name:
        raise BadInput("That is its name already.", field="name")
    if any(v.name.lower() == name.lower() for v in estate.volumes if v.pool == volume.pool and v.id != volume.id):
        raise NameTaken("volume", name, where="this pool")
    mounts = estate.mounts_of(volume)
    sheet = simple_sheet(
        "rename-volume", f"Rename volume {volume.ref} to {name}",
        "Its UUID stays, so every mount, share and target goes on as it is.",
        figures=(BeforeAfter("Name", Figure(text=volume.name), Figure(text=name)),),
        steps=("Write the new name into the books.",),
        meanwhile=(f"It stays in use; its mount points keep their names ({', '.join(m.at for m in mounts)}).",)
        if mounts else ("It stays in use.",),
        role="operator",
    )  # fmt: skip
    return VolumePlan(sheet, volume, spec_of(volume, name=name))


def context(request: RenameVolume) -> Context:
    """What the plan is made on, and what is held while it is carried out."""
    return Context(volumes=(request.volume,))


KIND = ChangeKind("rename-volume", Act.MANAGE_VOLUMES, RenameVolume, context, plan)

"""Every kind of change: its name, the right it needs, its request, and the function that draws its sheet up."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Protocol

from pairshelf.core import partitions
from pairshelf.core.acts import Act
from pairshelf.core.changes import applications, build_pool, mounts, replace_drive, shares, targets, volumes
from pairshelf.core.changes.sheet import ChangeSheet
from pairshelf.core.errors import BadInput
from pairshelf.core.estate import Estate


class Planned(Protocol):
    """What every plan has."""

    @property
    def sheet(self) -> ChangeSheet: ...


@dataclass(frozen=True, slots=True)
class ChangeKind:
    """A kind of change."""

    id: str
    act: Act
    request: type[Any]
    plan: Callable[[Estate, Any], Planned]

    @property
    def about(self) -> str:
        """What it does, in a sentence."""
        return (self.request.__doc__ or "").split("\n")[0]


_B, _V, _A, _R = Act.BUILD_POOLS, Act.MANAGE_VOLUMES, Act.GIVE_ACCESS, Act.REPLACE_DRIVES

KINDS: dict[str, ChangeKind] = {
    kind.id: kind
    for kind in (
        ChangeKind("build-pool", _B, build_pool.Request, build_pool.plan),
        ChangeKind("replace-drive", _R, replace_drive.Request, replace_drive.plan),
        ChangeKind("make-volumes", _B, volumes.Make, volumes.make),
        ChangeKind("rename-volume", _V, volumes.Rename, volumes.rename),
        ChangeKind("resize-volume", _B, volumes.Resize, volumes.resize),
        ChangeKind("reformat-volume", _B, volumes.Reformat, volumes.reformat),
        ChangeKind("check-files", _V, volumes.CheckFiles, volumes.check_files),
        ChangeKind("delete-volume", _B, volumes.Delete, volumes.delete),
        ChangeKind("mount-volume", _V, mounts.MountVolume, mounts.mount),
        ChangeKind("unmount-volume", _V, mounts.Unmount, mounts.unmount),
        ChangeKind("add-party", _A, shares.AddParty, shares.add_party),
        ChangeKind("set-members", _A, shares.SetMembers, shares.set_members),
        ChangeKind("make-share", _A, shares.MakeShare, shares.make),
        ChangeKind("change-share", _A, shares.ChangeShare, shares.change),
        ChangeKind("end-share", _A, shares.EndShare, shares.end),
        ChangeKind("set-host", _A, targets.SetHost, targets.set_host),
        ChangeKind("declare-initiator", _A, targets.DeclareInitiator, targets.declare),
        ChangeKind("make-target", _A, targets.MakeTarget, targets.make),
        ChangeKind("add-disk", _A, targets.AddDisk, targets.add_disk),
        ChangeKind("let-in", _A, targets.LetIn, targets.let_in),
        ChangeKind("shut-out", _A, targets.ShutOut, targets.shut_out),
        ChangeKind("end-target", _A, targets.EndTarget, targets.end),
        ChangeKind("move-application", _V, applications.MoveApplication, applications.move),
        ChangeKind("undo-move", _V, applications.UndoMove, applications.undo),
        ChangeKind("set-folders", _V, applications.SetFolders, applications.set_folders),
        ChangeKind("set-keep-rule", _A, applications.SetKeepRule, applications.set_keep_rule),
        ChangeKind("write-partitions", Act.MANAGE_DRIVES, partitions.WritePartitions, partitions.write),
        ChangeKind("end-keep-rule", _A, applications.EndKeepRule, applications.end_keep_rule),
    )
}


def kind_of(name: str) -> ChangeKind:
    """The kind of that name; BadInput otherwise."""
    try:
        return KINDS[name]
    except KeyError:
        raise BadInput(f"“{name}” is not a kind of change.", code="not-found", field="kind") from None


def request_of(kind: str, raw: dict[str, Any]) -> Any:
    """The request that a sheet was drawn up for, from plain data. BadInput for what no text or number of ours is."""
    for field, value in raw.items():
        for one in value if isinstance(value, list | tuple) else (value,):
            if isinstance(one, str) and "\0" in one:
                raise BadInput("There is a character in it that is none; type it anew.", field=field)
            if isinstance(one, int | float) and not abs(one) < 2**31:
                raise BadInput("This number is far too large.", field=field)
    return kind_of(kind).request(**{k: tuple(v) if isinstance(v, list) else v for k, v in raw.items()})

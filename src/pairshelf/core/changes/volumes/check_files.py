"""Every file of a volume read and compared."""

from __future__ import annotations

from dataclasses import dataclass

from pairshelf.core.changes.kind import ChangeKind, Context
from pairshelf.core.changes.sheet import Takes, simple_sheet
from pairshelf.core.changes.volumes.volume_plan import VolumePlan, serving_pool_of, spec_of
from pairshelf.core.domain.acts import Act
from pairshelf.core.domain.estate import Estate
from pairshelf.core.domain.words import as_sentence, every
from pairshelf.core.errors import NotPossible
from pairshelf.core.figures.durations import at_rate
from pairshelf.core.figures.speed import sequential_read


@dataclass(frozen=True, slots=True)
class CheckFiles:
    """Read every file of a volume and compare it with its checksum."""

    volume: str


def plan(estate: Estate, request: CheckFiles) -> VolumePlan:
    """The sheet for reading everything on a volume."""
    volume = estate.volume(request.volume)
    pool = serving_pool_of(estate, volume)
    if volume.bare:
        raise NotPossible("It has no file system of ours; its own host checks it.", code="no-file-system")
    seconds = volume.files_bytes / sequential_read(pool.layout)
    sheet = simple_sheet(
        "check-files", f"Check the file system of volume {volume.ref}",
        as_sentence(f"{every(volume.files, 'file')} {'is' if volume.files == 1 else 'are'} read and compared with the checksums that "
                    "hosts keep.") if volume.files else "It holds no files yet; where they would stand is looked at.",
        takes=(Takes.of("Check of the file system", at_rate(seconds)),),
        steps=("See that no two files claim the same place.", "Read every file and compare its checksum."),
        meanwhile=("It stays in use; nothing is changed.",), role="operator",
    )  # fmt: skip
    return VolumePlan(sheet, volume, spec_of(volume))


def context(request: CheckFiles) -> Context:
    """What the plan is made on, and what is held while it is carried out."""
    return Context(volumes=(request.volume,))


KIND = ChangeKind("check-files", Act.MANAGE_VOLUMES, CheckFiles, context, plan)

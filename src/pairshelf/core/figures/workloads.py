"""What the capacity is for, and how much each figure weighs for it. The weights are ours and are shown."""

from __future__ import annotations

from dataclasses import dataclass

from pairshelf.core.errors import BadInput


@dataclass(frozen=True, slots=True)
class Workload:
    """A use of storage. The weights add up to 1."""

    id: str
    name: str
    about: str
    capacity: float
    safety: float
    small_writes: float
    small_reads: float
    sequential: float
    rebuild: float
    #: Better on flash where there is some.
    flash: bool = False

    def weights(self) -> dict[str, float]:
        """By the name of what is weighed."""
        names = ("capacity", "safety", "small_writes", "small_reads", "sequential", "rebuild")
        return {name: getattr(self, name) for name in names}


WORKLOADS: dict[str, Workload] = {
    w.id: w
    for w in (
        Workload("general", "general files", "Files of all sizes, read more than written.", 0.45, 0.25, 0.10, 0.05, 0.05, 0.10),
        Workload("virtual", "operating systems and virtual machines", "Many small reads and writes at once.", 0.15, 0.20, 0.40, 0.15, 0.0, 0.10, True),
        Workload("database", "database", "Small writes above all.", 0.10, 0.20, 0.45, 0.15, 0.0, 0.10, True),
        Workload("media", "video and images", "Large files, one after the other.", 0.45, 0.20, 0.0, 0.0, 0.25, 0.10),
        Workload("archive", "archive", "Written once, rarely read, kept for long.", 0.60, 0.30, 0.0, 0.0, 0.05, 0.05),
        Workload("backup", "backup target", "Long writes; there is another copy.", 0.55, 0.15, 0.0, 0.0, 0.20, 0.10),
    )
}  # fmt: skip

USUAL_WORKLOAD = "general"


def workload_of(name: str) -> Workload:
    """The workload of that id; BadInput with the known ones otherwise."""
    try:
        return WORKLOADS[name]
    except KeyError:
        raise BadInput(
            f"“{name}” is not a known workload; choose one of {', '.join(WORKLOADS)}.", field="workload"
        ) from None

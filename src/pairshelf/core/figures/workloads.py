"""What the capacity is for, and how much each figure weighs for it, and the load it
brings. Weights and loads are ours and are shown."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from pairshelf.core.domain.drives import Drive
from pairshelf.core.errors import BadInput
from pairshelf.core.figures.assumptions import Assumptions


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
    #: The load it usually brings: small writes as a share of all drives' operations, and the share of those writes
    #: that moves whole stripes.
    writes: float
    whole: float
    #: The mix that is played for it (``core.loads``).
    plays: str
    #: Better on flash where there is some.
    flash: bool = False

    def weights(self) -> dict[str, float]:
        """By the name of what is weighed."""
        names = ("capacity", "safety", "small_writes", "small_reads", "sequential", "rebuild")
        return {name: getattr(self, name) for name in names}

    def load_on(self, drives: Sequence[Drive]) -> float:
        """Small writes a second that are assumed on so many drives, the slowest counting."""
        return round(self.writes * len(drives) * min(d.operations for d in drives))

    def with_load(self, given: Assumptions, drives: Sequence[Drive]) -> Assumptions:
        """The assumptions with the load that this use usually brings, where nothing is said of what users take."""
        if given.user_share is not None or given.user_writes is not None:
            return given
        return replace(given, user_writes=self.load_on(drives), whole_stripes=self.whole)


def load_said(given: Assumptions, assumed_for: Workload | None) -> str:
    """What users are taken to do meanwhile, in words; ``assumed_for`` where nobody has said it."""
    if given.user_writes is None:
        share = given.user_share or 0.0
        return f"users take {share:.0%} of the drives" if share else "nobody uses the drives meanwhile"
    told = f"users make {given.user_writes:,.0f} small writes/s, {given.whole_stripes:.0%} of them whole stripes"
    if assumed_for is None:
        return told
    return f"{told} (assumed for {assumed_for.name})"


WORKLOADS: dict[str, Workload] = {
    w.id: w
    for w in (
        Workload("general", "general files", "Files of all sizes, read more than written.", 0.45, 0.25, 0.10, 0.05, 0.05, 0.10, 0.02, 0.5, "files"),
        Workload("virtual", "operating systems and virtual machines", "Many small reads and writes at once.", 0.15, 0.20, 0.40, 0.15, 0.0, 0.10, 0.05, 0.25, "machines", True),
        Workload("database", "database", "Small writes above all.", 0.10, 0.20, 0.45, 0.15, 0.0, 0.10, 0.06, 0.1, "database", True),
        Workload("media", "video and images", "Large files, one after the other.", 0.45, 0.20, 0.0, 0.0, 0.25, 0.10, 0.01, 0.9, "recorder"),
        Workload("archive", "archive", "Written once, rarely read, kept for long.", 0.60, 0.30, 0.0, 0.0, 0.05, 0.05, 0.005, 1.0, "recorder"),
        Workload("backup", "backup target", "Long writes; there is another copy.", 0.55, 0.15, 0.0, 0.0, 0.20, 0.10, 0.02, 1.0, "recorder"),
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

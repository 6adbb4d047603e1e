"""Reasons for and against a layout, in sentences built from its figures."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from pairshelf.core.changes.pools.larger_drives import gains_after
from pairshelf.core.domain.units import format_chance, format_duration, format_size
from pairshelf.core.domain.words import as_sentence, every, survives_any
from pairshelf.core.figures.assess import Assessment
from pairshelf.core.figures.workloads import Workload
from pairshelf.core.layouts.model import Code, Family


@dataclass(frozen=True, slots=True)
class Reasons:
    """What speaks for it, and what against."""

    pros: tuple[str, ...]
    cons: tuple[str, ...]


#: Hours within which a restore makes one failure survived enough, whatever the drives.
QUICK_RESTORE = 4.0
NO_REASONS = Reasons((), ())


def reasons(weighed: Sequence[tuple[Assessment, str, int]], *, larger_later: bool = False) -> list[Reasons]:
    """For each layout, held against the others of the same comparison; with what it is arranged over, and
    what that costs in bytes. ``larger_later``: larger drives will come one by one."""
    found = [a for a, _, _ in weighed]
    most: dict[int, int] = {}
    for a in found:
        most[a.survives.guaranteed] = max(most.get(a.survives.guaranteed, 0), a.space.usable)
    fastest = max(a.small_writes for a in found)
    shortest = min((a.rebuild_hours for a in found if a.rebuild_hours), default=None)
    found_reasons = []
    for a, where, cost in weighed:
        pros, cons = _pros(a, most, fastest, shortest, where), _cons(a, fastest, shortest, cost)
        if larger_later:
            few, said = _with_larger(a)
            (pros if few else cons).append(said)
        found_reasons.append(Reasons(tuple(pros), tuple(cons)))
    return found_reasons


def _with_larger(a: Assessment) -> tuple[bool, str]:
    """Whether few larger drives make it grow, and what to say of it."""
    after = gains_after(a.layout)
    if after is None:
        return False, "Larger drives never make it grow."
    if after <= a.layout.scheme.survives + 1:
        return True, f"It grows with larger drives, from number {after} on."
    return False, f"Larger drives bring nothing before {every(after, 'drive')} of a set are larger."


def _pros(a: Assessment, most: dict[int, int], fastest: float, shortest: float | None, arranged: str) -> list[str]:
    sure, best = a.survives.guaranteed, a.survives.best_case
    pros = []
    if sure:
        pros.append(
            as_sentence(survives_any(sure)) + (f"; in the best case {best}, in the right sets." if best > sure else ".")
        )
    if a.space.usable == most[sure]:
        bears = f"of the layouts that survive {sure}" if sure else "without redundancy"
        pros.append(f"Most usable capacity {bears}: {format_size(a.space.usable)}.")
    if arranged:
        pros.append(f"{as_sentence(survives_any(1, arranged))}: each set is spread over several.")
    if a.small_writes == fastest:
        pros.append(f"Fastest small writes of all: about {a.small_writes:,.0f} a second.")
    if a.rebuild_hours and shortest and a.rebuild_hours <= shortest * 1.001:
        pros.append(f"Shortest rebuild: {format_duration(a.rebuild_hours * 3600)}.")
    if sure <= 1 and a.restore_hours is not None and a.restore_hours <= QUICK_RESTORE:
        pros.append(f"If it is lost all the same, a restore takes only {format_duration(a.restore_hours * 3600)}.")
    if a.layout.spares:
        pros.append("A spare takes over by itself, at night too.")
    if a.layout.scheme.family is Family.STEPPED and len({d.size for d in a.layout.members}) > 1:
        pros.append("Uses drives of different sizes, and grows drive by drive.")
    return pros


def _cons(a: Assessment, fastest: float, shortest: float | None, arranging: int) -> list[str]:
    cons = [c.sentence for c in a.cautions if c.code not in ("no-backup", "grows-by-more-than-one")]
    kept = a.space.usable / a.space.raw
    if kept < 0.55:
        cons.append(f"Only {kept:.0%} of the raw capacity is left for files.")
    if a.layout.scheme.code is Code.PARITY and fastest > 2.5 * a.small_writes:
        whole = ", or one on every drive of its set" if a.given.whole_stripes else ""
        cons.append(
            f"Small writes at {a.small_writes / fastest:.0%} of the fastest: each takes "
            f"{2 * (a.layout.scheme.survives + 1)} operations{whole}."
        )
    if a.rebuild_hours and shortest and a.rebuild_hours > 1.5 * shortest:
        cons.append(f"A rebuild takes {format_duration(a.rebuild_hours * 3600)}.")
    if a.survives.guaranteed <= 1 and a.given.backup and (a.restore_hours or 0) > QUICK_RESTORE:
        cons.append(
            f"If it is lost, a restore takes {format_duration((a.restore_hours or 0) * 3600)}, and what is newer than "
            f"{a.given.backup.age_hours:g} h is gone."
        )
    if arranging > 0:
        cons.append(f"The arrangement costs {format_size(arranging)}, because the shelves' drives differ in size.")
    return cons


def with_backup(best: Assessment, further: Assessment | None) -> str:
    """What the recorded backup changes, and what one more failure of protection costs and brings."""
    backup = best.given.backup
    assert backup is not None
    hours = f"takes {format_duration(best.restore_hours * 3600)}" if best.restore_hours else "takes a while"
    said = f"With the recorded backup, a restore {hours} and loses at most the last {backup.age_hours:g} h."
    if further is None:
        return f"{said} No layout of these drives survives one more failure."
    cost = best.space.usable - further.space.usable
    costs = f"costs {format_size(cost)}" if cost > 0 else "costs no capacity"
    return (
        f"{said} One more failure survived ({further.layout.scheme.id}, {further.layout.describe()}) {costs} and changes the "
        f"annual risk of damage from {format_chance(best.odds.yearly_damage)} to {format_chance(further.odds.yearly_damage)}."
    )


def recommendation(best: Assessment, others: Sequence[Assessment], workload: Workload) -> str:
    """Why this one, in a sentence or two."""
    sure = best.survives.guaranteed
    if sure == 0:
        return "These drives allow no redundancy here; any failure loses the data."
    if best.layout.scheme.code is Code.COPIES:
        first = f"{as_sentence(survives_any(sure))}, a rebuild reads only one other drive"
    elif sure > 1 and best.rebuild_hours and best.rebuild_hours >= 3:
        first = (
            f"{as_sentence(survives_any(sure))}; during a rebuild, which takes "
            f"{format_duration(best.rebuild_hours * 3600)}, it still {survives_any(sure - 1)}"
        )
    else:
        first = as_sentence(survives_any(sure))
    alike = [a for a in others if a.survives.guaranteed == sure]
    if best.space.usable == max(a.space.usable for a in alike):
        second = "of the layouts that give this, it has the most usable capacity"
    elif best.small_writes == max(a.small_writes for a in alike):
        second = "of the layouts that give this, it takes small writes fastest"
    else:
        second = "it is the best balance of what counts"
    return f"{first}, and {second}. Weighed for {workload.name}."

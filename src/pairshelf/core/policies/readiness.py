"""Before a pool is built: everything that is known of the chosen drives, held against what they are to do."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Mapping, Sequence

from pairshelf.core.changes.sheet import Finding
from pairshelf.core.domain.drives import Kind
from pairshelf.core.domain.estate import EstateDrive
from pairshelf.core.domain.units import format_size
from pairshelf.core.domain.words import as_sentence, every
from pairshelf.core.errors import NotPossible
from pairshelf.core.policies.scanning import LONGEST_RECOVERY


def readiness(drives: Sequence[EstateDrive], silent: Mapping[int, str]) -> list[Finding]:
    """What blocks building, and what only warns; then what was looked at and is well."""
    found = [_blocking(d, silent) for d in drives]
    findings = [f for f in found if f]
    if not findings:
        one = "The drive answers: its label and its first and last extent were read."
        several = f"{every(len(drives), 'drive')} answer: their labels and their first and last extents were read."
        findings.append(Finding(as_sentence(several) if len(drives) > 1 else one))
    return findings + [f for rule in _RULES if (f := rule(drives))]


def require_ready(findings: Sequence[Finding]) -> None:
    """NotPossible with everything that blocks."""
    if blocking := [f.sentence for f in findings if f.blocks]:
        silent = any("does not answer" in sentence for sentence in blocking)
        raise NotPossible(" ".join(blocking), code="drive-silent" if silent else "drive-not-free", field="drives")


def _named(drives: Sequence[EstateDrive]) -> str:
    names = ", ".join(f"{d.place} ({d.serial})" for d in drives[:3])
    return names + (f" and {len(drives) - 3} more" if len(drives) > 3 else "")


def _blocking(drive: EstateDrive, silent: Mapping[int, str]) -> Finding | None:
    if reason := drive.why_not_offered():
        return Finding(f"{drive.place} ({drive.serial}): {reason}", True)
    if drive.id in silent:
        return Finding(f"{drive.place} ({drive.serial}) does not answer: {silent[drive.id]}.", True)
    return None


def _sizes(drives: Sequence[EstateDrive]) -> Finding | None:
    sizes = Counter(d.size for d in drives)
    if len(sizes) == 1:
        return Finding(
            f"{'It is' if len(drives) == 1 else 'Both are' if len(drives) == 2 else 'All are'} {format_size(drives[0].size)}."
        )
    found = ", ".join(f"{n} of {format_size(s)}" for s, n in sorted(sizes.items()))
    return Finding(f"Sizes differ: {found}.")


def _kinds(drives: Sequence[EstateDrive]) -> Finding | None:
    kinds = Counter(d.kind for d in drives)
    if len(kinds) == 1:
        return None
    return Finding(
        "Kinds are mixed (" + ", ".join(f"{n} {k}" for k, n in kinds.items()) + "); the slowest sets the pace."
    )


def _buses(drives: Sequence[EstateDrive]) -> Finding | None:
    buses = {d.bus for d in drives if d.bus}
    return Finding(f"Buses are mixed: {', '.join(sorted(buses))}.") if len(buses) > 1 else None


def _readings(drives: Sequence[EstateDrive]) -> Finding | None:
    bad = [d for d in drives if d.condition == "failing"]
    if not bad:
        return Finding("No drive's own readings warn.")
    return Finding(f"{_named(bad)} {'is' if len(bad) == 1 else 'are'} failing by {'its' if len(bad) == 1 else 'their'} "
                   "own readings; a poor choice.")  # fmt: skip


def _sectors(drives: Sequence[EstateDrive]) -> Finding | None:
    sectors = {d.sector_size for d in drives if d.sector_size}
    if len(sectors) < 2:
        return None
    return Finding(
        f"Sector sizes differ: {' and '.join(str(s) for s in sorted(sectors))} bytes. Extents are multiples of both."
    )


def _links(drives: Sequence[EstateDrive]) -> Finding | None:
    slow = []
    for shelf in dict.fromkeys(d.shelf for d in drives):
        own = [d.as_drive for d in drives if d.shelf == shelf]
        link = own[0].link
        if link and link < sum(d.mean_rate for d in own):
            slow.append(f"{shelf} ({format_size(link, digits=1)}/s for {len(own)} drives)")
    if not slow:
        return None
    return Finding(f"The link of {', '.join(slow)} carries less than its drives together; rebuilds wait for it.")


def _recovery(drives: Sequence[EstateDrive]) -> Finding | None:
    rotating = [d for d in drives if d.kind is Kind.HDD]
    long = [d for d in rotating if (d.as_drive.error_recovery or LONGEST_RECOVERY + 1) > LONGEST_RECOVERY]
    if not rotating:
        return None
    if not long:
        return Finding("All rotating drives give up on a bad sector in time.")
    return Finding(
        f"{_named(long)}: no limit of error recovery is known, or it is above {LONGEST_RECOVERY:.0f} s; on a bad "
        "sector the whole set may wait. Set the limit on the drive."
    )


def _other_data(drives: Sequence[EstateDrive]) -> Finding | None:
    full = [d for d in drives if d.holds]
    return Finding(f"{_named(full)}: other data, given up by this.") if full else None


_RULES: tuple[Callable[[Sequence[EstateDrive]], Finding | None], ...] = (
    _sizes, _kinds, _buses, _readings, _sectors, _links, _recovery, _other_data,
)  # fmt: skip

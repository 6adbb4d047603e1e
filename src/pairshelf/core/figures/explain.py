"""How each figure is computed: the formula, this layout's numbers in it, and where the formula comes from."""

from __future__ import annotations

from dataclasses import dataclass

from pairshelf.core.domain.units import EXTENT, format_chance, format_duration, format_size
from pairshelf.core.figures.assess import Assessment, chain_of, chains_of, mean_failure, repair_reads, worst_bit_errors
from pairshelf.core.figures.assumptions import Assumptions
from pairshelf.core.figures.odds import failure_rate
from pairshelf.core.figures.speed import user_share
from pairshelf.core.figures.spread_pools import PlacedVolume, SpreadFigures
from pairshelf.core.layouts.model import Code, Family


@dataclass(frozen=True, slots=True)
class Explanation:
    """One figure explained."""

    figure: str
    title: str
    formula: str
    numbers: str
    source: str


_OWN = "Arithmetic of the layout; exact."
_CHAIN = (
    "Continuous-time Markov chain over the number of failed drives, one repair at a time (after Patterson, Gibson "
    "and Katz, 1988). Real repairs of fixed length live longer: the figure is on the safe side."
)


def explanations(a: Assessment, file_system: str) -> tuple[Explanation, ...]:
    """Every figure of a layout, explained."""
    return (
        _usable(a, file_system), *_survives(a), *_times(a), *_odds(a), *_speed(a), *_money(a),
    )  # fmt: skip


def _usable(a: Assessment, file_system: str) -> Explanation:
    lines = [(name, size) for name, size in a.space.as_dict().items() if size and name not in ("raw", "usable")]
    taken = " ".join(f"− {format_size(size)} {name.replace('_', ' ')}" for name, size in lines)
    return Explanation(
        "usable", "Usable capacity",
        "raw − spares − labels − uneven − redundancy − repair − reserve − file system = usable",
        f"{format_size(a.space.raw)} raw {taken} = {format_size(a.space.usable)} ({a.space.usable:,} bytes)",
        f"Exact to the byte, but for the {file_system} line: an estimate from its published layout on disk."
        if file_system != "none" else _OWN,
    )  # fmt: skip


def _survives(a: Assessment) -> tuple[Explanation, ...]:
    t, n, m = a.layout.scheme.survives, a.layout.width, len(a.layout.sets)
    members = len(a.layout.members)
    k = a.survives.guaranteed + 1
    if k <= members and a.curve[k] > 0:
        share = f"of all choices of {k} failed drives, {a.curve[k]:.4%} leave all data"
    else:
        share = f"no choice of {k} failed drives leaves all data"
    poly = f"(1 + {n}x{' + …' if t > 1 else ''})^{m}" if t else "1"
    return (
        Explanation("guaranteed", "Failures survived, whichever they are",
                    "the tolerance of one set, because all failures may strike the same set",
                    f"each set of {n} does without {t}, so any {t}; {share}", _OWN),
        Explanation("best_case", "Failures survived at best", "tolerance of a set × number of sets",
                    f"{t} × {m} = {a.survives.best_case}", _OWN),
        Explanation("curve", "Survival curve",
                    "S(k) = coefficient of x^k in ∏ over sets Σ_{f≤t} C(n,f) x^f, divided by C(N,k)",
                    f"N = {members}, n = {n}, t = {t}: {poly}; S({k}) = {a.curve[k] if k <= members else 0:.6g}",
                    "Counting all choices, in integers; exact."),
    )  # fmt: skip


def _times(a: Assessment) -> tuple[Explanation, ...]:
    share = user_share(a.layout, a.given)
    users = f" × 1 / (1 − {share:.3g})" if share else ""
    if a.given.user_writes is not None:
        users += f" (u: {a.given.user_writes:g} small writes/s of {a.given.user_writes / share if share else 0:,.0f} the drives bear)"
    slow = min(d.mean_rate for d in a.layout.members)
    found = []
    if a.rebuild_hours is not None:
        used = max(a.layout.used_extents) * EXTENT
        effective = used / (a.rebuild_hours * 3600) / (1 - share)
        narrowed = "" if abs(effective - slow) < 1 else f" (the links leave {format_size(round(effective))}/s of it)"
        found.append(Explanation(
            "rebuild_hours", "Rebuild of one drive",
            "bytes of the drive in use / min(write rate of the new drive, read rate of the slowest source, "
            "its share of each link) × 1 / (1 − users' share)",
            f"{format_size(used)} / {format_size(slow)}/s{narrowed}{users} = {format_duration(a.rebuild_hours * 3600)}",
            "Every byte is written once; where drives or sets differ, the slowest counts.",
        ))  # fmt: skip
    if a.first_sync_hours is not None:
        found.append(Explanation(
            "first_sync_hours", "First sync", "bytes of each drive in use / its rate, the slowest counts",
            f"{format_duration(a.first_sync_hours * 3600)}{users and ', with users at work'}",
            "Every drive is read or written once, all at the same time.",
        ))  # fmt: skip
    return tuple(found)


def _odds(a: Assessment) -> tuple[Explanation, ...]:
    drives, t = a.layout.members, a.layout.scheme.survives
    afr, uber = mean_failure(drives), worst_bit_errors(drives)
    rate, m = failure_rate(afr), chains_of(a.layout)
    n = len(drives) if a.layout.scheme.family is Family.STEPPED or not t else a.layout.width
    loss, damage = a.odds.yearly_loss, a.odds.yearly_damage
    if t == 0:
        text = f"AFR {afr:.3%}, {n} drives: 1 − (1 − {afr:g})^{n} = {loss:.4g}"
        formula = "1 − (1 − AFR)^N: any failed drive loses all"
        return (
            Explanation("yearly_loss", "Chance of losing data within a year", formula, text, _CHAIN),
            Explanation("yearly_damage", "Chance of damage or loss within a year", formula, text, _CHAIN),
            Explanation("mttdl_hours", "Mean time to data loss", "1 / (N λ)",
                        f"λ = {rate:.4g}/h: {_hours(a.odds.mttdl_hours)}", _CHAIN),
        )  # fmt: skip
    wait = (a.repair_hours or 0) - (a.rebuild_hours or 0)
    mu = (
        f"λ = −ln(1 − {afr:g}) / 8766 h = {rate:.4g}/h; μ = 1 / ({a.rebuild_hours or 0:.2f} h rebuild + {wait:g} h until a "
        f"drive is in); n = {n}, t = {t}" + (f", {m} sets: 1 − (1 − P)^{m}" if m > 1 else "")
    )
    read = repair_reads(a.layout)
    chain = chain_of(a.layout, a.repair_hours)
    first = f"h₀ = 1/(n λ) = {1 / chain.fail[0]:,.0f} h" if chain.fail[0] else "nothing ever fails"
    return (
        Explanation("yearly_loss", "Chance of losing data within a year",
                    "P(more than t of a set failed within 8766 h): i → i+1 at (n − i) λ, i → i−1 at μ",
                    f"{mu} = {loss:.4g}{_once(loss)}", _CHAIN),
        Explanation("yearly_damage", "Chance of damage or loss within a year",
                    "the same chain, in which a repair with nothing to spare meets an unreadable sector with "
                    "q = 1 − (1 − UBER)^(8 × bytes read)",
                    f"UBER {uber:g} per bit, {format_size(read)} read: q = {a.q:.4g}; damage or loss = {damage:.4g}{_once(damage)}",
                    "UBER is the maker's ceiling, real drives are mostly better: an upper bound. A damaged sector is "
                    "one file, not the pool."),
        Explanation("mttdl_hours", "Mean time to data loss",
                    "Σ h_i with h₀ = 1/(n λ), h_i = (1 + μ h_(i−1)) / ((n − i) λ)"
                    + ("; for several sets the integral of the product of their survival functions" if m > 1 else ""),
                    f"{first}; in all {_hours(a.odds.mttdl_hours)}", _CHAIN),
    )  # fmt: skip


def _speed(a: Assessment) -> tuple[Explanation, ...]:
    drives, scheme, m = a.layout.members, a.layout.scheme, len(a.layout.sets)
    n, o, r = len(drives), min(d.operations for d in drives), min(d.mean_rate for d in drives)
    s, d = a.speed, a.layout.data_drives
    rate = format_size(r)
    one = scheme.id in ("span", "single")
    if scheme.code is Code.COPIES:
        rmw = whole = (f"N o / {a.layout.width}", f"{n} × {o:,} / {a.layout.width} = {s.random_write_rmw:,.0f}/s")
    elif not scheme.survives:
        rmw = whole = ("o" if scheme.id == "span" else "N o", f"{s.random_write_rmw:,.0f}/s")
    else:
        cost = 2 * (scheme.survives + 1)
        sets = 1 if scheme.family is Family.STEPPED else m
        rmw = (f"N o / (2 (p + 1)): read and write the data and {scheme.survives} parity",
               f"{n} × {o:,} / {cost} = {s.random_write_rmw:,.0f}/s")  # fmt: skip
        whole = ("sets × o: every write moves a whole stripe, a set behaves like one drive",
                 f"{sets} × {o:,} = {s.random_write_whole_stripe:,.0f}/s")  # fmt: skip
    model = "A model of the drives alone: no cache, no queue. It ranks layouts; it does not predict an application."
    many = f"{n} × {rate}/s" if scheme.code is Code.COPIES else f"{d:g} × {rate}/s"
    return (
        Explanation("random_read", "Small reads", "N o: each is served by one drive", f"{n} × {o:,} = {s.random_read:,.0f}/s", model),
        Explanation("random_write_rmw", "Small writes, changing part of a stripe", rmw[0], rmw[1], model),
        Explanation("random_write_whole_stripe", "Small writes, whole stripes", whole[0], whole[1], model),
        Explanation("sequential_read", "Reading large files", "r" if one else "copies N r, parity d r; never more than the links",
                    f"{rate if one else many} → {format_size(round(s.sequential_read))}/s", model),
        Explanation("sequential_write", "Writing large files", "r" if one else "d r; never more than the links",
                    f"{rate if one else f'{d:g} × {rate}/s'} → {format_size(round(s.sequential_write))}/s", model),
    )  # fmt: skip


def _money(a: Assessment) -> tuple[Explanation, ...]:
    found = []
    c = a.cost
    if c.total is not None and c.per_usable_tb is not None:
        count = len(a.layout.members) + len(a.layout.spares)
        found.append(Explanation(
            "cost", "Cost per usable TB", "price of all drives, spares included / usable TB",
            f"{count} drives, {c.total:,.2f} {c.currency or ''} / {a.space.usable / 1e12:.2f} TB = {c.per_usable_tb:,.2f}",
            "Prices as given for each drive.",
        ))  # fmt: skip
    if a.restore_hours is not None and a.given.backup:
        found.append(Explanation(
            "restore_hours", "Restoring everything from the backup", "bytes / the backup's link",
            f"{format_size(a.space.usable)} / {format_size(a.given.backup.link)}/s = {format_duration(a.restore_hours * 3600)}",
            f"A full volume, from {a.given.backup.where}.",
        ))  # fmt: skip
    return tuple(found)


def _hours(hours: float | None) -> str:
    if hours is None:
        return "never"
    years = hours / 8766
    return f"{hours:,.0f} h ({years:,.0f} years)" if years >= 2 else f"{hours:,.0f} h"


def _once(chance: float) -> str:
    """A small chance in words as well."""
    return f", {format_chance(chance)}" if 0 < chance < 0.5 else ""


def spread_explanations(found: SpreadFigures, given: Assumptions) -> tuple[tuple[Explanation, ...], ...]:
    """For each volume of a spread pool, its figures explained."""
    return tuple(_of_volume(v, found, given) for v in found.volumes)


def _of_volume(volume: PlacedVolume, found: SpreadFigures, given: Assumptions) -> tuple[Explanation, ...]:
    wanted, pool = volume.wanted, found.pool
    p = wanted.protection
    curve, units = volume.survives.curve, volume.survives.units
    sampled = (
        ""
        if volume.survives.curve_interval is None
        else " Beyond a million selections it is sampled, with its interval."
    )
    k = volume.survives.guaranteed + 1
    afr, uber = mean_failure(pool.drives), worst_bit_errors(pool.drives)
    waits = 0.0 if len(pool.domains) > p.width else given.replace_hours
    rates = (
        f"AFR {afr:.3%}: λ = {failure_rate(afr):.4g}/h; μ = 1 / ({found.rebuild_hours:.2f} h repair + {waits:g} h waiting); "
        f"N = {units}"
    )
    chain = (
        "One Markov chain over all drives; the failure k → k+1 is loss with probability 1 − S(k+1)/S(k) of the real "
        "placement. An approximation for spread pools."
    )
    traffic = "2 B" if p.copies else f"({p.data} + 1) B"
    return (
        Explanation("stripes", "Stripes", "⌈size / (k extents)⌉, k extents of data in a stripe",
                    f"⌈{wanted.size:,} / ({p.data} × {EXTENT:,})⌉ = {wanted.stripes:,}", _OWN),
        Explanation("pool_use", "Pool use", "stripes × w extents",
                    f"{wanted.stripes:,} × {p.width} × 1 GiB = {format_size(wanted.pool_use)} ({wanted.pool_use:,} bytes)", _OWN),
        Explanation("guaranteed", "Failed drives survived, whichever they are", "what a stripe can do without",
                    f"{p.name} does without {p.survives}; "
                    f"S({k}) = {curve[k] if k <= units else 0:.6g}", _OWN),
        Explanation("best_case", "Failed drives survived at best", "the largest selection that leaves every stripe readable",
                    f"{volume.survives.best_case} of {units}"
                    + ("" if volume.survives.best_case_exact else ", the most that sampling found: a lower bound"),
                    "Counted over the stripes as they are placed." + sampled),
        Explanation("rebuild_hours", "Repair of one drive",
                    "traffic of the lost drive's B bytes over the other drives' rates, never less than B over the rates of "
                    "those that may take the new extents",
                    f"{traffic} for this volume, all volumes together: {format_duration(found.rebuild_hours * 3600)}",
                    "All drives help; the drive that is worst to lose counts."),
        Explanation("yearly_loss", "Chance of losing the volume within a year", "P(loss within 8766 h) of the chain",
                    f"{rates} = {volume.odds.yearly_loss:.4g}{_once(volume.odds.yearly_loss)}", chain),
        Explanation("yearly_damage", "Chance of damage or loss within a year",
                    "the same chain, in which a repair with nothing to spare meets an unreadable sector",
                    f"UBER {uber:g} per bit; {rates} = {volume.odds.yearly_damage:.4g}{_once(volume.odds.yearly_damage)}", chain),
    )  # fmt: skip

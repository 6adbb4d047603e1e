"""``pairshelf layout`` and ``pairshelf layouts``."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict, replace
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from pairshelf.cli.options import (
    REPLACE,
    Afr,
    AsJson,
    BackupAge,
    BackupLink,
    Binary,
    Drives,
    FileSystem,
    Need,
    Network,
    Ops,
    Price,
    Rate,
    ReplaceHours,
    Reserved,
    Spares,
    Survive,
    Tariff,
    Uber,
    UserShare,
    UserWrites,
    WholeStripes,
    WorkloadName,
    assumptions,
    drives_of,
    size_or_none,
)
from pairshelf.cli.show import app, print_json, progress, show, table
from pairshelf.core.domain.drives import DOMAINS
from pairshelf.core.domain.file_systems import DEFAULT_FILE_SYSTEM
from pairshelf.core.domain.units import UnitSystem, format_duration, format_size
from pairshelf.core.domain.words import survives_any
from pairshelf.core.errors import BadInput
from pairshelf.core.figures.assess import Assessment, assess
from pairshelf.core.figures.assumptions import assume
from pairshelf.core.figures.registry import FIGURES, explanations, format_figure
from pairshelf.core.figures.report import answer_json, cut_json, detail_json, layout_json, survey_json
from pairshelf.core.figures.survival import survival_of, withstands
from pairshelf.core.figures.workloads import USUAL_WORKLOAD
from pairshelf.core.layouts import build_layout
from pairshelf.core.loads.mixes import MIXES, Mix
from pairshelf.core.search.candidates import Answer, Question, all_layouts, load_of
from pairshelf.core.search.ranking import pareto_marks
from pairshelf.formats.cut_svg import cut_svg

if TYPE_CHECKING:
    from pairshelf.services.loads import CandidateMeasured

Domain = Annotated[str, typer.Option(help="Also say what survives of whole: drive, shelf, host or site.")]


@app.command()
def layout(
    drives: Drives,
    scheme: Annotated[str, typer.Option(help="The scheme, such as parity-2, copies-2 or stepped-1.")],
    sets: Annotated[
        int | None, typer.Option(help="How many sets; one, or pairs and threes for copies, if left out.")
    ] = None,
    spares: Annotated[int, typer.Option(help="Hold the last so many drives back as spares.")] = 0,
    domain: Domain = "drive",
    afr: Afr = None, uber: Uber = None, rate: Rate = None, ops: Ops = None, replace_hours: ReplaceHours = REPLACE,
    user_share: UserShare = None, user_writes: UserWrites = None, whole_stripes: WholeStripes = 0.0, price: Price = None, tariff: Tariff = None, network: Network = None,
    backup_link: BackupLink = None, backup_age: BackupAge = 24.0,
    file_system: FileSystem = DEFAULT_FILE_SYSTEM,
    reserved_share: Reserved = None,
    explain: Annotated[bool, typer.Option("--explain", help="Say how every figure is computed.")] = False,
    svg: Annotated[str | None, typer.Option(help="Write the cut, a drawing of the layout, to this file.")] = None,
    as_json: AsJson = False,
    binary: Binary = False,
) -> None:  # fmt: skip
    """One layout: where every byte goes, what it survives, how fast, how long, what it costs.

    Drives go to sets in the listed order, as many to each; the last N are spares.

    Examples:

    pairshelf layout 12x6TB --scheme parity-2 --sets 2

    pairshelf layout 8x4TB --scheme parity-1 --afr 0.02 --uber 1e-15 --replace-hours 24 --user-share 0.3 --explain
    """
    given = assumptions(
        afr=afr, uber=uber, rate=rate, ops=ops, replace_hours=replace_hours, user_share=user_share, user_writes=user_writes, whole_stripes=whole_stripes, price=price,
        tariff=tariff, network=network, backup_link=backup_link, backup_age=backup_age,
    )  # fmt: skip
    if domain not in DOMAINS:
        raise BadInput(f"“{domain}” cannot fail as one; use {', '.join(DOMAINS)}.", field="domain")
    assumed = assume(drives_of(drives), given)
    laid = build_layout(assumed, scheme, sets=sets, spares=spares)
    found = assess(laid, given, file_system=file_system, reserved_share=reserved_share)
    report = (
        layout_json(found) | detail_json(found, file_system) | {"pareto": _on_front(found, file_system, reserved_share)}
    )
    if domain != "drive":
        if any(getattr(d, domain) is None for d in laid.members):
            raise BadInput(
                f"Not every drive says its {domain}; give a list with a column for it, or @box.", field="domain"
            )
        report["survives"]["by_domain"] = {"domain": domain} | survey_json(survival_of(laid, domain))
    if svg:
        try:
            Path(svg).write_text(cut_svg(cut_json(laid)), encoding="utf-8")
        except (OSError, ValueError) as error:
            why = error.strerror if isinstance(error, OSError) else str(error)
            raise BadInput(f"{svg} cannot be written: {why}.", field="svg") from None
    if as_json:
        return print_json(report)
    _print_layout(found, report, "binary" if binary else "decimal")
    if explain:
        for e in explanations(found, file_system):
            print(f"\n{e.title}\n  {e.formula}\n  {e.numbers}\n  ({e.source})")


def _on_front(found: Assessment, file_system: str, reserved_share: float | None) -> bool:
    """Whether no other layout of the same drives, with as many spares or fewer, beats it on everything."""
    layout = found.layout
    question = Question(file_system=file_system, reserved_share=reserved_share, mix_kinds=True,
                        given=replace(found.given, user_share=found.given.user_share or 0.0))  # fmt: skip
    drives = [*layout.members, *layout.spares]
    with progress("weighing the other layouts") as tell:
        others = [c.assessment for c in all_layouts(drives, question, progress=tell).layouts]
    return pareto_marks([found, *others])[0]


def _print_layout(found: Assessment, report: dict[str, Any], system: UnitSystem) -> None:
    named = f" ({report['trade_name']})" if report["trade_name"] else ""
    print(f"{report['scheme']}{named}, {report['description']}")
    lines = table("", "bytes", "", right=(1, 2))
    for name, size in report["space"].items():
        sign = "" if name in ("raw", "usable") else "- "
        lines.add_row(name.replace("_", " "), f"{sign}{size:,}", format_size(size, system))
    show(lines)
    survives = report["survives"]
    print(f"survives: any {survives['guaranteed']}, at best {survives['best_case']}")
    if by := survives.get("by_domain"):
        print(f"of each {by['domain']} as a whole: any {by['guaranteed']}, at best {by['best_case']}")
    if found.first_sync_hours is not None and found.rebuild_hours is not None:
        share = found.user_share
        users = f"with users taking {share:.0%}" if share else "undisturbed"
        print(f"first sync {format_duration(found.first_sync_hours * 3600)}, "
              f"rebuild of one drive {format_duration(found.rebuild_hours * 3600)}, {users}")  # fmt: skip
    print(
        f"chance within a year: of losing the data {found.odds.yearly_loss:.3g}, of damage or loss {found.odds.yearly_damage:.3g}"
    )
    speed = found.speed
    print(f"small reads {speed.random_read:,.0f}/s, small writes {speed.random_write_rmw:,.0f}/s "
          f"(whole stripes {speed.random_write_whole_stripe:,.0f}/s), "
          f"reading {format_size(round(speed.sequential_read), system)}/s, writing {format_size(round(speed.sequential_write), system)}/s")  # fmt: skip
    if found.cost.total is not None and found.cost.per_usable_tb is not None:
        print(
            f"cost {found.cost.total:,.2f} {found.cost.currency or ''}, {found.cost.per_usable_tb:,.2f} per usable TB"
        )
    for caution in found.cautions:
        print(f"! {caution.sentence}")


def _measured(answer: Answer, question: Question, mix: str) -> tuple[Mix, list[CandidateMeasured]]:
    from pairshelf.services.loads import measure_layouts

    with progress("measuring") as tell:
        tell(0, 1)
        return measure_layouts(answer, question, (), mix)


def _show_measured(mix: Mix, measured: Sequence[CandidateMeasured]) -> None:
    """What was measured of each, beside what the figures say."""
    print(f"\nMeasured with {mix.name}, {mix.at_once} requests at once, on these drives simulated:")
    lines = table(
        "scheme", "drives", "requests/s", "figures say", "half within", "a drive gone", "rebuild", "figures say",
        right=range(2, 8),
    )  # fmt: skip
    for c in measured:
        m = c.measured
        lines.add_row(
            c.candidate.layout.scheme.id, c.candidate.layout.describe(), f"{m.whole.operations:,.0f}",
            f"{m.estimate.operations:,.0f}", f"{(m.whole.median or 0) * 1000:.1f} ms",
            f"{m.degraded.operations:,.0f}" if m.degraded else "–",
            *(f"{h:.1f} h" if h is not None else "–" for h in (m.rebuild_hours, m.rebuild_estimate)),
        )  # fmt: skip
    show(lines)


@app.command()
def layouts(
    drives: Drives,
    need: Need = None,
    survive: Survive = 1,
    spares: Spares = None,
    spares_for: Annotated[str, typer.Option(help="Spares serve: pool, shelf (so many on each), or all pools.")] = "pool",
    survive_shelves: Annotated[int, typer.Option(help="Whole shelves that must be survived.")] = 0,
    survive_hosts: Annotated[int, typer.Option(help="Whole hosts that must be survived.")] = 0,
    domain: Annotated[str | None, typer.Option(help="Short for surviving one whole shelf or host.")] = None,
    workload: WorkloadName = USUAL_WORKLOAD,
    rebuild_limit: Annotated[float | None, typer.Option(help="Longest rebuild allowed, hours.")] = None,
    widest: Annotated[int | None, typer.Option(help="Most drives allowed in a set.")] = None,
    budget: Annotated[float | None, typer.Option(help="Most that all drives may cost.")] = None,
    bays: Annotated[int | None, typer.Option(help="Bays there are; as many as drives if left out.")] = None,
    bays_free: Annotated[int, typer.Option(help="Bays that must stay free.")] = 0,
    mix_kinds: Annotated[bool, typer.Option("--mix-kinds", help="Rotating and flash drives in one pool.")] = False,
    larger_later: Annotated[
        bool, typer.Option("--larger-later", help="Larger drives will come one by one: what grows with few comes first.")
    ] = False,
    afr: Afr = None, uber: Uber = None, rate: Rate = None, ops: Ops = None, replace_hours: ReplaceHours = REPLACE,
    user_share: UserShare = None, user_writes: UserWrites = None, whole_stripes: WholeStripes = 0.0, price: Price = None, tariff: Tariff = None, network: Network = None,
    backup_link: BackupLink = None, backup_age: BackupAge = 24.0,
    file_system: FileSystem = DEFAULT_FILE_SYSTEM,
    reserved_share: Reserved = None,
    why: Annotated[bool, typer.Option("--why", help="Reasons for and against each layout.")] = False,
    measure: Annotated[bool, typer.Option("--measure", help="Run the first few against one another on simulated drives.")] = False,
    mix: Annotated[str, typer.Option(help=f"What is played then: {', '.join(MIXES)}; that of the workload if left out.")] = "",
    as_json: AsJson = False,
    binary: Binary = False,
) -> None:  # fmt: skip
    """All layouts of these drives, best for the workload first, and why the others are ruled out.

    Marks: * the one suggested, o those no other beats on everything.

    Examples:

    pairshelf layouts 5x4TB,3x8TB --need 15TB --survive 1

    pairshelf layouts 6x8TB@oak,6x8TB@elm --survive-shelves 1 --workload media --why
    """
    if domain not in (None, "drive", "shelf", "host"):
        raise BadInput("Whole shelves or hosts can be survived: --domain shelf, or --domain host.", field="domain")
    question = Question(
        need=size_or_none(need, "need") or 0, survive=survive, spares=spares, spares_for=spares_for,
        survive_shelves=max(survive_shelves, int(domain == "shelf")), survive_hosts=max(survive_hosts, int(domain == "host")),
        workload=workload, rebuild_limit=rebuild_limit, widest=widest, budget=budget, bays=bays, bays_free=bays_free,
        mix_kinds=mix_kinds, larger_later=larger_later, file_system=file_system, reserved_share=reserved_share,
        given=assumptions(
            afr=afr, uber=uber, rate=rate, ops=ops, replace_hours=replace_hours, user_share=user_share, user_writes=user_writes, whole_stripes=whole_stripes, price=price,
            tariff=tariff, network=network, backup_link=backup_link, backup_age=backup_age,
        ),
    )  # fmt: skip
    with progress("weighing layouts") as tell:
        answer = all_layouts(drives_of(drives), question, progress=tell)
    played: Mix | None = None
    measured: Sequence[CandidateMeasured] = ()
    if measure or mix:
        played, measured = _measured(answer, question, mix)
    if as_json:
        each = [{"key": c.candidate.key, **asdict(c.measured)} for c in measured]
        return print_json(answer_json(answer) | ({"measured": {"mix": played.id, "layouts": each}} if played else {}))
    system: UnitSystem = "binary" if binary else "decimal"
    listed = [
        f for f in FIGURES.values() if f.listed and any(f.value(c.assessment) is not None for c in answer.layouts)
    ]
    lines = table("", "scheme", "drives", *(f.head for f in listed), right=range(3, 3 + len(listed)))
    for c in answer.layouts:
        mark = ("*" if c.key == answer.recommended else " ") + ("o" if c.pareto else "")
        extra = "".join(f", {survives_any(1, domain)}" for domain in withstands(c.layout)) + (
            f", {c.part}" if c.part else ""
        )
        told = (format_figure(f, f.value(c.assessment), system) for f in listed)
        lines.add_row(mark, c.layout.scheme.id, c.layout.describe() + extra, *told)
    if answer.layouts:
        show(lines)
    else:
        print("No layout of these drives meets these needs.")
    if answer.reason:
        print(f"* {answer.reason}")
    print(f"Meanwhile {load_of(answer, question)}.")
    if played is not None:
        _show_measured(played, measured)
    if why:
        for c in answer.layouts:
            print(f"\n{c.layout.scheme.id}, {c.layout.describe()}")
            for sign, sentences in (("+", c.reasons.pros), ("-", c.reasons.cons)):
                for sentence in sentences:
                    print(f"  {sign} {sentence}")
    if answer.left_out:
        print(f"left out so that bays stay free: {', '.join(d.id for d in answer.left_out)}")
    for near in answer.nearest:
        print(f"nearest: {near.scheme}, {near.description}: {'; '.join(near.missing)}")
    for ruled in answer.ruled_out:
        print(f"ruled out: {ruled.scheme}: {ruled.why}")

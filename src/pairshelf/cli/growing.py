"""``pairshelf growth``, ``pairshelf buy`` and ``pairshelf split``."""

from __future__ import annotations

from typing import Annotated, Any

import typer

from pairshelf.cli.options import (
    REPLACE,
    AsJson,
    Binary,
    Drives,
    FileSystem,
    Rate,
    ReplaceHours,
    Reserved,
    Survive,
    UserShare,
    WorkloadName,
    assumptions,
    drives_of,
    read_file,
    size_or_none,
)
from pairshelf.cli.show import app, print_json, progress, show, table
from pairshelf.core.domain.file_systems import DEFAULT_FILE_SYSTEM
from pairshelf.core.domain.names import is_number
from pairshelf.core.domain.units import UnitSystem, format_duration, format_size, parse_size
from pairshelf.core.errors import BadInput
from pairshelf.core.figures.assess import assess
from pairshelf.core.figures.assumptions import assume
from pairshelf.core.figures.report import path_json, shopping_json, split_json
from pairshelf.core.figures.workloads import USUAL_WORKLOAD
from pairshelf.core.layouts import build_layout
from pairshelf.core.search.buy import shopping
from pairshelf.core.search.candidates import Question
from pairshelf.core.search.growth import growth as ways_to_grow
from pairshelf.core.search.split import Use
from pairshelf.core.search.split import split as split_by_use
from pairshelf.formats.price_list_csv import read_price_list


@app.command()
def growth(
    drives: Drives,
    scheme: Annotated[str, typer.Option(help="The scheme, such as parity-2 or stepped-1.")],
    sets: Annotated[int | None, typer.Option(help="How many sets.")] = None,
    spares: Annotated[int, typer.Option(help="Hold the last so many drives back as spares.")] = 0,
    larger: Annotated[
        str | None, typer.Option(help="Size of larger drives to come; twice the smallest if left out.")
    ] = None,
    steps: Annotated[int, typer.Option(help="How many drives or sets are added.")] = 3,
    rate: Rate = None,
    user_share: UserShare = None,
    file_system: FileSystem = DEFAULT_FILE_SYSTEM,
    reserved_share: Reserved = None,
    as_json: AsJson = False,
    binary: Binary = False,
) -> None:
    """How a layout grows: one more drive, one more set, larger drives one by one, in the best order.

    Example: pairshelf growth 4x4TB --scheme stepped-1 --larger 10TB
    """
    if not 1 <= steps <= 24:
        raise BadInput("Between 1 and 24 steps.", field="steps")
    given = assumptions(rate=rate, user_share=user_share)
    laid = build_layout(assume(drives_of(drives), given), scheme, sets=sets, spares=spares)
    found = assess(laid, given, file_system=file_system, reserved_share=reserved_share)
    paths = ways_to_grow(found, larger=size_or_none(larger, "larger"), steps=steps, file_system=file_system,
                         reserved_share=reserved_share)  # fmt: skip
    if as_json:
        return print_json({"usable": found.space.usable, "paths": [path_json(p) for p in paths]})
    system: UnitSystem = "binary" if binary else "decimal"
    print(f"{scheme}, {laid.describe()}: {format_size(found.space.usable, system)} usable now")
    for path in paths:
        print(f"\n{path.name}")
        if path.closed:
            print(f"  closed: {path.closed}")
            continue
        if path.said_before:
            print(f"  ! {path.said_before}")
        lines = table("", "gain", "usable then", "takes", "capacity arrives", right=(1, 2, 3))
        for step in path.steps:
            lines.add_row(f"  {step.act}", format_size(step.gain, system) if step.gain else "nothing yet",
                          format_size(step.usable, system), format_duration(step.hours * 3600) if step.hours else "at once",
                          step.when)  # fmt: skip
        show(lines)


@app.command()
def buy(
    prices: Annotated[
        str, typer.Argument(metavar="PRICES", help="A CSV file with a model a row: model,size,kind,price.")
    ],
    bays: Annotated[int, typer.Option(help="Free bays.")],
    need: Annotated[str, typer.Option(help="Usable capacity needed now, such as 20TB.")],
    then: Annotated[
        list[str] | None, typer.Option(help="Capacity needed at the next growth step; may be given twice.")
    ] = None,
    have: Annotated[str | None, typer.Option(help="Drives that are there already, as DRIVES elsewhere.")] = None,
    survive: Survive = 1,
    spares: Annotated[int, typer.Option(help="So many spares among them.")] = 0,
    workload: WorkloadName = USUAL_WORKLOAD,
    rebuild_limit: Annotated[float | None, typer.Option(help="Longest rebuild allowed, hours.")] = None,
    widest: Annotated[int | None, typer.Option(help="Most drives allowed in a set.")] = None,
    budget: Annotated[float | None, typer.Option(help="Most that the drives may cost now.")] = None,
    bays_free: Annotated[int, typer.Option(help="Bays that must stay free.")] = 0,
    replace_hours: ReplaceHours = REPLACE,
    user_share: UserShare = None,
    file_system: FileSystem = DEFAULT_FILE_SYSTEM,
    as_json: AsJson = False,
    binary: Binary = False,
) -> None:
    """What to buy: the purchases that meet the needs at least cost, now and over the next two growth steps.

    Example: pairshelf buy prices.csv --bays 12 --need 20TB --then 30TB --then 45TB --survive 2
    """
    listed = read_price_list(read_file(prices, "prices", "prices"))
    if listed.errors:
        first = listed.errors[0]
        raise BadInput(f"{prices}, row {first.row}: {first.reason}", field="prices")
    question = Question(
        need=parse_size(need, field="need"), survive=survive, spares=spares, workload=workload, budget=budget,
        rebuild_limit=rebuild_limit, widest=widest, bays_free=bays_free, file_system=file_system,
        given=assumptions(replace_hours=replace_hours, user_share=user_share),
    )  # fmt: skip
    with progress("weighing purchases") as tell:
        found = shopping(listed.models, bays, question, have=drives_of(have) if have else (),
                         then=[parse_size(t, field="then") for t in then or []], progress=tell)  # fmt: skip
    if as_json:
        return print_json(shopping_json(found))
    system: UnitSystem = "binary" if binary else "decimal"
    lines = table("", "buy", "as", "usable", "cost now", "in all", "damage a year", "then", right=(3, 4, 5, 6))
    for p in found.purchases[:20]:
        mark = ("*" if p is found.cheapest_in_all else "") + ("o" if p is found.cheapest_now else "")
        in_all = "cannot grow so far" if p.cost_in_all is None else f"{p.cost_in_all:,.2f}"
        lines.add_row(mark, f"{p.count} x {p.model.name}", p.description, format_size(p.assessment.space.usable, system),
                      f"{p.cost:,.2f}", in_all, f"{p.assessment.odds.yearly_damage:.2g}", ", ".join(s.how for s in p.later))  # fmt: skip
    show(lines)
    print("* least over all steps, o least now" if found.purchases else "nothing on the list meets the needs")
    for name, why in found.ruled_out:
        print(f"ruled out: {name}: {why}")


@app.command()
def split(
    drives: Drives,
    use: Annotated[list[str], typer.Option(
        help="A use as NAME:WORKLOAD:NEED:SURVIVE, such as scans:media:30TB:1; give two to four."
    )],
    file_system: FileSystem = DEFAULT_FILE_SYSTEM,
    as_json: AsJson = False,
    binary: Binary = False,
) -> None:  # fmt: skip
    """Divide one stock of drives into pools for different uses, against one pool for all.

    Example: pairshelf split "8x8TB,2x2TB ssd" --use scans:media:30TB:1 --use log:database:1TB:1
    """
    uses = [_use(text) for text in use]
    with progress("weighing divisions") as tell:
        found = split_by_use(drives_of(drives), uses, Question(file_system=file_system), progress=tell)
    report: dict[str, Any] = split_json(found)
    if as_json:
        return print_json(report)
    system: UnitSystem = "binary" if binary else "decimal"
    lines = table("use", "drives", "as", "usable", "small writes/s", "damage a year", right=(1, 3, 4, 5))
    for share in found.shares:
        if share.best is None:
            lines.add_row(share.use.name, str(len(share.drives)), f"not met: {share.why}", "", "", "")
            continue
        a = share.best.assessment
        lines.add_row(share.use.name, str(len(share.drives)), f"{a.layout.scheme.id}, {a.layout.describe()}",
                      format_size(a.space.usable, system), f"{a.speed.random_write_rmw:,.0f}", f"{a.odds.yearly_damage:.2g}")  # fmt: skip
    show(lines)
    for sentence in (*found.compared, *([found.one_pool_short] if found.one_pool_short else [])):
        print(sentence)


def _use(text: str) -> Use:
    parts = text.split(":")
    if not 2 <= len(parts) <= 4 or not parts[0].strip():
        raise BadInput(
            f"“{text}” is not a use; write NAME:WORKLOAD:NEED:SURVIVE, such as scans:media:30TB:1.", field="use"
        )
    survive = parts[3] if len(parts) > 3 else "1"
    if not is_number(survive):
        raise BadInput(f"“{text}”: the failures to survive are a whole number.", field="use")
    return Use(
        parts[0], parts[1], parse_size(parts[2], field="use") if len(parts) > 2 and parts[2] else 0, int(survive)
    )

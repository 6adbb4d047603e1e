"""``pairshelf status``, ``pools``, ``volumes``, ``drives`` and ``history``: what the screens show, for scripts."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Any

import typer

from pairshelf.cli.planning import Json, _surroundings
from pairshelf.cli.show import app, print_json, show, table
from pairshelf.core.domain.units import format_size
from pairshelf.core.loads.mixes import MIXES
from pairshelf.core.watching.series import BY_ID

if TYPE_CHECKING:
    import datetime as dt

    from pairshelf.core.watching.glance import Glance
    from pairshelf.core.watching.trend import Outlook

#: What ``status`` ends with where something needs a person.
NOT_WELL = 1


@app.command("status")
def status(as_json: Json = False) -> None:
    """Whether all is well, what needs you, and every pool at a glance.

    Ends with 0 where nothing needs you now or before long, otherwise with 1: pairshelf status || mail -s storage ida
    """
    _surroundings()
    from pairshelf.core.watching.glance import still
    from pairshelf.services.attending import attend
    from pairshelf.store.database import transaction

    with transaction() as session:
        found = attend(session)
    if as_json:
        print_json({
            "well": found.well, "verdict": found.verdict,
            "matters": [{"gravity": m.gravity.name.lower(), "sentence": m.sentence} for m in found.matters],
            "pools": [pool_told(g) for g in found.glances], "drives": found.drives, "free_drives": found.free_drives,
        })  # fmt: skip
    else:
        print(found.verdict)
        for matter in found.matters:
            print(f"  {matter.gravity.name.lower():9} {matter.sentence}")
        if found.glances:
            print()
            lines = table("pool", "state", "in use", "of", "", "protection", "full about", right=(2, 3, 4))
            for g in found.glances:
                lines.add_row(
                    g.name, g.state, format_size(g.account.footprint), format_size(g.account.capacity), f"{int(g.fullness * 100)} %",
                    still(g), _day(g.outlook.at if g.outlook else None),
                )  # fmt: skip
            show(lines)
    if not found.well:
        raise typer.Exit(NOT_WELL)


def pool_told(glance: Glance) -> dict[str, Any]:
    """A pool at a glance as plain data; bytes."""
    from pairshelf.core.watching.glance import still

    held = glance.account
    return {
        "name": glance.name, "state": glance.state, "capacity": held.capacity, "given": held.given, "files": held.files, "footprint": held.footprint,
        "free": held.free, "committed": held.committed, "over_commit": held.over_commit, "reclaimable": held.reclaimable,
        "fullness": glance.fullness, "tell": glance.limits.tell, "urgent": glance.limits.urgent,
        "level": glance.level.name.lower(), "still": still(glance), "outlook": _outlook(glance.outlook, glance.outlook_of),
        "checked_at": _iso(glance.checked_at),
    }  # fmt: skip


def _outlook(told: Outlook | None, of: str | None = None) -> dict[str, Any] | None:
    if told is None:
        return None
    return {
        "of": of, "at": _iso(told.at), "earliest": _iso(told.earliest), "latest": _iso(told.latest), "growth": told.growth,
        "days": told.days, "why_none": told.why_none,
    }  # fmt: skip


def _iso(at: dt.datetime | None) -> str | None:
    return at.isoformat() if at else None


def _day(at: dt.datetime | None) -> str:
    return f"{at:%Y-%m-%d}" if at else "–"


@app.command("pools")
def list_pools(as_json: Json = False) -> None:
    """Every pool: how full, what is promised, what would come back, and when it will be full.

    Example: pairshelf pools --json
    """
    _surroundings()
    from pairshelf.services.watching import pools_at_a_glance
    from pairshelf.store.database import transaction

    with transaction() as session:
        found = list(pools_at_a_glance(session, None).values())
    if as_json:
        return print_json({"pools": [pool_told(g) for g in found]})
    lines = table(
        "pool",
        "state",
        "capacity",
        "given",
        "files",
        "free",
        "promised",
        "comes back",
        "full about",
        right=(2, 3, 4, 5, 6, 7),
    )
    for g in found:
        a = g.account
        lines.add_row(
            g.name, g.state, *map(format_size, (a.capacity, a.given, a.files, a.free)), f"{a.over_commit:.2f} x",
            format_size(a.reclaimable), _day(g.outlook.at if g.outlook else None),
        )  # fmt: skip
    show(lines)
    return None


@app.command("volumes")
def list_volumes(
    pool: Annotated[str, typer.Option(help="Only those of this pool.")] = "", as_json: Json = False
) -> None:
    """Every volume: how full, what its pool has given it, and when it will be full.

    Example: pairshelf volumes --pool cold
    """
    _surroundings()
    from pairshelf.cli.running import pool_row
    from pairshelf.services.watching import volumes_at_a_glance
    from pairshelf.store.database import transaction

    with transaction() as session:
        rows = volumes_at_a_glance(session, [pool_row(session, pool).number] if pool else None)
    if as_json:
        return print_json({"volumes": [
            {"pool": name, "name": v.holds.name, "size": v.holds.size, "thin": v.holds.thin, "for_files": v.holds.for_files,
             "files": v.holds.files, "in_bins": v.holds.in_bins, "given": v.holds.given, "share": v.holds.share,
             "level": v.level.name.lower(), "tell": v.limits.tell, "urgent": v.limits.urgent, "outlook": _outlook(v.outlook)}
            for name, v in rows
        ]})  # fmt: skip
    lines = table("volume", "", "files", "of", "", "given", "full about", right=(2, 3, 4, 5))
    for name, v in rows:
        h = v.holds
        lines.add_row(
            f"{name}/{h.name}", "thin" if h.thin else "thick", format_size(h.files), format_size(h.for_files), f"{int(h.share * 100)} %",
            format_size(h.given), _day(v.outlook.at if v.outlook else None),
        )  # fmt: skip
    show(lines)
    return None


@app.command("drives")
def list_drives(
    filter_text: Annotated[
        str, typer.Option("--filter", help="In words, as on the shelves: free hdd >= 4TB shelf:cold")
    ] = "",
    as_json: Json = False,
) -> None:
    """Every drive: where it is, what it is, in what state, and what is used on it.

    Example: pairshelf drives --filter "in-use shelf:Loft"
    """
    _surroundings()
    from pairshelf.services.matching import drives_listed
    from pairshelf.store.database import transaction

    with transaction() as session:
        found = drives_listed(session, filter_text)
    if as_json:
        return print_json({"drives": [
            {"serial": d.serial, "shelf": d.shelf, "bay": d.bay, "size": d.size, "kind": d.kind.value, "service": d.service,
             "condition": d.condition, "pool": d.pool, "used": used} for d, used in found
        ]})  # fmt: skip
    lines = table("drive", "where", "size", "kind", "state", "pool", "used", right=(2, 6))
    for d, used in found:
        state = d.service if d.condition == "good" else f"{d.service}, {d.condition}"
        lines.add_row(
            d.serial,
            d.place,
            format_size(d.size),
            d.kind.value,
            state,
            d.pool or "",
            "" if used is None else format_size(used),
        )
    show(lines)
    return None


@app.command("history")
def history(
    series: Annotated[str, typer.Argument(help=f"What: {', '.join(BY_ID)}.")],
    of: Annotated[str, typer.Argument(help="Of what: a pool, pool/volume, a drive's serial, a host, or a shelf.")],
    hours: Annotated[float, typer.Option(help="How far back.")] = 24,
    as_json: Json = False,
) -> None:
    """What was recorded over time, in stretches: the mean, the lowest and the highest of each.

    Example: pairshelf history volume-files cold/scans --hours 720 --json
    """
    _surroundings()
    from pairshelf.services.watching import history_named
    from pairshelf.store.database import transaction

    with transaction() as session:
        found = history_named(session, series, of, hours)
    worth = found.series.worth
    if as_json:
        return print_json({
            "series": found.series.id, "of": found.of, "unit": found.series.unit, "seconds": found.grain.seconds,
            "points": [{"at": _iso(p.at), "mean": p.mean * worth, "low": p.low * worth, "high": p.high * worth, "count": p.count}
                       for p in found.points],
        })  # fmt: skip
    lines = table("from (UTC)", "mean", "lowest", "highest", right=(1, 2, 3))
    for p in found.points:
        lines.add_row(
            f"{p.at:%Y-%m-%d %H:%M:%S}", *(_value(found.series.unit, v * worth) for v in (p.mean, p.low, p.high))
        )
    show(lines)
    return None


@app.command("readings")
def readings(serial: Annotated[str, typer.Argument(help="A drive's serial.")], as_json: Json = False) -> None:
    """What a drive reports of itself, and what the rules find in it.

    Example: pairshelf readings OS-2028R21 --json
    """
    _surroundings()
    from sqlmodel import select

    from pairshelf.core.errors import NotFound
    from pairshelf.engine.pools import devices
    from pairshelf.services.health import report_of
    from pairshelf.store.database import transaction
    from pairshelf.store.tables import DriveRow

    with transaction() as session:
        number = session.exec(select(DriveRow.id).where(DriveRow.serial == serial.strip())).first()
        if number is None:
            raise NotFound("drive", serial, field="serial")
        told = report_of(session, number, devices())
    if as_json:
        return print_json({
            "serial": serial.strip(), "health": told.judged.level.word, "answers": told.answers, "taken_at": _iso(told.taken_at),
            "reasons": [{"rule": r.rule, "level": r.level.word, "sentence": r.sentence} for r in told.judged.reasons],
            "readings": {line.reading.id: line.value for line in told.lines},
            "scanned_at": _iso(told.scanned_at), "scan": told.scan_found,
        })  # fmt: skip
    print(f"{told.judged.level.word}{f': {told.judged.sentence}' if told.judged.reasons else ''}")
    lines = table("reading", "value", "a week ago")
    for line in told.lines:
        lines.add_row(line.reading.label, *(_value(line.reading.unit, v) for v in (line.value, line.before)))
    show(lines)
    return None


def _value(unit: str, value: float | None) -> str:
    if value is None:
        return "not known"
    if unit.startswith("bytes"):
        return format_size(int(value)) + ("/s" if unit != "bytes" else "")
    if unit == "µs":
        return f"{value / 1000:.1f} ms"
    value = round(value, 2)
    return f"{value:g} {unit}" if unit in ("°C", "%", "hours") else f"{value:g}"


@app.command("speed")
def speed(
    of: Annotated[str, typer.Argument(help="A volume, as pool/volume.")],
    mix: Annotated[str, typer.Option(help=f"What is played on it: {', '.join(MIXES)}.")] = "files",
    at_once: Annotated[
        int | None, typer.Option(help="Requests under way at once; as the mix has it if left out.")
    ] = None,
    beside: Annotated[str, typer.Option(help="Beside a job of this kind, such as check or rebuild.")] = "",
    pace: Annotated[str, typer.Option(help="That job gentle or fast.")] = "gentle",
    as_json: Json = False,
) -> None:
    """Play a mix of requests on a volume for a moment, and measure what drives do for it. Nothing stored is changed.

    Example: pairshelf speed cold/scans --mix database --beside check --pace fast
    """
    _surroundings()
    from pairshelf.engine.pools import devices
    from pairshelf.services.loads import measure_named
    from pairshelf.store.database import transaction

    with transaction() as session:
        found = measure_named(session, devices(), of, mix, at_once=at_once, beside=beside, pace=pace)
        told = found.kept()
    if as_json:
        return print_json(told)
    lines = table("", "requests/s", "moved/s", "half within", "95 % within", right=(1, 2, 3, 4))
    alone = found.beside.users_alone if found.beside else found.whole
    rows = [("measured", alone)] + ([(f"beside a {pace} {beside}", found.beside.users)] if found.beside else [])
    for name, rates in rows:
        lines.add_row(
            name, f"{rates.operations:,.0f}", format_size(int(rates.throughput)),
            *(f"{(t or 0) * 1000:.1f} ms" for t in (rates.median, rates.slow)),
        )  # fmt: skip
    lines.add_row(
        "the figures say", f"{found.estimate.operations:,.0f}", format_size(int(found.estimate.throughput)), "", ""
    )
    show(lines)
    if found.beside:
        print(
            f"The job costs users {found.beside.costs_users:.0%} of their requests; it moves "
            f"{format_size(int(found.beside.job))}/s, undisturbed {format_size(int(found.beside.job_alone))}/s."
        )
    return None


@app.command("schedules")
def schedules(as_json: Json = False) -> None:
    """What is done by the calendar, the next first.

    Example: pairshelf schedules --json
    """
    _surroundings()
    from pairshelf.core.policies.schedule import WHAT
    from pairshelf.engine.schedules import recurrence_of
    from pairshelf.services.planned import schedules_listed
    from pairshelf.store.database import transaction

    with transaction() as session:
        found = [
            (row.what, name, recurrence_of(row).words, row.pace, row.next_at, row.waits)
            for row, name in schedules_listed(session)
        ]
    if as_json:
        return print_json({"schedules": [
            {"what": what, "pool": pool, "words": words, "pace": pace, "next_at": _iso(at), "waits": waits}
            for what, pool, words, pace, at, waits in found
        ]})  # fmt: skip
    lines = table("what", "of", "when", "pace", "next (UTC)")
    for what, pool, words, pace, at, waits in found:
        lines.add_row(WHAT[what], pool, words, pace, f"waits: {waits}" if waits else f"{at:%Y-%m-%d %H:%M}")
    show(lines)
    return None

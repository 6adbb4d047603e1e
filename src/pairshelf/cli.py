"""The console command. The same figures as the screens, from the same functions."""

from __future__ import annotations

import json
import sys
from pathlib import Path
from typing import Annotated, Any

import typer
from rich.console import Console
from rich.table import Table

from pairshelf.core.drives import Drive, parse_shorthand
from pairshelf.core.errors import BadInput, PairShelfError
from pairshelf.core.figures.space import space_account
from pairshelf.core.figures.survival import survival
from pairshelf.core.file_systems import DEFAULT_FILE_SYSTEM
from pairshelf.core.layouts import build_layout
from pairshelf.core.report import answer_json, layout_json
from pairshelf.core.search import Question, all_layouts, describe
from pairshelf.core.units import UnitSystem, format_duration, format_size, parse_size
from pairshelf.formats.inventory_csv import read_drives

app = typer.Typer(
    help="Choose, build and look after protected storage.",
    no_args_is_help=True,
    add_completion=False,
    rich_markup_mode=None,
    pretty_exceptions_enable=False,
)

Drives = Annotated[str, typer.Argument(
    metavar="DRIVES",
    help="A CSV file (an inventory, or at least id,size_bytes,kind) or a shorthand such as 8x4TB,2x8TB.",
)]  # fmt: skip
FileSystem = Annotated[str, typer.Option(help="ext4, xfs, btrfs, ntfs, or none to leave it out.")]
Reserved = Annotated[float | None, typer.Option(
    help="Share of the volume that the file system keeps back, 0 to 0.5; its own default if left out."
)]  # fmt: skip
AsJson = Annotated[bool, typer.Option("--json", help="Print JSON; sizes in bytes, times in hours.")]
Binary = Annotated[bool, typer.Option("--binary", help="Show sizes in TiB and GiB instead of TB and GB.")]


@app.command()
def layout(
    drives: Drives,
    scheme: Annotated[str, typer.Option(help="The scheme, such as parity-2, copies-2 or stepped-1.")],
    sets: Annotated[
        int | None, typer.Option(help="How many sets; one, or pairs and threes for copies, if left out.")
    ] = None,
    spares: Annotated[int, typer.Option(help="Hold the last so many drives back as spares.")] = 0,
    file_system: FileSystem = DEFAULT_FILE_SYSTEM,
    reserved_share: Reserved = None,
    as_json: AsJson = False,
    binary: Binary = False,
) -> None:
    """One layout: where every byte goes, and what it survives.

    Drives go to sets in the listed order, as many to each; the last N are spares.
    Example: pairshelf layout 12x6TB --scheme parity-2 --sets 2
    """
    laid = build_layout(_drives(drives), scheme, sets=sets, spares=spares)
    space = space_account(laid, file_system=file_system, reserved_share=reserved_share)
    report = layout_json(laid, space, survival(laid))
    if as_json:
        return _print_json(report)
    system: UnitSystem = "binary" if binary else "decimal"
    named = f" ({report['trade_name']})" if report["trade_name"] else ""
    print(f"{scheme}{named}, {describe(laid)}")
    table = Table("", "bytes", "", box=None, pad_edge=False)
    table.columns[1].justify = table.columns[2].justify = "right"
    for name, size in space.as_dict().items():
        sign = "" if name in ("raw", "usable") else "- "
        table.add_row(name.replace("_", " "), f"{sign}{size:,}", format_size(size, system))
    Console().print(table)
    print(f"survives: any {report['survives']['guaranteed']}, at best {report['survives']['best_case']}")
    if report["first_sync_hours"] is not None:
        print(f"first sync {format_duration(report['first_sync_hours'] * 3600)}, "
              f"rebuild of one drive {format_duration(report['rebuild_hours'] * 3600)}, undisturbed")  # fmt: skip


@app.command()
def layouts(
    drives: Drives,
    need: Annotated[str | None, typer.Option(help="Usable capacity needed, such as 20TB.")] = None,
    survive: Annotated[int, typer.Option(help="Failed drives that must be survived, whichever they are.")] = 0,
    spares: Annotated[
        int | None, typer.Option(help="Exactly so many spares; none to two are tried if left out.")
    ] = None,
    file_system: FileSystem = DEFAULT_FILE_SYSTEM,
    reserved_share: Reserved = None,
    as_json: AsJson = False,
    binary: Binary = False,
) -> None:
    """All layouts of these drives, and why the others are ruled out.

    Example: pairshelf layouts 5x4TB,3x8TB --need 15TB --survive 1
    """
    question = Question(
        need=parse_size(need, field="need") if need else 0,
        survive=survive, spares=spares, file_system=file_system, reserved_share=reserved_share,
    )  # fmt: skip
    answer = all_layouts(_drives(drives), question)
    if as_json:
        return _print_json(answer_json(answer))
    system: UnitSystem = "binary" if binary else "decimal"
    table = Table("", "scheme", "drives", "usable", "sure", "best", box=None, pad_edge=False)
    for column in table.columns[3:]:
        column.justify = "right"
    for c in answer.layouts:
        mark = "*" if c.key == answer.recommended else ""
        table.add_row(mark, c.layout.scheme.id, describe(c.layout), format_size(c.space.usable, system),
                      str(c.survives.guaranteed), str(c.survives.best_case))  # fmt: skip
    Console().print(table)
    if answer.reason:
        print(f"* {answer.reason}")
    for ruled in answer.ruled_out:
        print(f"ruled out: {ruled.scheme}: {ruled.why}")


@app.command("openapi", hidden=True)
def print_openapi() -> None:
    """The description of the API, for the types of the web part."""
    from pairshelf.api.app import create_app

    _print_json(create_app().api_doc)


def _drives(text: str) -> tuple[Drive, ...]:
    path = Path(text)
    if text.lower().endswith((".csv", ".tsv", ".txt")) or "/" in text or path.is_file():
        try:
            return read_drives(path.read_bytes())
        except IsADirectoryError:
            raise BadInput(f"{text} is a folder, not a file of drives.", field="drives") from None
        except FileNotFoundError:
            raise BadInput(f"There is no file {text}.", field="drives") from None
        except OSError as error:
            raise BadInput(f"{text} cannot be read: {error.strerror}.", field="drives") from None
    return parse_shorthand(text)


def _print_json(value: Any) -> None:
    print(json.dumps(value, indent=2, ensure_ascii=False))


def main() -> None:
    """Run the command; bad input ends with a message on stderr and status 2."""
    try:
        app()
    except PairShelfError as error:
        print(f"pairshelf: {error.message}", file=sys.stderr)
        sys.exit(2)
    except BrokenPipeError:  # a pager was closed
        sys.stderr.close()
        sys.exit(1)


if __name__ == "__main__":
    main()

"""`gravel look`."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Any

import typer

from gravel.cli.lazily import lazily
from gravel.cli.options import (
    FindingOption,
    Format,
    FormatOption,
    NoColor,
    Params,
    TableArgument,
    Today,
    given_by,
    progress,
    with_reading,
)
from gravel.problems import CallProblem
from gravel.sources.read_options import ReadOptions

with lazily():
    from rich import text as rich_text

    from gravel import results
    from gravel.cli import finding as cli_finding
    from gravel.cli import render
    from gravel.inspecting import look as inspecting_look
    from gravel.sources import opening

if TYPE_CHECKING:
    from gravel.inspecting.look import View


@with_reading
def look(
    table: TableArgument,
    columns: Annotated[
        str | None,
        typer.Option("--columns", metavar="COLUMN, …", help="Only these columns, in this order."),
    ] = None,
    where: Annotated[
        str | None,
        typer.Option("--where", metavar="CONDITION", help="Only rows for which this is true."),
    ] = None,
    finding: FindingOption = None,
    show: Annotated[
        list[str] | None,
        typer.Option(
            "--show",
            metavar="EXPR AS NAME",
            help="A computed column beside those it reads (repeatable).",
        ),
    ] = None,
    sort: Annotated[
        str | None, typer.Option("--sort", metavar="EXPR [DESC], …", help="Order of the rows.")
    ] = None,
    rows: Annotated[
        str, typer.Option("--rows", metavar="N|all", help="How many rows to show.")
    ] = "20",
    random: Annotated[
        int | None,
        typer.Option("--random", metavar="N", min=1, help="So many rows, drawn at random."),
    ] = None,
    vertical: Annotated[
        bool, typer.Option("--vertical", help="A row's columns one below the other.")
    ] = False,
    param: Params = None,
    today: Today = None,
    format: FormatOption = Format.table,
    *,
    reading: ReadOptions,
    no_color: NoColor = False,
) -> None:
    """Show rows of a table, with hidden characters made visible.

    gravel look boats.csv --where "skipper IS NULL" --show "UPPER(TRIM(name)) AS tidy_name"
    """
    supplied = given_by(param, today)
    if finding is not None and where is not None:
        raise CallProblem(
            "--finding has a condition of its own", hint="leave out --finding, or --where"
        )
    source = opening.open_table(table, reading)
    if finding is not None:
        where = cli_finding.condition_of(source, finding, supplied.today, not no_color)
    with progress(source, 2):
        view = inspecting_look.look(
            source,
            columns=columns,
            where=where,
            show=show or (),
            sort=sort,
            rows=row_limit(rows),
            random=random,
            given=supplied,
        )
    if format is Format.json:
        render.print_json("look", results.look_dict(view))
    elif format is Format.table:
        (_show_vertical if vertical else _show)(view, not no_color)
    else:
        numbers: list[Any] = [str(row) for row in view.row_numbers]
        render.print_rows(
            format.value,
            ["gravel_row", *(column.name for column in view.columns)],
            [numbers, *view.cells],
        )
    _notes(view, not no_color)


def row_limit(text: str, option: str = "--rows") -> int | None:
    """The number of rows, or of something else, asked for; None for all."""
    if text == "all":
        return None
    if not text.isascii() or not text.isdigit():
        raise CallProblem(f"{option} takes a number or all, not {text!r}")
    return int(text)


def _type(column: Any) -> str:
    """A text file's column is a number of some kind, without a declared precision; a computed one
    has its own."""
    return str(column.type) if column.computed else str(column.type.kind.value)


def _show(view: View, color: bool) -> None:
    out = render.console(color=color)
    limit = max(12, min(60, out.width // max(1, min(len(view.columns), 6))))
    kinds = ("INTEGER", "DECIMAL", "DOUBLE PRECISION")
    right = [
        0,
        *(
            position + 1
            for position, item in enumerate(view.columns)
            if item.type.kind.value in kinds
        ),
    ]
    cells = [[render.visible(cell, limit) for cell in column] for column in view.cells]
    widths = [
        max([len(item.name), *(text.cell_len for text in column)], default=0) + 2
        for item, column in zip(view.columns, cells, strict=True)
    ]
    fit = _fitting(widths, out.width - len(f"{max(view.row_numbers, default=0):,}") - 4)
    headings = ["row", *(item.name for item in view.columns[:fit])]
    rows = [
        [rich_text.Text(f"{row:,}", style=render.DIM), *(column[index] for column in cells[:fit])]
        for index, row in enumerate(view.row_numbers)
    ]
    render.print_table(out, headings, rows, right=right)
    if view.branches:
        out.print()
        render.print_branches(out, view.branches)
    if fit < len(view.columns):
        left = [item.name for item in view.columns[fit:]]
        render.note(
            f"{len(left)} more columns do not fit:"
            f" {', '.join(left[:8])}{' …' if len(left) > 8 else ''} (choose with --columns)",
            color,
        )


def _show_vertical(view: View, color: bool) -> None:
    """Each row as a block: its columns one below the other, whole."""
    out = render.console(color=color)
    width = max((len(render.safe(item.name)) for item in view.columns), default=0)
    for index, row in enumerate(view.row_numbers):
        out.print(rich_text.Text(f"row {row:,}", style=render.HEAD))
        for item, column in zip(view.columns, view.cells, strict=True):
            line = rich_text.Text(f"  {render.safe(item.name):{width}}  ", style=render.DIM)
            line.append_text(render.visible(column[index], 10_000))
            out.print(line, soft_wrap=True)
    if view.branches:
        out.print()
        render.print_branches(out, view.branches)


def _fitting(widths: list[int], room: int) -> int:
    """How many columns fit side by side, at least one; all if only the last few need a little
    folding."""
    used, count = 0, 0
    for width in widths:
        used += width
        if used > room and count:
            return count
        count += 1
    return count


def _notes(view: View, color: bool) -> None:
    message = f"{view.rows:,} {'row' if view.rows == 1 else 'rows'}"
    if view.where is not None:
        message += f", {view.matching:,} match"
        if view.unknown:
            message += f", for {view.unknown:,} the condition is unknown"
        if view.errors:
            message += f", for {view.errors:,} it fails with an error"
    message += f"; {len(view.row_numbers):,} shown"
    if view.sort_errors:
        message += f"; {view.sort_errors:,} without a sort key because of an error"
    render.note(message, color)
    render.cautions(view.cautions, color)
    render.remarks(view.remarks, color)
    render.malformed_notes(view.table, view.malformed, color)
    for line in view.notes:
        render.note(f"{view.table}: {line}", color)

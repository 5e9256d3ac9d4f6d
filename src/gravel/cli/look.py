"""`gravel look`."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from gravel.cli.options import (
    EngineOption,
    FindingOption,
    Format,
    FormatOption,
    NoColor,
    Params,
    TableArgument,
    Today,
    engine_of,
    given_by,
    open_source,
    progress,
    refuse_reading,
    row_limit,
    with_reading,
)
from gravel.lazily import lazily
from gravel.problems import CallProblem
from gravel.sources.read_options import ReadOptions

with lazily():
    from gravel.cli import finding as cli_finding
    from gravel.inspecting import look as inspecting_look
    from gravel.plans import loading, rehearse
    from gravel.render import look as render_look
    from gravel.render import screen

if TYPE_CHECKING:
    from gravel.language.scope import Given
    from gravel.sources.source import Source


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
    after: Annotated[
        int | None,
        typer.Option(
            "--after", metavar="N", min=0, help="TABLE is a plan: the rows after its step N."
        ),
    ] = None,
    param: Params = None,
    today: Today = None,
    engine: EngineOption = None,
    format: FormatOption = Format.table,
    *,
    reading: ReadOptions,
    no_color: NoColor = False,
) -> None:
    """Show rows of a table, with hidden characters made visible.

    gravel look boats.csv --where "skipper IS NULL" --show "UPPER(TRIM(name)) AS tidy_name"
    """
    supplied = given_by(param, today, engine)
    if finding is not None and where is not None:
        raise CallProblem(
            "--finding has a condition of its own", hint="leave out --finding, or --where"
        )
    if after is not None:
        refuse_reading(reading, table)
        source = _after(table, after, supplied, engine_of(engine))
    else:
        source = open_source(table, reading, engine)
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
        screen.print_json("look", view)
    elif format is Format.table:
        (render_look.show_vertical if vertical else render_look.show)(view, not no_color)
    else:
        numbers: list[Any] = [str(row) for row in view.row_numbers]
        screen.print_rows(
            format.value,
            ["gravel_row", *(column.name for column in view.columns)],
            [numbers, *view.cells],
        )
    render_look.show_notes(view, not no_color)


def _after(table: str, step: int, context: Given, engine: str | None) -> Source:
    if not table.lower().endswith(".toml"):
        raise CallProblem("--after is for a plan", hint=f"gravel look boats.toml --after {step}")
    plan = loading.read_plan(Path(table), table)
    return rehearse.rows_after(plan, step, context, engine=engine)

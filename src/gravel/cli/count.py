"""`gravel count`."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import typer
from msgspec.structs import replace

from gravel.cli.options import (
    EngineOption,
    Format,
    FormatOption,
    NoColor,
    Params,
    Today,
    Where,
    chosen_rows,
    given_by,
    open_source,
    progress,
    with_reading,
)
from gravel.lazily import lazily
from gravel.problems import Problem, TableProblem
from gravel.sources.read_options import ReadOptions

with lazily():
    from gravel.inspecting import count as inspecting_count
    from gravel.inspecting import counts
    from gravel.render import count as render_count
    from gravel.render import screen
    from gravel.sinks import metadata
    from gravel.sources import opening

if TYPE_CHECKING:
    from gravel.inspecting.cautions import Caution


@with_reading
def count(
    tables: Annotated[
        list[str],
        typer.Argument(
            metavar="TABLE…",
            help="Files, tables, or a database for all of its tables; - is standard input.",
            show_default=False,
        ),
    ],
    distinct: Annotated[
        list[str] | None,
        typer.Option(
            "--distinct",
            metavar="EXPR, …",
            help="Distinct combinations of expressions (repeatable).",
        ),
    ] = None,
    key: Annotated[
        list[str] | None,
        typer.Option(
            "--key",
            metavar="COLUMN, …",
            help="Rows with NULL in these columns, and rows that share them (repeatable).",
        ),
    ] = None,
    total: Annotated[
        list[str] | None,
        typer.Option(
            "--total", metavar="EXPR", help="The exact sum of an expression (repeatable)."
        ),
    ] = None,
    write_metadata: Annotated[
        bool,
        typer.Option(
            "--write-metadata",
            help="Write what was found beside each text file, as CSV on the Web (W3C) has it.",
        ),
    ] = False,
    where: Where = None,
    param: Params = None,
    today: Today = None,
    engine: EngineOption = None,
    format: FormatOption = Format.table,
    *,
    reading: ReadOptions,
    no_color: NoColor = False,
) -> None:
    """Count rows, columns and malformed records of tables; distinct values, keys and totals on
    request.

    gravel count boats.csv --key boat_id --distinct "UPPER(TRIM(name))"
    """
    supplied = (
        given_by(param, today, engine) if distinct or total or where or param or today else None
    )
    counted = []
    failed: list[Problem] = []
    cautions: tuple[Caution, ...] = ()
    for reference, several in [
        (item, len(result) > 1)
        for given_table in tables
        for result in [opening.expanded(given_table)]
        for item in result
    ]:
        try:
            bare = replace(reading, bare=not (distinct or key or total or where))
            table = open_source(reference, bare, engine)
            if where is not None and supplied is not None:
                table, more = chosen_rows(table, where, supplied, param)
                cautions += more
            with progress(table):
                counted.append(
                    inspecting_count.count_table(
                        table, distinct or (), key or (), total or (), supplied
                    )
                )
            if write_metadata:
                place = metadata.write_metadata(table)
                screen.note(f"written: {place}")
        except TableProblem as problem:
            if not several:
                raise
            failed.append(problem)  # the other tables of its database are listed all the same

    if format is Format.json:
        screen.print_json("count", counts.Counts(tuple(counted)))
    elif format is Format.table:
        render_count.show(counted, not no_color)
    else:
        render_count.print_rows(counted, format.value)
    screen.cautions(cautions, not no_color)
    for entry in counted:
        screen.malformed_notes(entry.table, entry.malformed, not no_color)
        for line in entry.notes:
            screen.note(f"{entry.table}: {line}", not no_color)
    for one_failed in failed:
        screen.tell(one_failed)
    if failed:
        raise typer.Exit(failed[0].status)

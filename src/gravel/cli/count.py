"""`gravel count`."""

from __future__ import annotations

import dataclasses
from typing import Annotated, Any

import typer

from gravel.cli.lazily import lazily
from gravel.cli.options import (
    Format,
    FormatOption,
    NoColor,
    Params,
    Today,
    given_by,
    progress,
    with_reading,
)
from gravel.problems import Problem, TableProblem
from gravel.sources.read_options import ReadOptions

with lazily():
    from gravel import results
    from gravel.cli import render
    from gravel.inspecting import count as inspecting_count
    from gravel.sinks import metadata
    from gravel.sources import opening


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
    param: Params = None,
    today: Today = None,
    format: FormatOption = Format.table,
    *,
    reading: ReadOptions,
    no_color: NoColor = False,
) -> None:
    """Count rows, columns and malformed records of tables; distinct values, keys and totals on
    request.

    gravel count boats.csv --key boat_id --distinct "UPPER(TRIM(name))"
    """
    supplied = given_by(param, today) if distinct or total or param or today else None
    counted = []
    failed: list[Problem] = []
    for reference, several in [
        (item, len(result) > 1)
        for given_table in tables
        for result in [opening.expanded(given_table)]
        for item in result
    ]:
        try:
            table = opening.open_table(
                reference, dataclasses.replace(reading, bare=not (distinct or key or total))
            )
            with progress(table):
                counted.append(
                    inspecting_count.count_table(
                        table, distinct or (), key or (), total or (), supplied
                    )
                )
            if write_metadata:
                place = metadata.write_metadata(table)
                render.note(f"written: {place}")
        except TableProblem as problem:
            if not several:
                raise
            failed.append(problem)  # the other tables of its database are listed all the same

    if format is Format.json:
        render.print_json("count", {"tables": [results.count_dict(result) for result in counted]})
    elif format is Format.table:
        _show(counted, not no_color)
    else:
        _rows(counted, format.value)
    for entry in counted:
        render.malformed_notes(entry.table, entry.bad_records, not no_color)
        for line in entry.notes:
            render.note(f"{entry.table}: {line}", not no_color)
    for one_failed in failed:
        render.tell(one_failed)
    if failed:
        raise typer.Exit(failed[0].status)


def _show(counted: list[Any], color: bool) -> None:
    out = render.console(color=color)
    rows = [
        [
            result.table,
            render.number(result.rows),
            render.number(result.columns),
            render.number(result.malformed),
        ]
        for result in counted
    ]
    headings = ["table", "rows", "columns", "malformed"]
    if any(result.store_key is not None for result in counted):
        headings.append("primary key")
        for row, item in zip(rows, counted, strict=True):
            row.append(", ".join(item.store_key or ()) or "–")
    render.print_table(out, headings, rows, right=(1, 2, 3))
    for item in counted:
        asked: list[list[str]] = []
        for d in item.distinct:
            asked.append(
                [
                    f"distinct {d.on}",
                    render.number(d.distinct),
                    _apart(d.null_rows, d.error_rows, "with NULL, left out"),
                ]
            )
        for key in item.keys:
            good = not key.null_rows and not key.repeated_rows
            message = (
                "a key: unique, never NULL"
                if good
                else (
                    f"no key: {key.null_rows:,} rows with NULL in it, {key.repeated_rows:,} rows"
                    " that share theirs"
                )
            )
            asked.append([f"key {', '.join(key.columns)}", "", message])
        for t in item.totals:
            shown = (
                ""
                if t.value is None
                else f"{t.value:,f}"
                if hasattr(t.value, "as_tuple")
                else f"{t.value:,}"
            )
            asked.append(
                [
                    f"total {t.total}",
                    shown or "no known value",
                    _apart(t.null_rows, t.error_rows, "NULL, passed over"),
                ]
            )
        if asked:
            out.print()
            render.print_table(
                out, [item.table if len(counted) > 1 else "asked for", "", ""], asked, right=(1,)
            )


def _apart(nulls: int, errors: int, what: str) -> str:
    parts = [f"{nulls:,} {'row' if nulls == 1 else 'rows'} {what}"] if nulls else []
    parts += [f"{errors:,} {'row' if errors == 1 else 'rows'} with an error"] if errors else []
    return ", ".join(parts)


def _rows(counted: list[Any], form: str) -> None:
    headings = ["table", "rows", "columns", "malformed"]
    columns: list[list[Any]] = [
        [
            getattr(result, name) if name == "table" else str(getattr(result, name))
            for result in counted
        ]
        for name in headings
    ]
    if not counted:
        return
    first = counted[0]
    for index, d in enumerate(first.distinct):
        headings.append(f"distinct {d.on}")
        columns.append([str(result.distinct[index].distinct) for result in counted])
    for index, key in enumerate(first.keys):
        of = f" {', '.join(key.columns)}" if len(first.keys) > 1 else ""
        headings += [f"key_null_rows{of}", f"key_repeated_rows{of}"]
        columns += [
            [str(result.keys[index].null_rows) for result in counted],
            [str(result.keys[index].repeated_rows) for result in counted],
        ]
    for index, t in enumerate(first.totals):
        headings.append(f"total {t.total}")
        columns.append(
            [
                None if result.totals[index].value is None else str(result.totals[index].value)
                for result in counted
            ]
        )
    render.print_rows(form, headings, columns)

"""`gravel compare`."""

from __future__ import annotations

from decimal import Decimal, InvalidOperation
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from gravel.cli.options import (
    EngineOption,
    Format,
    FormatOption,
    Memory,
    NoColor,
    Params,
    Replace,
    Today,
    given_by,
    memory_of,
    open_source,
    with_reading,
)
from gravel.lazily import lazily
from gravel.problems import CallProblem
from gravel.sources.read_options import ReadOptions
from gravel.words import number_of

with lazily():
    from gravel.comparing import compare as comparing_compare
    from gravel.comparing import differences as comparing_differences
    from gravel.comparing import how as comparing_how
    from gravel.inspecting import commands
    from gravel.render import compare as render_compare
    from gravel.render import screen
    from gravel.render.html import compare as html_compare
    from gravel.render.html import page
    from gravel.sinks import files

if TYPE_CHECKING:
    pass


@with_reading
def compare(
    before: Annotated[str, typer.Argument(metavar="BEFORE", help="A table.", show_default=False)],
    after: Annotated[
        str,
        typer.Argument(metavar="AFTER", help="The table to compare it with.", show_default=False),
    ],
    key: Annotated[
        list[str] | None,
        typer.Option(
            "--key",
            metavar="COLUMN, …",
            help="Rows are matched by it (repeatable; none: as they are).",
        ),
    ] = None,
    ignore_case: Annotated[
        bool, typer.Option("--ignore-case", help="Texts that differ in case only are equal.")
    ] = False,
    ignore_spaces: Annotated[
        bool, typer.Option("--ignore-spaces", help="Texts that TIDY_SPACES makes equal are equal.")
    ] = False,
    within: Annotated[
        str | None,
        typer.Option(
            "--within", metavar="N", help="Numbers that differ by so much at most are equal."
        ),
    ] = None,
    mapped: Annotated[
        list[str] | None,
        typer.Option(
            "--map", metavar="OLD=NEW", help="A column's name on either side (repeatable)."
        ),
    ] = None,
    where: Annotated[
        str | None,
        typer.Option("--where", metavar="COND", help="Only rows that meet this, on both sides."),
    ] = None,
    differences: Annotated[
        Path | None,
        typer.Option("--differences", metavar="FILE", help="Write every cell that differs."),
    ] = None,
    report: Annotated[
        Path | None, typer.Option("--report", metavar="FILE.html", help="Write a page.")
    ] = None,
    param: Params = None,
    memory: Memory = None,
    today: Today = None,
    engine: EngineOption = None,
    format: FormatOption = Format.table,
    *,
    reading: ReadOptions,
    replace: Replace = False,
    no_color: NoColor = False,
) -> None:
    """Compare two tables row by row and cell by cell. Exit status 1 if they differ.

    gravel compare boats.csv boats-clean.csv --key boat_id
    """
    how = comparing_how.How(ignore_case, ignore_spaces, _distance(within), _pairs(mapped), where)
    supplied = given_by(param, today, engine)
    sides = [open_source(reference, reading, engine) for reference in (before, after)]
    read = sides[0].files | sides[1].files
    for target in (differences, report):
        if target is not None and target.resolve() in read:
            raise CallProblem(
                f"{target} is read, so it is not written over", hint="name another file"
            )
    if differences is not None:
        files.only_text(differences)
        files.may_write(differences, replace)
    if report is not None:
        page.may_write(report, replace)
    result, every = comparing_compare.compare(
        sides[0], sides[1], key or (), how, supplied, memory_of(memory, engine)
    )
    if differences is not None:
        comparing_differences.write_differences(differences, result, every)
    if report is not None:
        html_compare.write_page(report, result)
    if format is Format.json:
        screen.print_json("compare", result)
    elif format is Format.table:
        render_compare.show(result, not no_color)
    else:
        lines = [
            [
                column.column,
                *map(str, (column.equal, column.changed, column.filled, column.emptied)),
            ]
            for column in result.columns
        ]
        screen.print_rows(
            format.value,
            ["column", "equal", "changed", "filled", "emptied"],
            [[line[index] for line in lines] for index in range(5)],
        )
    for compared in (result.before, result.after):
        screen.malformed_notes(compared.table, compared.malformed, not no_color)
    for line in result.notes:
        screen.note(line, not no_color)
    if differences is not None:
        screen.note(
            f"{number_of(sum(item.different for item in result.columns), 'cell')} that"
            f" differ written to"
            f" {differences}",
            not no_color,
        )
    if not result.same and not key:
        proposed = comparing_compare.proposed_key(*sides)
        if proposed is not None:
            call = commands.command(
                [
                    "gravel",
                    "compare",
                    before,
                    after,
                    "--key",
                    proposed,
                    *commands.table_words(sides[0])[1:],
                ]
            )
            screen.note(
                f"{proposed} is a key of both: {call} shows which cells differ", not no_color
            )
    if not result.same:
        raise typer.Exit(1)


def _distance(text: str | None) -> Any:
    if text is None:
        return None
    try:
        result = Decimal(text)
    except InvalidOperation:
        result = Decimal(-1)
    if not result.is_finite() or result < 0:
        raise CallProblem(f"--within takes a number such as 0.01, not {text!r}")
    return result


def _pairs(mapped: list[str] | None) -> tuple[tuple[str, str], ...]:
    results = []
    for item in mapped or ():
        old, equals, new = item.partition("=")
        if not equals or not old.strip() or not new.strip():
            raise CallProblem(f"--map takes OLD=NEW, not {item!r}", hint='--map "name=boat_name"')
        results.append((old.strip(), new.strip()))
    return tuple(results)

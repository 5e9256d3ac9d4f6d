"""`gravel duplicates`."""

from __future__ import annotations

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
    TableArgument,
    Today,
    Where,
    chosen_rows,
    given_by,
    memory_of,
    open_source,
    progress,
    row_limit,
    with_reading,
)
from gravel.lazily import lazily
from gravel.problems import CallProblem
from gravel.sources.read_options import ReadOptions
from gravel.words import number_of

with lazily():
    from gravel.duplicates import groups as duplicates_groups
    from gravel.duplicates import near as duplicates_near
    from gravel.inspecting import commands
    from gravel.plans import edit
    from gravel.render import duplicates as render_duplicates
    from gravel.render import near as render_near
    from gravel.render import screen
    from gravel.render.html import duplicates as html_duplicates
    from gravel.render.html import page

if TYPE_CHECKING:
    from gravel.duplicates.near import Near
    from gravel.duplicates.result import Duplicates


@with_reading
def duplicates(
    table: TableArgument,
    on: Annotated[
        list[str] | None,
        typer.Option(
            "--on",
            metavar="EXPR, …",
            help="Rows equal in this are one group (repeatable; none: whole rows).",
        ),
    ] = None,
    key: Annotated[
        list[str] | None,
        typer.Option(
            "--key",
            metavar="COLUMN, …",
            help="A key column, to tell rows by (repeatable); without --on rows are equal if"
            " all other columns are.",
        ),
    ] = None,
    match_level: Annotated[
        str,
        typer.Option(
            "--level",
            metavar="NAME",
            help="The spelling: equal, spaces, case, accents, words, digits.",
        ),
    ] = "equal",
    near: Annotated[
        str | None,
        typer.Option("--near", metavar="EXPR", help="Pairs of rows that are nearly equal in this."),
    ] = None,
    within: Annotated[
        int | None,
        typer.Option(
            "--within", metavar="N", help="Nearly: at most so many edits (2 if not said).", min=1
        ),
    ] = None,
    alike: Annotated[
        float | None,
        typer.Option(
            "--similarity", metavar="0…1", help="Nearly: a Jaro-Winkler similarity of so much."
        ),
    ] = None,
    block: Annotated[
        str | None,
        typer.Option("--block", metavar="EXPR", help="Only rows equal in this are compared."),
    ] = None,
    rows: Annotated[
        str, typer.Option("--rows", metavar="N|all", help="How many groups or pairs to show.")
    ] = "10",
    least: Annotated[
        int, typer.Option("--min", metavar="N", help="Only groups of so many rows.", min=2)
    ] = 2,
    null_equal: Annotated[
        bool,
        typer.Option("--null-equal", help="Rows with NULL may be in groups: NULL is like NULL."),
    ] = False,
    add: Annotated[
        Path | None,
        typer.Option("--add", metavar="PLAN", help="Append the proposed step to this plan."),
    ] = None,
    report: Annotated[
        Path | None, typer.Option("--report", metavar="FILE.html", help="Write a page.")
    ] = None,
    fail: Annotated[bool, typer.Option("--fail", help="Exit status 1 if there are any.")] = False,
    where: Where = None,
    memory: Memory = None,
    param: Params = None,
    today: Today = None,
    engine: EngineOption = None,
    format: FormatOption = Format.table,
    *,
    reading: ReadOptions,
    replace: Replace = False,
    no_color: NoColor = False,
) -> None:
    """Find duplicate rows: exact, by looser matching, or nearly equal.

    gravel duplicates owners.csv --on name --on town
    """
    limit = row_limit(rows)
    supplied = given_by(param, today, engine)
    source = open_source(table, reading, engine)
    if where is not None and add is not None:
        raise CallProblem(
            "a step takes all rows, not those of a condition", hint="leave out --where, or --add"
        )
    source, cautions = chosen_rows(source, where, supplied, param)
    if report is not None and source.reads(report):
        raise CallProblem(
            f"the page would be written over {table}, which is read", hint="name another file"
        )
    if report is not None:
        page.may_write(report, replace)
    if near is not None:
        if on or add or match_level != "equal":
            raise CallProblem(
                "--near is asked by itself", hint="--block EXPR says which rows are compared"
            )
        with progress(source, 2):
            close = duplicates_near.near(
                source,
                near,
                within=within,
                alike=alike,
                block=block,
                key=key or (),
                shown=limit,
                given=supplied,
            )
        _tell_near(close, format, not no_color, report)
        any_found = close.pair_count > 0
    else:
        if within is not None or alike is not None or block is not None:
            raise CallProblem(
                "--within, --similarity and --block are for --near", hint='--near "name" --within 2'
            )
        with progress(source, 2):
            room = memory_of(memory, engine)
            result = duplicates_groups.duplicates(
                source,
                on or (),
                key=key or (),
                match_level=match_level,
                null_equal=null_equal,
                least=least,
                shown=limit,
                given=supplied,
                memory=room,
            )
        _tell(result, table, format, not no_color, report)
        any_found = result.groups > 0
        if add is not None:
            _add(result, source, add, not no_color)
    screen.cautions(cautions, not no_color)
    if fail and any_found:
        raise typer.Exit(1)


def _add(duplicates: Duplicates, source: Any, add: Path, color: bool) -> None:
    if duplicates.proposal is None:
        raise CallProblem(
            "there is no step to add", hint="there are groups only where --on names what is equal"
        )
    note = f"{number_of(duplicates.extra_rows)} more than one a group"
    number = edit.add_text(add, source, duplicates.proposal.step, note)
    screen.note(
        f"step {number} added to {add}; next: gravel clean {commands.shell_word(str(add))}"
        " --dry-run",
        color,
    )


def _tell(
    duplicates: Duplicates, reference: str, form: Format, color: bool, report: Path | None
) -> None:
    if report is not None:
        html_duplicates.write_page(report, duplicates)
    if form is Format.json:
        screen.print_json("duplicates", duplicates)
    elif form is Format.table:
        render_duplicates.show(duplicates, color)
    else:
        headings = ["group", "size", "gravel_row", *duplicates.columns]
        lines = [
            [str(group.group), str(group.size), str(row.row), *row.values.values()]
            for group in duplicates.shown
            for row in group.rows
        ]
        screen.print_rows(
            form.value,
            headings,
            [[line[index] for line in lines] for index in range(len(headings))],
        )
    screen.malformed_notes(duplicates.table, duplicates.malformed, color)
    for line in duplicates.notes:
        screen.note(f"{duplicates.table}: {line}", color)


def _tell_near(near: Near, form: Format, color: bool, report: Path | None) -> None:
    if report is not None:
        html_duplicates.write_near_page(report, near)
    render_near.tell(near, form.value, color)

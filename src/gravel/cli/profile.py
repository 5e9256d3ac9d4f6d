"""`gravel profile`."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

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
from gravel.problems import CallProblem, nearest
from gravel.sources.read_options import ReadOptions

with lazily():
    from gravel.inspecting import commands
    from gravel.plans import suggestion
    from gravel.profiling import kept
    from gravel.profiling import profile as profiling_profile
    from gravel.render import column as cli_column
    from gravel.render import profile as render_profile
    from gravel.render import screen
    from gravel.render.html import page
    from gravel.render.html import profile as html_profile


@with_reading
def profile(
    table: TableArgument,
    column: Annotated[
        str | None, typer.Option("--column", metavar="COLUMN", help="One column in depth.")
    ] = None,
    findings: Annotated[
        str | None,
        typer.Option(
            "--findings",
            metavar="N|all",
            help="The first N findings in full, instead of a line for each kind.",
        ),
    ] = None,
    suggest: Annotated[
        Path | None,
        typer.Option(
            "--suggest",
            metavar="PLAN",
            help="Write a plan with the safe fixes, the evidence beside each.",
        ),
    ] = None,
    choose: Annotated[
        str | None,
        typer.Option(
            "--choose",
            metavar="N, …|all",
            help="For --suggest: the findings to fix, by number, instead of the safe ones.",
        ),
    ] = None,
    report: Annotated[
        Path | None,
        typer.Option("--report", metavar="FILE.html", help="Write a page to hand over."),
    ] = None,
    sample: Annotated[
        int | None,
        typer.Option(
            "--sample",
            metavar="N",
            min=1,
            help="Look at N rows only, chosen evenly; every figure is the sample's.",
        ),
    ] = None,
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
    """Profile every column: what is in it, what is wrong with it, how to see it and how to fix it.

    gravel profile boats.csv --column status

    gravel profile boats.csv --suggest plan.toml
    """
    supplied = given_by(param, today, engine)
    limit = None if findings is None else row_limit(findings, "--findings")
    if choose is not None and suggest is None:
        raise CallProblem("--choose says what --suggest writes", hint="add --suggest PLAN")
    if sample is not None and suggest is not None:
        raise CallProblem(
            "a plan is suggested from all rows, not from a sample", hint="leave out --sample"
        )
    if where is not None and suggest is not None:
        raise CallProblem(
            "a plan is suggested from all rows, not from some", hint="leave out --where"
        )
    source = open_source(table, reading, engine)
    source, cautions = chosen_rows(source, where, supplied, param)
    name = None if column is None else _column_name(column, source.columns)
    if suggest is not None and suggest.exists():
        raise CallProblem(
            f"{suggest} exists already",
            hint="name another file; gravel try --add adds a step to a plan",
        )
    if report is not None and source.reads(report):
        raise CallProblem(
            "the page would be written over the table itself", hint="name another file"
        )
    if report is not None:
        page.may_write(report, replace)
    with progress(source, 2):
        result = profiling_profile.profile(
            source, today=supplied.today, memory=memory_of(memory, engine), sample=sample
        )
    kept.keep(source, result, supplied.today)
    written = None if suggest is None else suggestion.write_plan(suggest, source, result, choose)
    if report is not None:
        html_profile.write_page(report, result, source, supplied.today)
    if format is Format.json:
        screen.print_json("profile", result if name is None else result.of_column(name))
    elif format is not Format.table:
        render_profile.print_rows(result, format.value)
    elif name is not None:
        cli_column.show_column(result, source, name, not no_color)
    else:
        render_profile.show(result, source, findings is not None, limit, not no_color)
    screen.cautions(cautions, not no_color)
    screen.malformed_notes(result.table, result.malformed, not no_color)
    if report is not None:
        screen.note(f"{report} written", not no_color)
    if written is not None and suggest is not None:
        steps = "1 step" if written == 1 else f"{written} steps"
        screen.note(
            f"{suggest} written with {steps}; next:"
            f" {commands.command(['gravel', 'clean', str(suggest), '--dry-run'])}",
            not no_color,
        )
    for line in result.notes:
        screen.note(f"{result.table}: {line}", not no_color)


def _column_name(name: str, columns: tuple[str, ...]) -> str:
    folded = [known for known in columns if known.casefold() == name.casefold()]
    if name in columns or len(folded) == 1:
        return name if name in columns else folded[0]
    near = nearest(name, list(columns))
    raise CallProblem(
        f"there is no column {name!r}",
        hint=f"did you mean {near}?" if near else f"there are {', '.join(columns[:12])}",
    )

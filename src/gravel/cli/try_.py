"""`gravel try`."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from gravel.cli.lazily import lazily
from gravel.cli.options import (
    FindingOption,
    Format,
    FormatOption,
    NoColor,
    Params,
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
    from gravel.cli import step as cli_step
    from gravel.inspecting import attempt, commands
    from gravel.language import errors
    from gravel.plans import edit
    from gravel.sources import opening

if TYPE_CHECKING:
    from gravel.inspecting.attempt import Attempt, Trial


@with_reading
def try_(
    table: Annotated[
        str | None,
        typer.Argument(
            metavar="TABLE", help="A CSV file, or - for standard input.", show_default=False
        ),
    ] = None,
    assignments: Annotated[
        list[str] | None,
        typer.Argument(
            metavar='"COLUMN = EXPR"…',
            help="What to try; a new name adds a column.",
            show_default=False,
        ),
    ] = None,
    finding: FindingOption = None,
    step: Annotated[
        str | None,
        typer.Option(
            "--step",
            metavar="TOML|N",
            help="A step of any verb, as TOML; with --plan the number of one.",
        ),
    ] = None,
    plan: Annotated[
        Path | None, typer.Option("--plan", metavar="PLAN", help="The plan whose step to try.")
    ] = None,
    add: Annotated[
        Path | None,
        typer.Option(
            "--add", metavar="PLAN", help="Append the step to this plan (made if it is not there)."
        ),
    ] = None,
    note: Annotated[
        str, typer.Option("--note", metavar="TEXT", help="The note of the added step.")
    ] = "",
    param: Params = None,
    today: Today = None,
    format: FormatOption = Format.table,
    *,
    reading: ReadOptions,
    no_color: NoColor = False,
) -> None:
    """Show what an expression would change, fill, empty and fail at. Nothing is written.

    gravel try boats.csv "name = CAPITALIZE_WORDS(TIDY_SPACES(name))"
    """
    supplied = given_by(param, today)
    if step is not None or plan is not None:
        if assignments or add or finding is not None or (table is not None and plan is not None):
            raise CallProblem(
                "--step is tried by itself",
                hint="gravel try TABLE --step '…', or gravel try --plan PLAN --step N",
            )
        source = None if table is None else opening.open_table(table, reading)
        cli_step.try_step(source, table, plan, step, supplied, format, not no_color)
        return
    if finding is not None and assignments:
        raise CallProblem(
            "--finding has an assignment of its own", hint="leave out --finding, or the assignment"
        )
    if table is None or not (assignments or finding is not None):
        raise CallProblem("say what to try", hint='gravel try boats.csv "name = TIDY_SPACES(name)"')
    source = opening.open_table(table, reading)
    if finding is not None:
        assignments = [cli_finding.assignment_of(source, finding, supplied.today, not no_color)]
    with progress(source, 2):
        trial = attempt.attempt(source, assignments or [], supplied)
    if format is Format.json:
        render.print_json("try", results.try_dict(trial))
    elif format is Format.table:
        _show(trial, not no_color)
    else:
        flat = [(item.column, *change) for item in trial.attempts for change in item.changes]
        columns: list[list[Any]] = [
            [row[0] for row in flat],
            [row[1] for row in flat],
            [row[2] for row in flat],
            [str(row[3]) for row in flat],
        ]
        render.print_rows(format.value, ["column", "before", "after", "rows"], columns)
    render.cautions(trial.cautions, not no_color)
    render.remarks(trial.remarks, not no_color)
    render.malformed_notes(trial.table, trial.malformed, not no_color)
    for line in trial.notes:
        render.note(f"{trial.table}: {line}", not no_color)
    if add is not None:
        number = edit.add_step(add, source, trial, note)
        render.note(
            f"step {number} added to {add}; next: gravel clean {commands.shell_word(str(add))}"
            " --dry-run",
            not no_color,
        )


def _show(trial: Trial, color: bool) -> None:
    out = render.console(color=color)
    for item in trial.attempts:
        head = rich_text.Text(item.column, style=render.HEAD)
        head.append(f" = {' '.join(item.text.split())}", style=render.DIM)
        out.print(head)
        line = rich_text.Text(f"  {trial.rows:,} rows = ")
        line.append(f"{item.changed:,} changed", style=render.WARN if item.changed else "")
        line.append(f" + {item.unchanged:,} unchanged + ")
        line.append(f"{item.errors:,} errors", style=render.BAD if item.errors else "")
        out.print(line)
        if item.filled or item.emptied or item.new:
            parts = [
                "a new column" if item.new else "",
                f"{item.filled:,} filled (NULL before)" if item.filled and not item.new else "",
                f"{item.emptied:,} emptied (NULL after)" if item.emptied else "",
            ]
            out.print(
                rich_text.Text(
                    (
                        "  of these " + ", ".join(part for part in parts if part)
                        if not item.new
                        else "  a new column: " + f"{item.filled:,} values"
                    ),
                    style=render.DIM,
                )
            )
        if item.changes:
            out.print()
            _changes(out, item)
            if item.kinds > len(item.changes):
                render.note(
                    f"  {len(item.changes)} of {item.kinds:,} different changes shown, the most"
                    " frequent first",
                    color,
                )
        if item.error_kinds:
            out.print()
            _errors(out, item)
        out.print()
    if trial.branches:
        render.print_branches(out, trial.branches)
        out.print()
    if any(attempt.changed or attempt.errors for attempt in trial.attempts):
        out.print(rich_text.Text("to paste into a plan, or --add PLAN:", style=render.DIM))
        out.print(rich_text.Text(edit.step_text(trial), style=render.MARK), soft_wrap=True)


def _changes(out: Any, attempt: Attempt) -> None:
    rows: list[list[Any]] = []
    for before, after, count in attempt.changes:
        old = (
            []
            if attempt.new
            else [
                rich_text.Text("  ").append_text(render.visible(before, 40)),
                rich_text.Text("→", style=render.DIM),
            ]
        )
        rows.append(
            [
                *old,
                rich_text.Text("  " if attempt.new else "").append_text(render.visible(after, 40)),
                f"{count:,}",
            ]
        )
    headings = ["  value", "rows"] if attempt.new else ["  before", "", "after", "rows"]
    render.print_table(out, headings, rows, right=(len(headings) - 1,))


def _errors(out: Any, attempt: Attempt) -> None:
    rows = []
    for kind in attempt.error_kinds:
        rows.append(
            [
                rich_text.Text(f"  error {kind.sqlstate}", style=render.BAD),
                errors.meaning(kind.sqlstate),
                render.visible(kind.example, 40),
                f"{kind.row:,}",
                f"{kind.rows:,}",
            ]
        )
    render.print_table(out, ["", "", "for example", "row", "rows"], rows, right=(3, 4))

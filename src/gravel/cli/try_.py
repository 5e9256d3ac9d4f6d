"""`gravel try`."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Any

import typer

from gravel.cli.options import (
    TABLE_HELP,
    EngineOption,
    FindingOption,
    Format,
    FormatOption,
    NoColor,
    Params,
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
    from gravel.cli import step as cli_step
    from gravel.inspecting import attempt, commands
    from gravel.plans import edit, loading, rehearse
    from gravel.render import screen
    from gravel.render import trial as render_trial
    from gravel.sources import opening


@with_reading
def try_(
    table: Annotated[
        str | None, typer.Argument(metavar="TABLE", help=TABLE_HELP, show_default=False)
    ] = None,
    assignments: Annotated[
        list[str] | None,
        typer.Argument(
            metavar='"[COLUMN =] EXPR"…',
            help="What to try; a new name adds a column. Without one it stands beside the"
            " column that it reads.",
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
        Path | None,
        typer.Option(
            "--plan",
            metavar="PLAN",
            help="Instead of TABLE: the rows after a plan's steps, or with --step one of those.",
        ),
    ] = None,
    rows: Annotated[
        str, typer.Option("--rows", metavar="N|all", help="How many different changes to show.")
    ] = "10",
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
    engine: EngineOption = None,
    format: FormatOption = Format.table,
    *,
    reading: ReadOptions,
    no_color: NoColor = False,
) -> None:
    """Show what an expression would change, fill, empty and fail at. Nothing is written.

    gravel try boats.csv "name = CAPITALIZE_WORDS(TIDY_SPACES(name))"
    """
    supplied = given_by(param, today, engine)
    if plan is not None and table is not None:
        if Path(table.partition("#")[0]).exists() or "://" in table:
            raise CallProblem(f"--plan is instead of {table}", hint="leave one of them out")
        assignments, table = [table, *(assignments or [])], None
    if plan is not None:
        refuse_reading(reading, str(plan))
    if step is not None:
        if assignments or finding is not None or (plan is not None and add is not None):
            raise CallProblem(
                "--step is tried by itself",
                hint="gravel try TABLE --step '…', or gravel try --plan PLAN --step N",
            )
        source = None if table is None else opening.open_table(table, reading)
        cli_step.try_step(
            source, table, plan, step, supplied, engine_of(engine), format, not no_color
        )
        if add is not None and source is not None:
            _told(add, edit.add_text(add, source, cli_step.whole_step(step), note), no_color)
        return
    if finding is not None and (assignments or plan is not None):
        raise CallProblem(
            "--finding has an assignment of its own", hint="leave out --finding, or the assignment"
        )
    if not (assignments or finding is not None) or (table is None and plan is None):
        raise CallProblem("say what to try", hint='gravel try boats.csv "name = TIDY_SPACES(name)"')
    if plan is not None and add is not None and add.resolve() != plan.resolve():
        raise CallProblem(
            f"what is tried after {plan} is added to it",
            hint=f"--add {commands.shell_word(str(plan))}",
        )
    if plan is not None:
        read = loading.read_plan(plan, str(plan))
        source = rehearse.rows_after(read, None, supplied, engine=engine_of(engine))
    else:
        source = open_source(str(table), reading, engine)
    if finding is not None:
        assignments = [cli_finding.assignment_of(source, finding, supplied.today, not no_color)]
    with progress(source, 2):
        trial = attempt.attempt(source, assignments or [], supplied, row_limit(rows))
    if format is Format.json:
        screen.print_json("try", trial)
    elif format is Format.table:
        render_trial.show(trial, not no_color)
    else:
        flat = [
            (item.column, change.before, change.after, change.rows)
            for item in trial.assignments
            for change in item.changes
        ]
        columns: list[list[Any]] = [
            [row[0] for row in flat],
            [row[1] for row in flat],
            [row[2] for row in flat],
            [str(row[3]) for row in flat],
        ]
        screen.print_rows(format.value, ["column", "before", "after", "rows"], columns)
    screen.cautions(trial.cautions, not no_color)
    screen.remarks(trial.remarks, not no_color)
    screen.malformed_notes(trial.table, trial.malformed, not no_color)
    for line in trial.notes:
        screen.note(f"{trial.table}: {line}", not no_color)
    if add is not None and plan is not None:
        _told(add, edit.add_text(add, source, edit.step_text(trial), note), no_color)
    elif add is not None:
        _told(add, edit.add_step(add, source, trial, note), no_color)


def _told(plan: Path, number: int, no_color: bool) -> None:
    screen.note(
        f"step {number} added to {plan}; next: gravel clean {commands.shell_word(str(plan))}"
        " --dry-run",
        not no_color,
    )

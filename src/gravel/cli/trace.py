"""`gravel trace`."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from gravel.cli.options import (
    EngineOption,
    Format,
    FormatOption,
    Memory,
    NoColor,
    Params,
    Today,
    engine_of,
    given_by,
    memory_of,
    row_limit,
)
from gravel.lazily import lazily
from gravel.problems import CallProblem

with lazily():
    from gravel.plans import loading
    from gravel.plans import trace as plans_trace
    from gravel.render import screen
    from gravel.render import trace as render_trace

if TYPE_CHECKING:
    pass


def trace(
    plan: Annotated[
        Path, typer.Argument(metavar="PLAN", help="A plan file (TOML).", show_default=False)
    ],
    row: Annotated[
        list[int] | None, typer.Option("--row", metavar="N", help="A source row (repeatable).")
    ] = None,
    where: Annotated[
        str | None,
        typer.Option("--where", metavar="COND", help="Source rows that meet this condition."),
    ] = None,
    rows: Annotated[
        str,
        typer.Option("--rows", metavar="N|all", help="How many of the rows that meet it to trace."),
    ] = "5",
    memory: Memory = None,
    param: Params = None,
    today: Today = None,
    engine: EngineOption = None,
    format: FormatOption = Format.table,
    no_color: NoColor = False,
) -> None:
    """Show the history of a row through a plan: what each step changed, what it became, where and
    why it left.

    gravel trace boats.toml --row 17
    """
    if not row and where is None:
        raise CallProblem("say which row to trace", hint='--row 17, or --where "boat_id = 17"')
    limit = row_limit(rows)
    result = plans_trace.trace(
        loading.read_plan(plan, str(plan)),
        row or (),
        where,
        given_by(param, today),
        limit,
        memory_of(memory, engine),
        engine_of(engine),
    )
    if format is Format.json:
        screen.print_json("trace", result)
    elif format is Format.table:
        render_trace.show(result, not no_color)
    else:
        flat = render_trace.events_as_rows(result)
        headings = [
            "row",
            "path",
            "step",
            "verb",
            "outcome",
            "column",
            "before",
            "after",
            "reason",
            "into",
        ]
        screen.print_rows(
            format.value,
            headings,
            [[line[index] for line in flat] for index in range(len(headings))],
        )
    if result.matching is not None:
        subset = (
            f", the first {limit:,} traced (--rows all)"
            if limit is not None and limit < result.matching
            else ""
        )
        screen.note(
            f"{result.matching:,}"
            f" {'row matches' if result.matching == 1 else 'rows match'}{subset}",
            not no_color,
        )

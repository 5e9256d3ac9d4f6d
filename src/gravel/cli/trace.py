"""`gravel trace`."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from gravel.cli.lazily import lazily
from gravel.cli.options import (
    Format,
    FormatOption,
    Memory,
    NoColor,
    Params,
    Today,
    given_by,
    memory_of,
)
from gravel.problems import CallProblem

with lazily():
    from rich import text

    from gravel import results
    from gravel.cli import look, render
    from gravel.language import errors
    from gravel.plans import flow, model
    from gravel.plans import trace as plans_trace

if TYPE_CHECKING:
    from gravel.plans.trace import TracedPath, TracedRows
    from gravel.plans.trail import Event


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
    format: FormatOption = Format.table,
    no_color: NoColor = False,
) -> None:
    """Show the history of a row through a plan: what each step changed, what it became, where and
    why it left.

    gravel trace boats.toml --row 17
    """
    if not row and where is None:
        raise CallProblem("say which row to trace", hint='--row 17, or --where "boat_id = 17"')
    limit = look.row_limit(rows)
    result = plans_trace.trace(
        model.read_plan(plan, str(plan)),
        row or (),
        where,
        given_by(param, today),
        limit,
        memory_of(memory) or flow.MEMORY,
    )
    if format is Format.json:
        render.print_json("trace", results.trace_dict(result))
    elif format is Format.table:
        _show(result, not no_color)
    else:
        flat = _flat(result)
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
        render.print_rows(
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
        render.note(
            f"{result.matching:,}"
            f" {'row matches' if result.matching == 1 else 'rows match'}{subset}",
            not no_color,
        )


def _flat(traced: TracedRows) -> list[list[str | None]]:
    lines: list[list[str | None]] = []
    for row in traced.rows:
        for path in row.paths:
            for event in path.events:
                head = [str(row.row), path.path, str(event.step), event.verb, event.outcome]
                for change in event.changes:
                    lines.append([*head, change.column, change.before, change.after, None, None])
                if not event.changes:
                    lines.append([*head, None, None, None, event.reason, event.into])
            lines.append(
                [
                    str(row.row),
                    path.path,
                    None,
                    None,
                    path.ends,
                    None,
                    None,
                    None,
                    None if path.output_row is None else str(path.output_row),
                    None,
                ]
            )
    return lines


def _show(traced: TracedRows, color: bool) -> None:
    out = render.console(color=color)
    for row in traced.rows:
        head = text.Text(f"row {row.row:,} of {traced.table}", style=render.HEAD)
        if len(row.paths) > 1:
            head.append(f", {len(row.paths)} paths", style=render.DIM)
        out.print(head)
        message: set[tuple[int, str]] = set()
        for path in row.paths:
            _path(out, traced, path, message)
        out.print()


def _path(out: Any, traced: TracedRows, path: TracedPath, message: set[tuple[int, str]]) -> None:
    """One path; what it shares with one before it is told once."""
    still = [str(event.step) for event in path.events if event.outcome == "unchanged"]
    for event in path.events:
        if (event.step, event.path) in message or event.outcome == "unchanged":
            continue
        message.add((event.step, event.path))
        line = text.Text(f"  {event.path}  step {event.step}: {event.note or event.verb}")
        if event.outcome in ("split", "copied"):
            line.append(
                f"  ({event.outcome}, {event.paths.index(event.path) + 1} of {len(event.paths)})",
                style=render.WARN,
            )
        out.print(line)
        _changes(out, event)
        if event.reason:
            failed = (
                f" fails with {event.sqlstate}, {errors.meaning(event.sqlstate)}"
                if event.sqlstate
                else ""
            )
            out.print(text.Text(f"      {event.outcome}: {event.reason}{failed}", style=render.BAD))
        for name, value in event.read:
            out.print(text.Text(f"      {name} = ").append_text(render.visible(value)))
        if event.into:
            out.print(
                text.Text(f"      merged into the row of path {event.into}", style=render.BAD)
            )
    if path.ends == "kept":
        end = text.Text(
            f"  {path.path} is row {path.output_row:,} of {traced.output}", style=render.GOOD
        )
    else:
        end = text.Text(
            f"  {path.path} is {path.ends}"
            + (f" at step {path.events[-1].step}" if path.events else ""),
            style=render.BAD,
        )
    if still:
        end.append(
            f"; unchanged by {'step' if len(still) == 1 else 'steps'} {', '.join(still)}",
            style=render.DIM,
        )
    out.print(end)


def _changes(out: Any, event: Event) -> None:
    """The cells that a step changed, one beneath the other."""
    wide = max((len(change.column) for change in event.changes if change.kind != "gone"), default=0)
    for change in event.changes:
        if change.kind != "gone":
            line = text.Text("      ").append(f"{change.column:{wide}}  ", style=render.DIM)
            line.append_text(
                text.Text("new", style=render.DIM)
                if change.kind == "new"
                else render.visible(change.before, 50)
            )
            out.print(
                line.append(" → ", style=render.DIM).append_text(render.visible(change.after, 50))
            )
    gone = [change.column for change in event.changes if change.kind == "gone"]
    if gone:
        more = f" and {len(gone) - 4} more" if len(gone) > 4 else ""
        out.print(text.Text(f"      without {', '.join(gone[:4])}{more}", style=render.DIM))

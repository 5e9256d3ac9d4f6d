"""`gravel try` of a step: what it would do to the rows."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

from gravel.cli.lazily import lazily
from gravel.cli.options import Format
from gravel.problems import CallProblem

with lazily():
    from rich import text as rich_text

    from gravel import results
    from gravel.cli import clean, render
    from gravel.language import errors
    from gravel.plans import model, rehearse

if TYPE_CHECKING:
    from gravel.language.bind import Given
    from gravel.plans.ledger import ChangeExample
    from gravel.plans.rehearse import Rehearsal
    from gravel.sources.source import Source


def try_step(
    table: Source | None,
    reference: str | None,
    plan: Path | None,
    step: str | None,
    context: Given,
    form: Format,
    color: bool,
) -> None:
    """Try a step given as TOML on a table, or a plan's step by its number. Raises CallProblem,
    Problems, TableProblem."""
    if plan is not None:
        if step is None or not step.strip().isdigit():
            raise CallProblem(
                "--plan needs the number of a step", hint=f"gravel try --plan {plan} --step 1"
            )
        result = rehearse.rehearse(model.read_plan(plan, str(plan)), int(step), context)
    else:
        if table is None or step is None or reference is None:
            raise CallProblem("a step is tried on a table", hint="gravel try boats.csv --step '…'")
        result = rehearse.rehearse(
            rehearse.one_step(table, str(table.path) if reference == "-" else reference, step),
            1,
            context,
        )
    if form is Format.json:
        render.print_json("try", results.step_dict(result))
    elif form is Format.table:
        _show(result, color)
    else:
        flat = [
            [column, item.path, item.before, item.after]
            for column, subset in result.line.count.changes.items()
            for item in subset
        ]
        flat += [
            [item.outcome, item.path, item.reason, item.into] for item in result.line.count.gone
        ]
        render.print_rows(
            form.value,
            ["what", "path", "before", "after"],
            [[row[index] for row in flat] for index in range(4)],
        )
    render.cautions(result.line.cautions, color)
    render.remarks(result.line.remarks, color)
    render.malformed_notes(result.table, result.malformed, color)
    for line in result.notes:
        render.note(f"{result.table}: {line}", color)


def _show(rehearsal: Rehearsal, color: bool) -> None:
    line, count = rehearsal.line, rehearsal.line.count
    out = render.console(color=color)
    head = rich_text.Text(line.note or line.verb, style=render.HEAD)
    head.append(
        (
            f"  {rehearsal.table}, step {line.step}"
            if rehearsal.plan != "the step"
            else f"  {rehearsal.table}"
        ),
        style=render.DIM,
    )
    out.print(head)
    parts = [
        (count.added, "added", "+"),
        (count.dropped, "dropped", "-"),
        (count.merged, "merged", "-"),
        (count.set_aside, "set aside", "-"),
        (count.stopped, "failed", "-"),
    ]
    message = rich_text.Text(f"  {count.rows_in:,} in")
    for many, what, sign in parts:
        if many:
            message.append(
                f" {sign} {many:,} {what}", style=render.WARN if what != "failed" else render.BAD
            )
    message.append(f" = {count.rows_out:,} out")
    if count.changed:
        message.append(f"; {count.changed:,} changed", style=render.WARN)
    out.print(message)
    for text in clean.details(line):
        out.print(rich_text.Text(f"  {text}", style=render.DIM))
    tables = [
        (f"{column}, changed" if column not in line.new_columns else f"{column}, new", subset)
        for column, subset in count.changes.items()
    ]
    tables += [(what, subset) for what, subset in count.samples.items()]
    for what, selected in tables:
        if selected:
            out.print()
            _samples(out, what, selected)
    if count.gone:
        out.print()
        rows = [
            [
                f"  {item.path}",
                rich_text.Text(item.outcome, style=render.BAD),
                render.visible(item.reason, 60),
                item.sqlstate or (f"into {item.into}" if item.into else ""),
            ]
            for item in count.gone
        ]
        render.print_table(out, ["  rows that leave", "", "why", ""], rows)
    if rehearsal.errors:
        out.print()
        rows = [
            [
                f"  {column}",
                rich_text.Text(f"error {kind.sqlstate}", style=render.BAD),
                errors.meaning(kind.sqlstate),
                render.visible(kind.example, 40),
                f"{kind.row:,}",
                f"{kind.rows:,}",
            ]
            for column, kind in rehearsal.errors
        ]
        render.print_table(out, ["", "", "", "for example", "row", "rows"], rows, right=(4, 5))
    if rehearsal.stops:
        out.print()
        out.print(rich_text.Text(f"a run would stop here: {rehearsal.stops}", style=render.BAD))


def _samples(out: Any, what: str, subset: list[ChangeExample]) -> None:
    rows: list[list[Any]] = []
    for item in subset:
        after = (
            [rich_text.Text("→", style=render.DIM), render.visible(item.after, 40)]
            if item.after is not None or "changed" in what
            else ["", ""]
        )
        rows.append([f"  {item.path}", render.visible(item.before, 40), *after])
    render.print_table(out, ["  row", what, "", ""], rows)
